"""How a finished export looks on a terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console

from zeroseal.blocks.sizes import size_text
from zeroseal.cli import render
from zeroseal.cli.show_image import container_text

if TYPE_CHECKING:
    from zeroseal.sealing.export import ExportResult


def show_export(result: ExportResult, console: Console) -> None:
    """What was written, how it is proven, what came along."""
    source, output = result.source, result.output
    render.headline(
        console, "Exported", render.SEALED_STYLE, f"  {output.path} ({container_text(output)})"
    )
    render.section(console, "Disk")
    stored = f"{size_text(output.allocated_bytes)} on the host"
    if output.size_bytes != source.size_bytes:
        grown = f"{size_text(source.size_bytes)} before, {size_text(output.size_bytes)} now"
    else:
        grown = size_text(output.size_bytes)
    render.facts(
        console,
        [
            ("from", f"{source.path} ({container_text(source)}): not changed"),
            ("size", grown),
            ("stored", f"{stored}, {size_text(source.allocated_bytes)} before"),
            ("digest", result.digest),
            ("seal record", str(result.record) if result.record else "none was copied"),
        ],
    )
    render.section(console, "Good to know")
    messages = []
    if result.verified and result.table_moved:
        messages.append("The new file was read back and matches the disk.")
    elif result.verified:
        messages.append("The new file was read back: its disk is the same, byte for byte.")
    else:
        messages.append("The new file was not read back.")
    if result.table_moved:
        messages.append(
            "The backup of the partition table was moved to the end of the larger disk."
        )
    if result.left_record:
        messages.append("The seal record of the source describes another disk, and was not copied.")
    if source.snapshots:
        messages.append("The new file has no snapshots.")
    messages += source.remarks
    render.bullets(console, messages)
    if result.record:
        render.next_step(console, "To check it at its new place:", f"zeroseal check {output.path}")
    else:
        render.next_step(console, "Show the identity on it:", f"zeroseal survey {output.path}")
