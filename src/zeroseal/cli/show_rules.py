"""How house rules look on a terminal."""

from __future__ import annotations

from rich.console import Console

from zeroseal.cli import render
from zeroseal.sealing.house_rules import HouseRules, iter_rules


def show_rules(rules: HouseRules, console: Console) -> None:
    """All rules in force, one a line."""
    found = list(iter_rules(rules))
    if not found:
        render.headline(
            console, "No house rules", render.QUIET_STYLE, ": the built-in settings apply."
        )
        return
    files = len(rules.digests)
    rest = " from 1 file" if files == 1 else f" from {files} files, each overriding those before it"
    render.headline(console, "House rules", render.SEALED_STYLE, rest)
    render.facts(console, found)
