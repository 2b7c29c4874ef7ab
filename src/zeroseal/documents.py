"""Documents that people and programs write, TOML and JSON, decoded into typed structures.

One mechanism for house rules, traces, records and sheets. A structure says its keys, their types
and bounds; what is wrong comes back as the path of a key and a reason, without the value itself,
which may be a secret.
"""

from __future__ import annotations

import difflib
import json
import re
import tomllib
from pathlib import Path
from typing import Any, TypeVar

import msgspec
from msgspec import inspect

from zeroseal.errors import MissingError, UsageError
from zeroseal.messages import general as messages


def build_json(value: Any, indent: int) -> bytes:
    """JSON in UTF-8, with a newline at its end.

    Bytes of a guest that are no text stand in it as escapes of half characters, so that they can be
    read again.
    """
    text = json.dumps(value, indent=indent, ensure_ascii=False)
    return text.encode(errors="backslashreplace") + b"\n"


KeyPath = tuple[str | int, ...]
T = TypeVar("T")
_PART = re.compile(r"\.([^.\[]+)|\[(\d+)\]")
_KINDS = {
    "str": "a text",
    "int": "a whole number",
    "float": "a number",
    "bool": "true or false",
    "array": "a list",
    "object": "a table",
    "null": "left out",
}


class Table(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A table of a document: unknown keys are errors, values are not converted."""


class WrongValueError(ValueError):
    """A document does not fit its structure.

    Attributes:
        path: the keys that lead to what is wrong.
        reason: half a sentence about it; shows no value.
        is_form: whether a text does not have the form that is asked for.
    """

    def __init__(self, path: KeyPath, reason: str, is_form: bool = False) -> None:
        super().__init__(reason)
        self.path, self.reason, self.is_form = path, reason, is_form

    @property
    def key(self) -> str:
        """The path as text; empty for the document as a whole."""
        return ".".join(map(str, self.path))


def convert(document: object, kind: type[T], only_known: bool = False) -> T:
    """A structure, or a dataclass, from plain values.

    Args:
        document: tables, lists and plain values.
        kind: what it is to be.
        only_known: whether unknown keys of dataclasses are errors too, as those of tables are.

    Raises:
        WrongValueError: they do not fit it.
    """
    try:
        found = msgspec.convert(document, kind)
    except msgspec.ValidationError as error:
        raise _explained(error, kind) from None  # the original may show a value
    if only_known:
        _check_known(document, inspect.type_info(kind), ())
    return found


def toml_value(value: object) -> str:
    """A text, number, truth value, or list of such, as TOML has it."""
    # a JSON string is a TOML basic string too, but for escaped surrogates and a plain DEL
    text = json.dumps(list(value) if isinstance(value, tuple) else value, ensure_ascii=False)
    return text.replace("\x7f", "\\u007f")


def parse_toml(text: str, name: str) -> dict[str, Any]:
    """The tables of a TOML text.

    Raises:
        UsageError: it is none; says where.
    """
    try:
        return tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        raise UsageError(messages.NOT_VALID_TOML.format(name=name, error=error)) from error


def read_text(path: Path, what: str, most_bytes: int) -> str:
    """The text of a document's file.

    Args:
        path: the file.
        what: what it is, for messages: ``the build sheet``.
        most_bytes: how large it may be.

    Raises:
        MissingError: it cannot be read.
        UsageError: it is too large, or no UTF-8.
    """
    try:
        with path.open("rb") as file:
            raw = file.read(most_bytes + 1)
    except OSError as error:
        reason = (error.strerror or "").lower()
        raise MissingError(
            messages.CANNOT_READ.format(what=what, path=path, reason=reason)
        ) from error
    if len(raw) > most_bytes:
        raise UsageError(
            messages.DOCUMENT_TOO_LARGE.format(what=what, path=path, most_bytes=most_bytes >> 20)
        )
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise UsageError(messages.NOT_UTF_8_TEXT.format(what=what, path=path)) from error


def keys_of(kind: type[msgspec.Struct]) -> tuple[str, ...]:
    """The keys of a table."""
    return tuple(item.encode_name for item in msgspec.structs.fields(kind))


def _explained(error: msgspec.ValidationError, kind: type[Any]) -> WrongValueError:
    cause = error.__cause__
    text, _at, place = str(error).rpartition(" - at `")
    if not _at:
        text, place = str(error), "$"
    path: KeyPath = tuple(
        int(number) if number else name for name, number in _PART.findall(place.rstrip("`"))
    )
    if isinstance(cause, WrongValueError):
        return WrongValueError((*path, *cause.path), cause.reason)
    unknown = re.fullmatch(r"Object contains unknown field `(.*)`", text)
    if unknown:
        return WrongValueError((*path, unknown[1]), _unknown_key(unknown[1], path, kind))
    missing = re.fullmatch(r"Object missing required field `(.*)`", text)
    if missing:
        return WrongValueError((*path, missing[1]), messages.VALUE_MISSING)
    if re.match(r"Expected `str` matching regex", text):
        return WrongValueError(path, messages.WRONG_FORM, is_form=True)
    if re.match(r"Invalid (enum )?value", text):
        return WrongValueError(path, _one_of(_node_at(kind, path)))
    return WrongValueError(path, _of_type(text))


def _check_known(value: Any, node: Any, path: KeyPath) -> None:
    """Raises WrongValueError at a key that a dataclass does not have."""
    if isinstance(node, inspect.DataclassType) and isinstance(value, dict):
        fields = {item.encode_name: item.type for item in node.fields}
        for key, inner in value.items():
            if key not in fields:
                raise WrongValueError((*path, key), "unknown key")
            _check_known(inner, fields[key], (*path, key))
    elif isinstance(value, list):
        for number, inner in enumerate(value):
            _check_known(inner, getattr(node, "item_type", None), (*path, number))


def _of_type(text: str) -> str:
    """A reason for a value of another type, or out of its bounds."""
    wanted = re.fullmatch(r"Expected `([^`]*)`, got `[^`]*`", text)
    if wanted:
        kinds = [_KINDS.get(name.strip(), name.strip()) for name in wanted[1].split("|")]
        kinds = [name for name in kinds if name != _KINDS["null"]]
        return messages.VALUE_MUST_BE.format(kinds=" or ".join(kinds))
    bound = re.fullmatch(r"Expected `(\w+)` (of length )?(>=|<=) (\d+)", text)
    if bound:
        limit = "at least" if bound[3] == ">=" else "at most"
        if bound[1] == "int":
            return messages.VALUE_MUST_BE_WITHIN.format(limit=limit, bound=bound[4])
        what = "entries" if bound[1] == "array" else "characters"
        return messages.VALUE_MUST_HAVE.format(limit=limit, bound=bound[4], what=what)
    return text[:1].lower() + text[1:]


def _unknown_key(name: str, path: KeyPath, kind: type[Any]) -> str:
    node = _node_at(kind, path)
    keys = [item.encode_name for item in node.fields] if _is_struct(node) else []
    near = difflib.get_close_matches(name, keys, 1)
    if near:
        return messages.UNKNOWN_KEY_NEAR.format(near=near[0])
    return messages.UNKNOWN_KEY.format(keys=", ".join(sorted(keys))) if keys else "unknown key"


def _one_of(node: Any) -> str:
    words = [str(value) for value in getattr(node, "values", ()) if value != ""]
    return (
        messages.VALUE_MUST_BE_ONE_OF.format(words=", ".join(words))
        if len(words) > 1
        else messages.VALUE_MUST_BE.format(kinds=words[0])
    )


def _node_at(kind: type[Any], path: KeyPath) -> Any:
    """What a structure says of a path."""
    node: Any = inspect.type_info(kind)
    for part in path:
        if isinstance(node, inspect.UnionType):
            node = next((item for item in node.types if not _is_plain(item)), node)
        if isinstance(part, int):
            node = getattr(node, "item_type", node)
        elif _is_struct(node):
            node = next((item.type for item in node.fields if item.encode_name == part), node)
    if isinstance(node, inspect.UnionType):
        node = next((item for item in node.types if not _is_plain(item)), node)
    return node


def _is_struct(node: Any) -> bool:
    return isinstance(node, inspect.StructType)


def _is_plain(node: Any) -> bool:
    return isinstance(node, inspect.NoneType | inspect.StrType | inspect.BoolType)
