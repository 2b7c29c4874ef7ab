"""JSON Schemas made of the typed tables of outputs, and of the models that read our files."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import is_dataclass
from functools import cache, reduce
from operator import or_
from types import UnionType
from typing import (
    Any,
    NotRequired,
    Required,
    TypedDict,
    Union,
    get_args,
    get_origin,
    get_type_hints,
    is_typeddict,
)

import msgspec

from zeroseal.machines.definition import MachineDefinition
from zeroseal.machines.sheet.model import BuildSheet
from zeroseal.machines.yard import MachineState
from zeroseal.reports.as_json import SCHEMA_VERSION, camel
from zeroseal.reports.schemas.outputs import OUTPUTS, ContentsListFile
from zeroseal.reports.schemas.seal_record import SealRecordFile
from zeroseal.sealing.house_rules import HouseRulesFile
from zeroseal.templates.clone_sheet.model import CloneSheet
from zeroseal.templates.shelf.clone_links import NotedClone
from zeroseal.templates.shelf.entry import ShelfEntry
from zeroseal.traces.load import TracesFile

_DIALECT = "https://json-schema.org/draft/2020-12/schema"


class EntryFile(TypedDict):
    """``entry.json`` of a template."""

    schema: str
    version: int
    entry: ShelfEntry


# what each file format of ours is called, and the model that reads or describes it
FILES: dict[str, Any] = {
    "file-build-sheet": BuildSheet,
    "file-clone-note": NotedClone,
    "file-clone-sheet": CloneSheet,
    "file-contents": ContentsListFile,
    "file-house-rules": HouseRulesFile,
    "file-machine": MachineDefinition,
    "file-machine-state": MachineState,
    "file-seal-record": SealRecordFile,
    "file-template-entry": EntryFile,
    "file-traces": TracesFile,
}


def build_schemas(more_files: Mapping[str, Any]) -> dict[str, dict[str, Any]]:
    """Every schema by its name, sorted.

    Args:
        more_files: models of files that other rooms read.
    """
    outputs = {name: _output_schema(name, kind) for name, kind in OUTPUTS.items()}
    files = {name: _schema(name, kind) for name, kind in (FILES | dict(more_files)).items()}
    _allow_every(files["file-clone-sheet"])
    return dict(sorted((outputs | files).items()))


def _allow_every(sheet: dict[str, Any]) -> None:
    """``[every]`` of a clone sheet is laid under each row before the model reads it."""
    row = sheet["properties"]["clone"]["items"]["$ref"].rpartition("/")[2]
    table = {
        key: sheet["$defs"][row][key] for key in ("type", "properties", "additionalProperties")
    }
    sheet["properties"]["every"] = table


def _output_schema(name: str, kind: Any) -> dict[str, Any]:
    found = _schema(name, _in_camel_case(kind))
    head = found["properties"]
    head["schema"] = {"const": f"zeroseal.{name}"}
    head["version"] = {"const": SCHEMA_VERSION}
    return found


def _schema(name: str, kind: Any) -> dict[str, Any]:
    """A schema that stands by itself; what its tables do not name is not allowed in them."""
    made = msgspec.json.schema(kind)
    parts = made.pop("$defs", {})
    top = parts.pop(made["$ref"].rpartition("/")[2])
    for part in (top, *parts.values()):
        if part.get("type") == "object" and "properties" in part:
            part.setdefault("additionalProperties", False)
    head = {"$schema": _DIALECT, "$id": f"urn:zeroseal:schema:{name}:v{SCHEMA_VERSION}"}
    schema: dict[str, Any] = head | top | ({"$defs": parts} if parts else {})
    return schema


@cache
def _in_camel_case(kind: Any) -> Any:
    """A type whose dataclasses are tables of all their fields in camelCase."""
    if is_dataclass(kind) and isinstance(kind, type):
        hints = get_type_hints(kind)
        table = {camel(name): _in_camel_case(hint) for name, hint in hints.items()}
        return _table(kind.__name__, kind.__doc__, table)
    if is_typeddict(kind):
        hints = get_type_hints(kind, include_extras=True)
        table = {name: _in_camel_case(_bare(hint)) for name, hint in hints.items()}
        optional = [name for name, hint in hints.items() if get_origin(hint) is NotRequired]
        table |= {name: NotRequired[table[name]] for name in optional}
        return _table(kind.__name__, kind.__doc__, table)
    origin, parts = get_origin(kind), get_args(kind)
    if origin in (Union, UnionType):
        return reduce(or_, (_in_camel_case(part) for part in parts))
    if origin in (list, tuple, dict) and parts:
        return origin[tuple(_in_camel_case(part) if part is not ... else ... for part in parts)]
    return kind


def _bare(hint: Any) -> Any:
    return get_args(hint)[0] if get_origin(hint) in (NotRequired, Required) else hint


def _table(name: str, doc: str | None, fields: dict[str, Any]) -> Any:
    made = TypedDict(name, fields)  # type: ignore[misc]
    made.__doc__ = (doc or "").partition("\n")[0]
    return made
