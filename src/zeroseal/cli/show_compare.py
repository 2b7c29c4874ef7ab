"""How a comparison looks on a terminal."""

from __future__ import annotations

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from zeroseal.cli import render
from zeroseal.guests.identity_value import Severity
from zeroseal.sealing.compare import Comparison, SharedFile, SharedValue, letter_of
from zeroseal.sentences import clean, counted, listed

_STYLES = {
    Severity.EXPOSED: render.BROKEN_STYLE,
    Severity.CONFUSED: render.FINDING_STYLE,
    Severity.NOTICED: "default",
    Severity.BY_DESIGN: render.QUIET_STYLE,
}
_MOST_FILES = 20
_HAS, _LACKS = "●", "·"


def show_comparison(comparison: Comparison, console: Console, *, every_file: bool = False) -> None:
    """The answer, what is shared by whom, and what each image has."""
    count = len(comparison.images)
    shared = [item for item in comparison.shared if not item.value.by_design]
    if comparison.are_unique:
        rest = f": the {count} images share no identity value and no secret that was found"
        render.headline(console, "UNIQUE", render.SEALED_STYLE, rest)
    else:
        parts = [counted(len(shared), "identity value")] if shared else []
        parts += [counted(len(comparison.files), "suspicious file")] if comparison.files else []
        rest = f": {listed(parts)} on more than one of {count} images"
        render.headline(console, "SHARED", render.BROKEN_STYLE, rest)
    render.section(console, "Images")
    rows = enumerate(zip(comparison.images, comparison.values, strict=True))
    render.facts(
        console,
        [
            (letter_of(number), f"{path}  ({len(values)} identity values)")
            for number, (path, values) in rows
        ],
    )
    for severity in sorted(Severity, reverse=True):
        items = [item for item in comparison.shared if item.value.severity is severity]
        if items:
            render.section(console, severity.meaning)
            _show_matrix(items, count, _STYLES[severity], console)
    _show_files("Secrets and unknown identity", comparison.files, console)
    _show_files("Other files that no package owns", comparison.same_files, console)
    if every_file and not comparison.same_files:
        console.print()
        console.print(
            "No other file is known to be the same and to belong to no package; only images with "
            "a package database can be compared so."
        )
    if comparison.files:
        console.print()
        console.print(
            "What may be the same on all machines: accept it in the house rules (allow.secrets, "
            "allow.unclaimed). What may not: add a trace for it."
        )
    if shared:
        console.print()
        console.print(
            "Seal the machine from which they were made, and create them again from the result."
        )


def _show_files(title: str, files: tuple[SharedFile, ...], console: Console) -> None:
    if not files:
        return
    render.section(console, title)
    lines = [
        f"{clean(one.path)} ({', '.join(map(letter_of, one.images))}): {one.what}"
        for one in files[:_MOST_FILES]
    ]
    if len(files) > _MOST_FILES:
        lines.append(f"and {counted(len(files) - _MOST_FILES, 'more file')}: --json lists all")
    render.items(console, lines)


def _show_matrix(items: list[SharedValue], count: int, style: str, console: Console) -> None:
    table = Table.grid(padding=(0, 2, 0, 0))
    for _column in range(3):
        table.add_column(overflow="fold")
    letters = " ".join(letter_of(number) for number in range(count))
    table.add_row(Text(letters, style=render.QUIET_STYLE), Text(""), Text(""))
    for item in items:
        cells = Text()
        for number in range(count):
            has = number in item.images
            width = len(letter_of(number))
            cells.append(f"{_HAS if has else _LACKS:<{width + 1}}", style=style if has else "dim")
        table.add_row(cells, Text(item.value.kind, style=style), Text(clean(item.value.shown)))
    console.print(Padding(table, (0, 0, 0, 2), expand=False))
