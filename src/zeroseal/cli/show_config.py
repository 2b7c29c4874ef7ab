"""How the settings in force look on a terminal."""

from __future__ import annotations

from rich.console import Console

from zeroseal.cli import render
from zeroseal.cli.cmd_config import plain_value
from zeroseal.cli.settings import TEXTS, Setting


def show_settings(settings: dict[str, Setting], console: Console) -> None:
    """Each with its value and where that comes from."""
    for item in settings.values():
        render.section(console, f"{item.name}: {TEXTS[item.name]}")
        render.facts(console, [("value", _text(item)), ("from", item.origin or "built in")])


def _text(setting: Setting) -> str:
    value = plain_value(setting)
    none = "the default of each command" if setting.name == "host" else "none"
    return (", ".join(value) if isinstance(value, list) else value) or none
