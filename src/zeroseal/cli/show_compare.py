"""How a comparison looks on a terminal."""

from __future__ import annotations

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from zeroseal.cli import look
from zeroseal.cli.ui import clean
from zeroseal.sealing.compare import Comparison, SharedValue


def show_comparison(comparison: Comparison, console: Console) -> None:
    """The answer, what is shared by whom, and what each image has."""
    count = len(comparison.images)
    shared = [item for item in comparison.shared if not item.value.by_design]
    if comparison.are_unique:
        rest = f": the {count} images share no identity value"
        look.headline(console, "UNIQUE", look.SEALED_STYLE, rest)
    else:
        one = "value" if len(shared) == 1 else "values"
        rest = f": {len(shared)} identity {one} on more than one of {count} images"
        look.headline(console, "SHARED", look.BROKEN_STYLE, rest)
    look.section(console, "Images")
    names = [chr(ord("A") + number) if number < 26 else f"#{number}" for number in range(count)]
    rows = zip(names, comparison.images, comparison.values, strict=True)
    look.facts(
        console,
        [(name, f"{path}  ({len(values)} identity values)") for name, path, values in rows],
    )
    if shared:
        look.section(console, "Shared")
        _show_table(shared, names, console)
    by_design = [item for item in comparison.shared if item.value.by_design]
    if by_design:
        look.section(console, "Shared by design, as clones of one template do")
        _show_table(by_design, names, console)
    if shared:
        console.print()
        console.print("Seal the machine that they come from, and make them anew from the result.")


def _show_table(items: list[SharedValue], names: list[str], console: Console) -> None:
    table = Table.grid(padding=(0, 2))
    for _column in range(3):
        table.add_column()
    for item in items:
        owners = " ".join(names[number] for number in item.images)
        style = look.QUIET_STYLE if item.value.by_design else look.FINDING_STYLE
        table.add_row(
            Text(owners), Text(item.value.kind, style=style), Text(clean(item.value.shown))
        )
    console.print(Padding(table, (0, 0, 0, 2), expand=False))
