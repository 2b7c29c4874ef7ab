"""``zeroseal config``: which settings hold here, and where each comes from."""

from __future__ import annotations

import argparse
from pathlib import Path

from zeroseal.cli.parser import Subparsers
from zeroseal.cli.settings import FILE_NAME, PREFIX, TEXTS, Setting, read_settings
from zeroseal.cli.ui import Ui

_EXAMPLE = f"""\
# {FILE_NAME}: settings of every zeroseal command in this folder and below it.
# Paths start at this folder. An option of a command goes over what is here, and so does an
# environment variable ({PREFIX}YARD, {PREFIX}SHELF, ...).
"""


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "config",
        help="show the settings in force and where each comes from",
        description=(
            f"Settings come from {FILE_NAME} in this folder or the nearest folder above, from "
            "$XDG_CONFIG_HOME/zeroseal/config.toml, and from environment variables "
            f"({PREFIX}YARD and so on). A variable goes over the files, {FILE_NAME} goes over "
            "your own file, and an option of a command goes over all."
        ),
        examples=(
            ("config --show", "which settings are in force here"),
            ("config --example > zeroseal.toml", "begin a file for this folder"),
        ),
    )
    parser.add_argument(
        "--show", action="store_true", help="show the settings in force (without it too)"
    )
    parser.add_argument(
        "--example", action="store_true", help="print a file in which each setting is explained"
    )
    parser.add_general()


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    from zeroseal.cli.show_config import show_settings
    from zeroseal.reports.as_json import head

    settings = read_settings(ui.environ, Path.cwd())
    if args.example:
        text = example_file(settings)
        ui.show(
            lambda: head("config-example") | {"text": text},
            lambda out: out.print(text, soft_wrap=True, end=""),
        )
        return 0
    ui.show(lambda: settings_to_json(settings), lambda out: show_settings(settings, out))
    return 0


def settings_to_json(settings: dict[str, Setting]) -> dict[str, object]:
    """The settings in force."""
    from zeroseal.reports.as_json import head

    return head("config") | {
        "settings": [
            {"name": item.name, "value": plain_value(item), "origin": item.origin}
            for item in settings.values()
        ],
    }


def example_file(settings: dict[str, Setting]) -> str:
    """A file of settings with each key explained, and commented out."""
    lines = [_EXAMPLE]
    for item in settings.values():
        value = plain_value(item)
        shown = str(value).replace("'", '"') if isinstance(value, list) else f'"{value}"'
        lines += [f"# {TEXTS[item.name]}", f"# {item.name} = {shown}", ""]
    return "\n".join(lines)


def plain_value(setting: Setting) -> str | list[str]:
    """A value as JSON and TOML have it."""
    value = setting.value
    return [str(path) for path in value] if isinstance(value, list) else str(value)
