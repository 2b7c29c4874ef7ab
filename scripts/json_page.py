"""The page of outputs and files, made from their schemas."""

from __future__ import annotations

import json
import textwrap
from collections.abc import Mapping
from importlib.resources import files
from typing import Any

_HEAD = """\
    Every command takes `--json` and prints one object. It begins with `schema` (`zeroseal.` and
    the name below) and `version` (now 2). Fields are added without a new version; a field that
    changes its meaning or is removed gets one. Names of fields are in camelCase; sizes and offsets
    are bytes, times are UTC in ISO 8601. A field in *italics* may be missing.

    `zeroseal schema NAME` prints the JSON Schema (draft 2020-12) of an output or a file, and
    `zeroseal schema` lists them. They are part of the package (`zeroseal/schemas/NAME.json`); the
    tests validate every output against them.

    ```sh
    $ zeroseal schema check
    ```
"""
_HEAD_FIELDS = ("schema", "version")
_PRINTED_BY = {
    "survey": "`survey`",
    "rehearsal": "`seal --rehearse`",
    "plan": "`seal --dry-run`",
    "seal": "`seal` of a disk, a folder or an archive",
    "check": "`check`",
    "clone-check": "`check --as`",
    "report": "`report`",
    "comparison": "`compare`",
    "export": "`export`",
    "many": "`survey`, `seal`, `check` with several images",
    "answer": "the same with `--json-lines`, one a line",
    "traces": "`traces`",
    "template": "`shelf add`, `show`, `note`, `tag`, `retire`, `import`",
    "shelf": "`shelf list`",
    "shelf-verification": "`shelf verify`",
    "shelf-difference": "`shelf diff`",
    "shelf-sync": "`shelf sync`",
    "shelf-change": "`shelf remove`, `rename`, `forget`, `rebuild`, `export`, `page`",
    "clones": "`clone`",
    "contents": "`contents`",
    "learned": "`learn`",
    "trial": "`trial`",
    "builds": "`build`",
    "renewal": "`renew`",
    "machine": "`yard adopt`, `yard detach`",
    "machines": "`yard list`, `clone --make-full`",
    "run": "`yard start`, `yard stop`",
    "snapshots": "`yard show`, `yard snapshot`, `yard revert`",
    "removal": "`yard remove`",
    "definition": "`yard describe`",
    "demo": "`demo`",
    "config": "`config --show`",
    "config-example": "`config --example`",
    "schemas": "`schema` without a name",
    "completion": "`completion`",
    "rules": "any command with `--show-rules`",
    "error": "any command that fails",
}
_FILES = {
    "file-seal-record": "[the seal record](seal-record.md), or the `payload` of a signed one",
    "file-template-entry": "`entry.json` of a template on the shelf",
    "file-contents": "`contents.json` of a template on the shelf",
    "file-clone-note": "notes of a template on its clones",
    "file-machine": "`machine.toml` in a yard",
    "file-machine-state": "`state.json` in a yard",
    "file-build-sheet": "[build sheets](build-sheet.md)",
    "file-clone-sheet": "[clone sheets](clone-sheet.md)",
    "file-house-rules": "[house rules](house-rules.md)",
    "file-settings": "[`zeroseal.toml`](configuration.md)",
    "file-traces": "files of the catalogue",
}


def _read_schemas() -> dict[str, Any]:
    """Every schema by its name."""
    folder = files("zeroseal") / "schemas"
    return {
        item.name.removesuffix(".json"): json.loads(item.read_text()) for item in folder.iterdir()
    }


def _shapes(schema: Mapping[str, Any]) -> list[tuple[str, Any]]:
    """The tables that an output is made of."""
    return [(name, what) for name, what in schema.get("$defs", {}).items() if "properties" in what]


def _fields_of(
    what: Mapping[str, Any], others: Mapping[str, Any], leave_out: tuple[str, ...] = ()
) -> str:
    """The names of a table's fields, each with the shape that it holds."""
    if "properties" not in what:
        options = [_shape_of(option, others) for option in what.get("anyOf", [])]
        return " or ".join(option for option in options if option)
    needed = what.get("required", [])
    cells = []
    for name, field in what["properties"].items():
        if name not in leave_out:
            shape = _shape_of(field, others)
            word = f"`{name}`" if name in needed else f"*`{name}`*"
            cells.append(f"{word} ({shape})" if shape else word)
    return ", ".join(cells)


def _shape_of(field: Mapping[str, Any], others: Mapping[str, Any]) -> str:
    """The shape that a field holds, "" for a plain text, number or choice."""
    if "$ref" in field:
        name = str(field["$ref"]).rpartition("/")[2]
        return name if "properties" in others.get(name, {}) else ""
    if "anyOf" in field:
        shapes = [_shape_of(option, others) for option in field["anyOf"]]
        null = any(option.get("type") == "null" for option in field["anyOf"])
        named = " or ".join(shape for shape in shapes if shape)
        return f"{named} or null" if named and null else named or ("or null" if null else "")
    if field.get("type") == "array":
        shape = _shape_of(field.get("items", {}), others)
        return f"list of {shape}" if shape else "list"
    if field.get("type") == "object" and isinstance(field.get("additionalProperties"), dict):
        shape = _shape_of(field["additionalProperties"], others)
        return f"{shape} by name" if shape else "by name"
    return ""


def json_page() -> str:
    """Every output of ``--json`` and every file format with its fields, from the schemas."""
    parts = ["# JSON output and file formats\n\n", textwrap.dedent(_HEAD)]
    schemas = _read_schemas()
    parts.append("\n## Outputs\n\n| schema | printed by | fields |\n| --- | --- | --- |\n")
    for name, printed_by in _PRINTED_BY.items():
        fields = _fields_of(schemas[name], schemas[name].get("$defs", {}), leave_out=_HEAD_FIELDS)
        parts.append(f"| `{name}` | {printed_by} | {fields} |\n")
    parts.append("\n## Shapes in outputs\n\n| shape | what it is | fields |\n| --- | --- | --- |\n")
    shapes: dict[str, Any] = {}
    for name in _PRINTED_BY:
        shapes |= {shape: (what, schemas[name]["$defs"]) for shape, what in _shapes(schemas[name])}
    for shape, (what, others) in sorted(shapes.items()):
        said = (what.get("description") or "").partition("\n")[0].replace("``", "`")
        parts.append(f"| {shape} | {said} | {_fields_of(what, others)} |\n")
    parts.append("\n## Files\n\n| schema | file | keys |\n| --- | --- | --- |\n")
    for name, file in _FILES.items():
        parts.append(
            f"| `{name}` | {file} | {_fields_of(schemas[name], schemas[name].get('$defs', {}))} |\n"
        )
    return "".join(parts)
