"""What a report holds, in a few lines on the terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console

from zeroseal.blocks.sizes import size_text
from zeroseal.cli import render

if TYPE_CHECKING:
    from pathlib import Path

    from zeroseal.reports.disk_report import ReportedDisk


def show_report(disks: list[ReportedDisk], written: list[Path], console: Console) -> None:
    """The disks in numbers, and the files that were written."""
    names = " and ".join(str(path) for path in written)
    render.headline(console, "Drawn", "bold", f" into {names}.")
    rows = [
        (
            disk.title,
            f"{disk.verdict}, {len(disk.findings)} findings, {size_text(sum(disk.map.stored))} of "
            f"{size_text(disk.map.size_bytes)} hold something, {size_text(sum(disk.map.left))} of "
            "it where nothing belongs",
        )
        for disk in disks
    ]
    render.facts(console, rows)
