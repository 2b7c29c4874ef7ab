"""How the list of what is installed looks on a terminal."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import TYPE_CHECKING

from rich.console import Console

from zeroseal.cli import render
from zeroseal.guests.components import TITLES, Contents, Kind
from zeroseal.sentences import counted

if TYPE_CHECKING:
    from pathlib import Path

    from zeroseal.reports.bill_of_materials import Described

_FEW = 6
_WITH_PLACE = (Kind.PYTHON, Kind.NPM)


def show_contents(
    described: Described, files: list[Path], console: Console, every: bool = False
) -> None:
    """How many of which kind, and on request each of them."""
    contents = described.contents
    count = counted(len(contents.components), "component")
    render.headline(console, count, "bold", f"  {described.name} ({contents.system})")
    rows = [("last change", _day(contents.changed_at))]
    if described.digest:
        rows.append(("disk digest", described.digest))
    rows.append(("list digest", contents.digest))
    render.facts(console, [*rows, *(("written", str(path)) for path in files)])
    for kind, number in contents.counts.items():
        render.section(console, f"{TITLES[kind][:1].upper()}{TITLES[kind][1:]}: {number}")
        listed = [item for item in contents.components if item.kind is kind]
        shown = listed if every else listed[:_FEW]
        render.table(
            console,
            ("name", "version", "place" if kind in _WITH_PLACE else "architecture"),
            [(item.name, item.version, item.architecture or item.place) for item in shown],
        )
        if len(shown) < number:
            console.print(f"  and {number - len(shown)} more")
    if not files:
        render.next_step(
            console,
            "Write it for a vulnerability scan:",
            f"zeroseal contents {described.name} --cyclonedx {_plain(contents)}.cdx.json",
        )


def _day(moment: int) -> str:
    if not moment:
        return "not known: the records of this system do not say"
    text = datetime.fromtimestamp(moment, UTC).strftime("%Y-%m-%d %H:%M UTC")
    return f"{text} (a package was installed, updated or removed)"


def _plain(contents: Contents) -> str:
    return contents.os_id if contents.os_id.isalnum() else "contents"
