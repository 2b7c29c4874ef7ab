"""How a finished export looks on a terminal."""

from __future__ import annotations

from rich.console import Console

from zeroseal.blocks.sizes import size_text
from zeroseal.cli import look
from zeroseal.cli.show_image import container_text
from zeroseal.templates.export import ExportResult


def show_export(result: ExportResult, console: Console) -> None:
    """What was written, how it is proven, what came along."""
    source, output = result.source, result.output
    look.headline(
        console, "Exported", look.SEALED_STYLE, f"  {output.path} ({container_text(output)})"
    )
    look.section(console, "Disk")
    stored = f"{size_text(output.allocated_bytes)} on the host"
    if output.size_bytes != source.size_bytes:
        grown = f"{size_text(source.size_bytes)} before, {size_text(output.size_bytes)} now"
    else:
        grown = size_text(output.size_bytes)
    look.facts(
        console,
        [
            ("from", f"{source.path} ({container_text(source)}): not changed"),
            ("size", grown),
            ("stored", f"{stored}, {size_text(source.allocated_bytes)} before"),
            ("digest", result.digest),
            ("seal record", str(result.record) if result.record else "none came along"),
        ],
    )
    look.section(console, "Good to know")
    told = []
    if result.verified and result.table_moved:
        told.append("The new file was read back, and holds what was to be written.")
    elif result.verified:
        told.append("The new file was read back: its disk is the same, byte for byte.")
    else:
        told.append("The new file was not read back.")
    if result.table_moved:
        told.append("The partition table's backup went to the end of the larger disk.")
    if result.left_record:
        told.append("The seal record of the source is about another disk than this, and stayed.")
    if source.snapshots:
        told.append("The new file has no snapshots.")
    told += source.remarks
    look.bullets(console, told)
    if result.record:
        look.next_step(console, "It can be checked there too:", f"zeroseal check {output.path}")
    else:
        look.next_step(console, "What identity is on it:", f"zeroseal survey {output.path}")
