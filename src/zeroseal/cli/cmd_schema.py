"""``zeroseal schema``: the JSON Schema of an output or of a file format."""

from __future__ import annotations

import argparse
import json
from importlib.resources import files

from zeroseal.cli.parser import Subparsers
from zeroseal.cli.ui import Ui
from zeroseal.errors import UsageError
from zeroseal.messages import cli as messages


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "schema",
        usage="zeroseal schema [NAME] [OPTION ...]",
        help="print the JSON Schema of an output or of a file format",
        description=(
            "Prints the JSON Schema (draft 2020-12) of what a command prints with --json, or of "
            "a file that this program reads or writes (their names begin with file-). Without "
            "a name: lists the schemas."
        ),
        examples=(
            ("schema", "which schemas there are"),
            ("schema check", "the schema of what zeroseal check --json prints"),
            ("schema file-build-sheet", "the schema of a build sheet, for an editor"),
        ),
    )
    parser.add_argument("name", nargs="?", metavar="NAME", help="a schema of that list")
    parser.add_general()


def schema_names() -> list[str]:
    """The names of all schemas."""
    names = [item.name for item in (files("zeroseal") / "schemas").iterdir()]
    return sorted(name.removesuffix(".json") for name in names if name.endswith(".json"))


def read_schema(name: str) -> str:
    """The text of a schema.

    Raises:
        UsageError: there is no schema of that name.
    """
    if name not in schema_names():
        names = ", ".join(schema_names())
        raise UsageError(messages.SCHEMA_NOT_KNOWN.format(name=name, names=names))
    return (files("zeroseal") / "schemas" / f"{name}.json").read_text()


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    if args.name:
        text = read_schema(args.name)
        ui.show(lambda: json.loads(text), lambda _out: ui.show_text(text))
        return 0
    from zeroseal.reports.as_json import head

    names = schema_names()
    text = "\n".join(names)
    ui.show(lambda: head("schemas") | {"schemas": names}, lambda _out: ui.show_text(text))
    return 0
