"""Values by their types: numbers, texts, lists of texts; expandable texts, filled in."""

from __future__ import annotations

import re
from collections.abc import Mapping

from zeroseal.guests.registry.hive import Value
from zeroseal.messages import registry as messages

NONE, SZ, EXPAND_SZ, BINARY, DWORD, DWORD_BIG, LINK, MULTI_SZ = range(8)
QWORD = 11
TYPE_NAMES = {
    NONE: "none",
    SZ: "text",
    EXPAND_SZ: "expandable text",
    BINARY: "binary",
    DWORD: "number",
    DWORD_BIG: "number, high byte first",
    LINK: "link",
    MULTI_SZ: "texts",
    QWORD: "large number",
}
Typed = int | str | list[str] | bytes
_VARIABLE = re.compile(r"%([^%]+)%")


def typed(value: Value) -> Typed:
    """What a value says; bytes where its type is not known or its data does not fit it."""
    data = value.data
    match value.kind:
        case 1 | 2 | 6:
            return _text(data)
        case 4 if len(data) == 4:
            return int.from_bytes(data, "little")
        case 5 if len(data) == 4:
            return int.from_bytes(data, "big")
        case 11 if len(data) == 8:
            return int.from_bytes(data, "little")
        case 7:
            texts = data[: len(data) & ~1].decode("utf-16-le", "surrogatepass").split("\0")
            while texts and not texts[-1]:
                texts.pop()
            return texts
    return data


def pack(kind: int, content: Typed) -> bytes:
    """The data of a value of that type.

    Raises:
        ValueError: the content does not fit the type.
    """
    match content:
        case bytes():
            return content
        case bool():
            raise ValueError(messages.BOOLEAN_IS_NOT_A_NUMBER)
        case int() if kind in (DWORD, DWORD_BIG, QWORD):
            order = "big" if kind == DWORD_BIG else "little"
            try:
                return content.to_bytes(8 if kind == QWORD else 4, order)  # type: ignore[arg-type]  # one of two words
            except OverflowError as error:
                raise ValueError(messages.DOES_NOT_FIT_TYPE.format(content=content)) from error
        case str() if kind in (SZ, EXPAND_SZ, LINK):
            return _wide(content) + (b"" if kind == LINK else b"\0\0")
        case list() if kind == MULTI_SZ:
            return b"".join(_wide(text) + b"\0\0" for text in content) + b"\0\0"
    raise ValueError(messages.WRONG_CONTENT_FOR_TYPE.format(content=content, kind=kind))


def expand(text: str, variables: Mapping[str, str]) -> str:
    """An expandable text with its ``%NAMES%`` filled in, whatever their case; unknown ones stay."""
    known = {name.upper(): value for name, value in variables.items()}
    return _VARIABLE.sub(lambda found: known.get(found[1].upper(), found[0]), text)


def _text(data: bytes) -> str:
    return data[: len(data) & ~1].decode("utf-16-le", "surrogatepass").partition("\0")[0]


def _wide(text: str) -> bytes:
    return text.encode("utf-16-le", "surrogatepass")
