"""What is wrong with a document is told by its key and a reason, without the value."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Literal

import pytest
from msgspec import Meta

from zeroseal.documents import Table, WrongValueError, convert, parse_toml, read_text
from zeroseal.errors import MissingError, UsageError


class Inner(Table, frozen=True):
    number: Annotated[int, Meta(ge=1, le=9)] = 1
    word: Literal["one", "two"] = "one"
    pattern: Annotated[str, Meta(pattern=r"^[a-z]+\Z")] = "a"

    def __post_init__(self) -> None:
        if self.number == 7:
            raise WrongValueError(("number",), "it is unlucky")


class Outer(Table, frozen=True):
    name: str
    inner: tuple[Inner, ...] = ()
    maybe: bool | None = None


@dataclass(frozen=True)
class Plain:
    disk: str
    inner: tuple[Inner, ...] = ()


@pytest.mark.parametrize(
    ("document", "key", "reason"),
    [
        ({}, "name", "it is missing"),
        ({"name": 3}, "name", "it must be a text"),
        ({"name": "x", "mybe": True}, "mybe", "unknown key; did you mean maybe?"),
        ({"name": "x", "maybe": "secret"}, "maybe", "it must be true or false"),
        ({"name": "x", "inner": {}}, "inner", "it must be a list"),
        ({"name": "x", "inner": [{"number": 0}]}, "inner.0.number", "it must be at least 1"),
        ({"name": "x", "inner": [{"number": 10}]}, "inner.0.number", "it must be at most 9"),
        ({"name": "x", "inner": [{"number": 7}]}, "inner.0.number", "it is unlucky"),
        ({"name": "x", "inner": [{"word": "secret"}]}, "inner.0.word", "one of one, two"),
        ({"name": "x", "inner": [{}, {"pattern": "a\n"}]}, "inner.1.pattern", "required form"),
    ],
)
def test_what_is_wrong_is_told_by_its_key(
    document: dict[str, object], key: str, reason: str
) -> None:
    with pytest.raises(WrongValueError) as caught:
        convert(document, Outer)
    assert caught.value.key == key
    assert reason in caught.value.reason
    assert "secret" not in caught.value.reason


def test_unknown_keys_of_dataclasses_are_errors_where_that_is_asked() -> None:
    document = {"disk": "d", "other": 1}
    assert convert(document, Plain) == Plain("d")
    with pytest.raises(WrongValueError, match="unknown key") as caught:
        convert(document, Plain, only_known=True)
    assert caught.value.path == ("other",)


def test_a_file_that_cannot_be_read_is_told(tmp_path: Path) -> None:
    with pytest.raises(MissingError, match="cannot read the sheet"):
        read_text(tmp_path / "none", "the sheet", 10)
    (tmp_path / "large").write_text("x" * 11)
    with pytest.raises(UsageError, match="too large"):
        read_text(tmp_path / "large", "the sheet", 10)
    (tmp_path / "raw").write_bytes(b"\xff\xfe\xfd")
    with pytest.raises(UsageError, match="not UTF-8"):
        read_text(tmp_path / "raw", "the sheet", 10)
    with pytest.raises(UsageError, match=r"x\.toml is not valid TOML"):
        parse_toml("[", "x.toml")
