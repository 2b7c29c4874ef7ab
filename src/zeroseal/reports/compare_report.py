"""Which images share which identity values: a matrix, drawn and as a page."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from html import escape
from pathlib import Path
from typing import NamedTuple

from zeroseal.guests.identity_value import Severity
from zeroseal.reports.disk_report import ACCENTS, PAGE_STYLE
from zeroseal.reports.drawing import QUIET, Box, Dot, Drawing, Shape, Words, fitted
from zeroseal.sealing.compare import Comparison, letter_of
from zeroseal.sentences import counted, listed

COLOURS = {
    Severity.EXPOSED: "#d1478f",
    Severity.CONFUSED: ACCENTS["left"],
    Severity.NOTICED: ACCENTS["data"],
    Severity.BY_DESIGN: "#8a949e",
}
# told apart without colour: the worse, the larger
_RADII = {
    Severity.EXPOSED: 8,
    Severity.CONFUSED: 6.5,
    Severity.NOTICED: 5,
    Severity.BY_DESIGN: 3.5,
}
# pixels: the sheet, the matrix behind the values, its rows and columns
_WIDTH, _MARGIN, _MATRIX, _ROW, _COLUMN = 1280, 32, 600, 22, 64
_HEAD, _FOOT, _NAMES_A_LINE = 108, 104, 4
_MOST_ROWS, _MOST_COLUMNS = 28, 40


def draw_comparison(comparison: Comparison) -> Drawing:
    """A row for each shared value, a column for each image, a dot where they meet."""
    rows = _rows_of(comparison)[:_MOST_ROWS]
    images = comparison.images[:_MOST_COLUMNS]
    height = _HEAD + max(1, len(rows)) * _ROW + _FOOT + 18 * -(-len(images) // _NAMES_A_LINE)
    drawing = Drawing(_WIDTH, height, _title(comparison))
    drawing.shapes += [
        Words(_MARGIN, 40, _title(comparison), 20, bold=True),
        Words(_MARGIN, 64, _rest(comparison), 12, QUIET),
    ]
    column = min(_COLUMN, (_WIDTH - _MATRIX - _MARGIN) / max(1, len(images)))
    for number in range(len(images)):
        drawing.shapes.append(
            Words(_MATRIX + number * column - 5, _HEAD - 8, letter_of(number), 12, bold=True)
        )
    for place, row in enumerate(rows):
        drawing.shapes += _row_of(row, _HEAD + place * _ROW + _ROW / 2, column, len(images))
    names = _names_of(images)
    below = _HEAD + max(1, len(rows)) * _ROW + 36
    for number, severity in enumerate(sorted(Severity, reverse=True)):
        x, y = _MARGIN + 600 * (number % 2), below + 20 * (number // 2)
        drawing.shapes += [
            Dot(x + 6, y - 4, _RADII[severity], COLOURS[severity]),
            Words(x + 22, y, severity.meaning, 12),
        ]
    for number in range(len(images)):
        left = _MARGIN + (_WIDTH - 2 * _MARGIN) / _NAMES_A_LINE * (number % _NAMES_A_LINE)
        name = fitted(f"{letter_of(number)}  {names[number]}", 12, 280)
        drawing.shapes.append(Words(left, below + 58 + 18 * (number // _NAMES_A_LINE), name, 12))
    return drawing


class _Row(NamedTuple):
    """What is shared, how bad that is, and by which images, by number."""

    name: str
    severity: Severity
    images: tuple[int, ...]


def _rows_of(comparison: Comparison) -> list[_Row]:
    """Values and files, the worst first."""
    rows = [
        _Row(f"{item.value.kind}  {item.value.shown}", item.value.severity, item.images)
        for item in comparison.shared
    ]
    rows += [_Row(item.path, Severity.CONFUSED, item.images) for item in comparison.files]
    return sorted(rows, key=lambda row: -row.severity)


def _row_of(row: _Row, y: float, column: float, images: int) -> Iterator[Shape]:
    yield Words(_MARGIN, y + 4, fitted(row.name, 12, _MATRIX - 2 * _MARGIN), 12)
    yield Box(_MATRIX - 12, y, images * column, 1, ACCENTS["empty"])
    for number in row.images:
        if number < images:
            yield Dot(_MATRIX + number * column, y, _RADII[row.severity], COLOURS[row.severity])


def build_html(comparison: Comparison) -> str:
    """One page with the matrix as a table."""
    head = "".join(
        f"<th title='{escape(str(path))}'>{letter_of(number)}</th>"
        for number, path in enumerate(comparison.images)
    )
    body = "".join(
        f"<tr class='{item.value.severity.name.lower()}'><td>{escape(item.value.severity.title)}"
        f"</td><td>{escape(item.value.kind)}</td><td><code>{escape(item.value.shown)}</code></td>"
        + "".join(
            f"<td class='cell'>{'●' if number in item.images else '·'}</td>"
            for number in range(len(comparison.images))
        )
        + "</tr>"
        for item in comparison.shared
    )
    images = "".join(
        f"<li><b>{letter_of(number)}</b> {escape(str(path))} ({len(values)} identity values)</li>"
        for number, (path, values) in enumerate(
            zip(comparison.images, comparison.values, strict=True)
        )
    )
    meanings = "".join(
        f"<li><b style='color:{COLOURS[severity]}'>{severity.title}</b>: {severity.meaning}</li>"
        for severity in sorted(Severity, reverse=True)
    )
    colours = "".join(
        f"tr.{severity.name.lower()} .cell{{color:{colour}}}"
        for severity, colour in COLOURS.items()
    )
    return (
        '<!doctype html><html lang="en"><head><meta charset="utf-8">'
        f"<title>{_title(comparison)}</title><style>{PAGE_STYLE}{colours}"
        ".cell{text-align:center}</style></head><body>"
        f"<h1>{_title(comparison)}</h1><p>{_rest(comparison)}</p><ul>{images}</ul>"
        "<table><thead><tr><th>severity</th><th>what</th><th>value</th>"
        f"{head}</tr></thead><tbody>{body}</tbody></table>{_table_of_files(comparison)}"
        "<h2>What it means</h2>"
        f"<ul>{meanings}</ul></body></html>\n"
    )


def _title(comparison: Comparison) -> str:
    if comparison.are_unique:
        return f"UNIQUE: {len(comparison.images)} images share no identity value"
    shared = [item for item in comparison.shared if not item.value.by_design]
    parts = [counted(len(shared), "identity value")] if shared else []
    parts += [counted(len(comparison.files), "file")] if comparison.files else []
    return f"SHARED: {listed(parts)} on more than one of the images"


def _table_of_files(comparison: Comparison) -> str:
    """Secrets and files that look like identity, with the letters of the images."""
    rows = "".join(
        f"<tr><td><code>{escape(item.path)}</code></td><td>{escape(item.what)}</td>"
        f"<td>{', '.join(map(letter_of, item.images))}</td></tr>"
        for item in comparison.files
    )
    if not rows:
        return ""
    return (
        "<h2>Secrets and unknown identity</h2><table><thead><tr><th>file</th><th>what</th>"
        f"<th>images</th></tr></thead><tbody>{rows}</tbody></table>"
    )


def _rest(comparison: Comparison) -> str:
    more_rows = len(_rows_of(comparison)) - _MOST_ROWS
    more_images = len(comparison.images) - _MOST_COLUMNS
    by_design = sum(item.value.by_design for item in comparison.shared)
    messages = [
        f"{len(comparison.images)} images",
        f"{len(comparison.shared)} shared values, {by_design} of them by design",
    ]
    messages += [f"the first {_MOST_ROWS} values are drawn"] if more_rows > 0 else []
    messages += [f"the first {_MOST_COLUMNS} images are drawn"] if more_images > 0 else []
    return "; ".join(messages)


def _names_of(images: Sequence[Path]) -> list[str]:
    """The name of each image, with its folder where two have the same."""
    names = [path.name for path in images]
    return [
        name if names.count(name) == 1 else f"{path.resolve().parent.name}/{name}"
        for name, path in zip(names, images, strict=True)
    ]
