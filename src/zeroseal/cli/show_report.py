"""What a report holds, in a few lines on the terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console

from zeroseal.cli import render
from zeroseal.reports.disk_report import facts_of
from zeroseal.sentences import counted

if TYPE_CHECKING:
    from pathlib import Path

    from zeroseal.reports.disk_report import ReportedDisk


def show_report(disks: list[ReportedDisk], written: list[Path], console: Console) -> None:
    """The disks in numbers, and the files that were written."""
    if written:
        names = " and ".join(str(path) for path in written)
        render.headline(console, "Drawn", "bold", f" into {names}.")
    for disk in disks:
        count = counted(len(disk.findings), "finding")
        render.section(console, f"{disk.title}: {disk.verdict}, {count}")
        render.map_strip(console, disk.map)
        console.print(f"  {facts_of(disk)}")
    console.print()
    render.map_legend(console)
