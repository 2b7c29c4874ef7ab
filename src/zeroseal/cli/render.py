"""The look of all output: styles, headings, aligned tables."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from zeroseal.blocks.sizes import size_text
from zeroseal.images.facts import STRIP_CELLS
from zeroseal.sealing.verdict import Verdict
from zeroseal.sentences import clean
from zeroseal.traces.model import FAMILIES

if TYPE_CHECKING:
    from collections.abc import Iterable

    from zeroseal.machines.definition import Hardware, MachineDefinition
    from zeroseal.sealing.disk_map import DiskMap
    from zeroseal.traces.finding import TraceSummary
    from zeroseal.volumes.disk import Disk

# Told apart by colour-blind readers, on dark and on light ground; never the only sign.
SEALED_STYLE = "bold #2b8cd6"
FINDING_STYLE = "#c98500"
BROKEN_STYLE = "bold #d1478f"
QUIET_STYLE = "dim"
VERDICT_STYLES = {
    Verdict.SEALED: SEALED_STYLE,
    Verdict.CLEAN: SEALED_STYLE,
    Verdict.UNSEALED: FINDING_STYLE,
    Verdict.BROKEN_SEAL: BROKEN_STYLE,
    Verdict.UNKNOWN: FINDING_STYLE,
}
_WIDE = 108


def headline(console: Console, word: str, style: str, rest: str) -> None:
    """The answer: a word that carries it, then a sentence."""
    console.print(Text.assemble((word, style), clean(rest)), soft_wrap=False)


def section(console: Console, title: str) -> None:
    """A heading with a blank line above it."""
    console.print()
    console.print(Text(title, style="bold"))


def facts(console: Console, rows: Iterable[tuple[str, str]]) -> None:
    """Names and values, aligned."""
    table = Table.grid(padding=(0, 2))
    table.add_column()
    table.add_column()
    for name, value in rows:
        table.add_row(Text(name, style=QUIET_STYLE), Text(clean(value)))
    console.print(Padding(table, (0, 0, 0, 2), expand=False))


def items(console: Console, texts: Iterable[str]) -> None:
    """One text a line: paths, patterns, names."""
    for text in texts:
        console.print(Text(f"    {clean(text)}"), soft_wrap=True)


def indented(console: Console, text: str) -> None:
    """A paragraph, set off from the margin."""
    console.print(Padding(Text(clean(text)), (0, 0, 0, 3)))


def titled(console: Console, title: str, text: str) -> None:
    """A path or a name, and a paragraph about it below."""
    console.print(Text(f"  {clean(title)}"), soft_wrap=True)
    console.print(Padding(Text(clean(text)), (0, 0, 0, 4)))


def bullets(console: Console, sentences: Iterable[str]) -> None:
    """One sentence a line, wrapped under itself."""
    table = Table.grid(padding=(0, 1))
    table.add_column()
    table.add_column()
    for sentence in sentences:
        table.add_row("-", Text(clean(sentence)))
    console.print(Padding(table, (0, 0, 0, 2), expand=False))


def table(console: Console, titles: tuple[str, ...], rows: list[tuple[str, ...]]) -> None:
    """Rows under their titles; only the last column is wrapped."""
    grid = Table.grid(padding=(0, 2 if console.width >= 100 else 1))
    for title in titles:
        grid.add_column(no_wrap=title != titles[-1])
    grid.add_row(*(Text(title, style=QUIET_STYLE) for title in titles))
    for row in rows:
        grid.add_row(*(Text(clean(value)) for value in row))
    console.print(Padding(grid, (0, 0, 0, 2), expand=False))


def next_step(console: Console, sentence: str, command: str) -> None:
    """What to do next, with the command to copy."""
    console.print()
    console.print(Text(clean(sentence)))
    console.print(Text(f"  {clean(command)}"), soft_wrap=True)


def trace_table(console: Console, groups: list[TraceSummary], every_place: bool) -> None:
    """Findings, a line a trace; with ``every_place`` why, what regrows it, and each place below.

    Family and treatment are shown where the terminal has room; the id begins with the family.
    """
    is_wide = console.width >= _WIDE
    margin = f"  {'':<11}" if is_wide else "  "
    header = f"{margin}{'':<31}  {'':<26}  {'places':>6}  {'size':>9}"
    console.print(Text(header + ("  treatment" if is_wide else ""), style=QUIET_STYLE))
    family = ""
    for group in groups:
        line = Text(margin)
        if group.trace.family != family:
            family = group.trace.family
            if is_wide:
                line = Text(f"  {FAMILIES[family].partition(':')[0]:<11}", style="bold")
        line.append(f"{group.trace.title:<31}  ", style="not bold")
        line.append(f"{group.trace.id:<26}", style=f"not bold {QUIET_STYLE}")
        size = size_text(group.size_bytes) if group.has_size else ""
        line.append(f"  {len(group.findings):>6}  {size:>9}", style="not bold")
        if is_wide:
            treatments = sorted({item.treatment.value for item in group.findings})
            line.append(f"  {', '.join(treatments)}", style=f"not bold {FINDING_STYLE}")
        console.print(line, soft_wrap=True)
        if every_place:
            console.print(Text(f"{margin}  why      {group.trace.why}"), soft_wrap=True)
            console.print(Text(f"{margin}  regrows  {group.trace.regrowth.by}"), soft_wrap=True)
        for item in group.findings if every_place else ():
            evidence = f"  ({clean(item.evidence)})" if item.evidence else ""
            place = f"{margin}  {item.treatment.value:<8} {clean(item.place)}{evidence}"
            console.print(Text(place, style=QUIET_STYLE), soft_wrap=True)


_STRIP_SIGNS, _PLAIN_SIGNS = "·░▒█", ".-=#"


def disk_strip(console: Console, disk: Disk, stored: tuple[int, ...], disk_bytes: int) -> None:
    """The disk as a strip of what the image stores of it, then its volumes, one line each."""
    part = max(1, -(-disk_bytes // len(stored)))
    signs = _signs(console)
    shares = [min(1.0, count / part) for count in stored]
    console.print(Text("  " + "".join(signs[_shade(share)] for share in shares)))
    names = [" "] * len(stored)
    for volume in disk.volumes:
        cell = min(volume.offset_bytes // part, len(stored) - 1)
        if volume.number and names[cell] == " ":
            names[cell] = str(volume.number)[-1]
    console.print(Text(f"  {''.join(names)}", style=QUIET_STYLE))
    legend = f"of the disk: {signs[3]} stored, {signs[1]} partly stored, {signs[0]} empty"
    console.print(Text(f"  {legend}", style=QUIET_STYLE))
    table = Table.grid(padding=(0, 2))
    for justify in ("left", "right", "left", "left", "left"):
        table.add_column(justify=justify, no_wrap=True)
    for volume in disk.volumes:
        table.add_row(
            clean(volume.name),
            size_text(volume.size_bytes),
            clean(volume.type_name),
            "LVM" if volume.content.kind == "lvm" else volume.content.kind,
            Text(clean(volume.content.label), style=QUIET_STYLE),
        )
    console.print(Padding(table, (0, 0, 0, 2), expand=False))


def map_strip(console: Console, map_: DiskMap) -> None:
    """A disk as a strip of its content; parts with content where none belongs are marked."""
    signs = _signs(console)
    cells = min(STRIP_CELLS, len(map_.stored))
    strip, marks = Text("  "), [" "] * cells
    for cell in range(cells):
        parts = range(cell * len(map_.stored) // cells, (cell + 1) * len(map_.stored) // cells)
        share = sum(map_.stored[part] for part in parts) / (map_.part_bytes * len(parts))
        has_left = any(map_.left[part] for part in parts)
        strip.append(signs[_shade(min(1.0, share))], FINDING_STYLE if has_left else "")
        marks[cell] = "x" if has_left else " "
    console.print(strip)
    if "x" in marks:
        console.print(Text(f"  {''.join(marks).rstrip()}", style=FINDING_STYLE))
    names = [" "] * cells
    for volume in map_.volumes:
        number = volume.name.removeprefix("partition ")
        cell = min(volume.offset_bytes * cells // max(1, map_.size_bytes), cells - 1)
        if number.isdigit() and names[cell] == " ":
            names[cell] = number[-1]
    console.print(Text(f"  {''.join(names).rstrip()}", style=QUIET_STYLE))


def map_legend(console: Console) -> None:
    """What the signs of ``map_strip`` mean."""
    empty, little, half, full = tuple(_signs(console))
    first = f"  {empty} empty, {little}{half}{full} in use by share, x content where none belongs,"
    console.print(Text(first, style=QUIET_STYLE))
    console.print(Text("  1 2 3 where a partition begins", style=QUIET_STYLE))


def _signs(console: Console) -> str:
    """What strips are drawn with: for nothing, little, half and all."""
    return _STRIP_SIGNS if console.encoding.lower().startswith("utf") else _PLAIN_SIGNS


def _shade(share: float) -> int:
    """0 for nothing, 1 and 2 for a part, 3 for nearly all."""
    return 0 if share == 0 else min(3, 1 + int(share * 2.5))


def hardware_text(machine: MachineDefinition | Hardware) -> str:
    """Processors, memory, firmware, and what is rarer."""
    text = f"{machine.cpus} CPU, {machine.memory_mib} MiB, {machine.firmware}"
    return text + " with Secure Boot" * machine.secure_boot + ", TPM" * machine.tpm
