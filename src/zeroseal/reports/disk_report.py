"""A disk before and after its seal: drawn, and as one page that needs no other file."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

from zeroseal.blocks.sizes import size_text
from zeroseal.reports.as_json import Json, head
from zeroseal.reports.drawing import INK, QUIET, Box, Drawing, Shape, Words, fitted, width_of
from zeroseal.traces.finding import by_trace
from zeroseal.traces.model import FAMILIES

if TYPE_CHECKING:
    from pathlib import Path

    from zeroseal.sealing.disk_map import DiskMap
    from zeroseal.traces.finding import Finding

# the same in the terminal, in pictures and on pages; told apart by colour-blind readers, and by
# their height: content that is left is drawn as a half
ACCENTS = {"data": "#5b6773", "left": "#c98500", "empty": "#e3e8ed", "sealed": "#2b8cd6"}
_LABELS = {
    "data": "files and structures",
    "left": "content where none belongs",
    "empty": "empty",
}
# pixels: the sheet, the strip at the left, the findings beside it, a block for each disk
_WIDTH, _MARGIN, _STRIP, _SIDE = 1280, 32, 860, 924
_HEAD, _BLOCK, _FOOT = 64, 256, 44
_TALL, _NAME_ROWS = 132, 3


@dataclass(frozen=True)
class ReportedDisk:
    """One disk of a report: its title, its map and what the catalogue finds on it."""

    title: str
    verdict: str
    map: DiskMap
    findings: tuple[Finding, ...]


def draw_report(disks: list[ReportedDisk]) -> Drawing:
    """A block for each disk: its strip with its volumes, and beside it its findings by family."""
    height = _HEAD + len(disks) * _BLOCK + _FOOT
    drawing = Drawing(
        _WIDTH, height, "; ".join(f"{item.title}: {facts_of(item)}" for item in disks)
    )
    drawing.shapes.append(Words(_MARGIN, 40, "What the disk holds", 20, bold=True))
    most = max([1, *(count for item in disks for count in _counts(item.findings).values())])
    for number, disk in enumerate(disks):
        top = _HEAD + number * _BLOCK
        drawing.shapes += [
            Words(
                _MARGIN,
                top + 18,
                fitted(f"{disk.title}: {disk.verdict}", 15, _STRIP),
                15,
                bold=True,
            ),
            Words(_MARGIN, top + 40, facts_of(disk), 12, QUIET),
            *_strip(disk.map, top + 56),
            *_families(disk, top, most),
        ]
    drawing.shapes += _legend(height - _FOOT + 22)
    return drawing


def build_html(disks: list[ReportedDisk]) -> str:
    """One page: the drawing, and every trace in a table."""
    from jinja2 import Environment
    from markupsafe import Markup

    page = Environment(autoescape=True, trim_blocks=True, lstrip_blocks=True).from_string(_PAGE)
    shown = [{"title": disk.title, "verdict": disk.verdict, "rows": _rows(disk)} for disk in disks]
    drawing = Markup(draw_report(disks).to_svg())
    return page.render(disks=shown, drawing=drawing, page_style=PAGE_STYLE)


def report_to_json(disks: list[ReportedDisk], written: list[Path]) -> Json:
    """A report in numbers, and the files it was written to."""
    return head("report") | {
        "files": [str(path) for path in written],
        "disks": [
            {
                "image": disk.title,
                "verdict": disk.verdict,
                "diskBytes": disk.map.size_bytes,
                "storedBytes": sum(disk.map.stored),
                "leftBytes": sum(disk.map.left),
                "findings": len(disk.findings),
            }
            for disk in disks
        ],
    }


def _shares(map_: DiskMap) -> list[tuple[float, float]]:
    """(share of data, share of what is left) of each part."""
    part = map_.part_bytes
    return [
        (max(0, stored - left) / part, left / part)
        for stored, left in zip(map_.stored, map_.left, strict=True)
    ]


def facts_of(disk: ReportedDisk) -> str:
    """The disk in a line of numbers."""
    stored, left = sum(disk.map.stored), sum(disk.map.left)
    where = f"{size_text(left) if left else 'none'} of it where nothing belongs"
    return f"disk of {size_text(disk.map.size_bytes)}, {size_text(stored)} in use, {where}"


def _strip(map_: DiskMap, top: float) -> Iterator[Shape]:
    """The disk from its first byte to its last; the height of a part is how full it is."""
    shares = _shares(map_)
    cell = _STRIP / len(shares)
    yield Box(_MARGIN, top, _STRIP, _TALL, ACCENTS["empty"])
    for number, (data, left) in enumerate(shares):
        data, left = min(1.0, data), min(1.0, left)
        x, low = _MARGIN + number * cell, top + _TALL - data * _TALL
        if data:
            yield Box(x, low, cell, data * _TALL, ACCENTS["data"])
        if left:
            high = max(top, low - left * _TALL)
            yield Box(x, high, cell, low - high, ACCENTS["left"], hatched=True)
    yield from _volume_names(map_, top + _TALL)


def _volume_names(map_: DiskMap, top: float) -> Iterator[Shape]:
    """Each volume as a bracket under its place, with its name where there is room for it."""
    scale = _STRIP / max(1, map_.size_bytes)
    ends = [0.0] * _NAME_ROWS
    for volume in sorted(map_.volumes, key=lambda item: item.offset_bytes):
        x = _MARGIN + volume.offset_bytes * scale
        width = max(2.0, volume.size_bytes * scale)
        yield Box(x, top + 4, max(1.0, width - 1), 4, QUIET)
        if volume.kind == "unknown":
            continue
        name = fitted(f"{volume.name} {volume.kind}".replace("partition ", ""), 11, 220)
        long = width_of(name, 11)
        x = min(x, _MARGIN + _STRIP - long)
        row = next((number for number, end in enumerate(ends) if end + 8 <= x), None)
        if row is not None:
            ends[row] = x + long
            yield Words(x, top + 22 + 15 * row, name, 11)


def _families(disk: ReportedDisk, top: float, most: int) -> Iterator[Shape]:
    """How many findings of each family, as bars on one scale for all disks."""
    counts = _counts(disk.findings)
    yield Words(_SIDE, top + 18, f"{len(disk.findings)} findings", 15, bold=True)
    for number, (family, count) in enumerate(counts.items()):
        y = top + 50 + number * 22
        yield Words(_SIDE + 86, y, _plain(family), 12, INK if count else QUIET, ends_here=True)
        length = (_WIDTH - _MARGIN - _SIDE - 140) * count / most
        if count:
            yield Box(_SIDE + 96, y - 11, max(2.0, length), 14, ACCENTS["left"])
        yield Words(_SIDE + 102 + length, y, str(count), 12, INK if count else QUIET)


def _legend(y: float) -> Iterator[Shape]:
    x = float(_MARGIN)
    for name, label in _LABELS.items():
        yield Box(x, y - 11, 14, 14, ACCENTS[name], hatched=name == "left")
        yield Words(x + 22, y, label, 12)
        x += 40 + width_of(label, 12)


def _plain(family: str) -> str:
    """A family's title without its explanation."""
    return FAMILIES[family].partition(":")[0]


def _counts(findings: tuple[Finding, ...]) -> dict[str, int]:
    counts = dict.fromkeys(FAMILIES, 0)
    for finding in findings:
        counts[finding.trace.family] += 1
    return counts


def _rows(disk: ReportedDisk) -> list[dict[str, str]]:
    return [
        {
            "family": _plain(group.trace.family),
            "trace": group.trace.title,
            "places": str(len(group.findings)),
            "size": size_text(group.size_bytes),
        }
        for group in by_trace(disk.findings)
    ]


PAGE_STYLE = """\
body { font: 15px/1.45 system-ui, sans-serif; margin: 2rem auto; max-width: 72rem; color: #1c2329 }
table { border-collapse: collapse; margin: .6rem 0 2rem } td, th { padding: .15rem 1.2rem .15rem 0;
text-align: left } td.number, th.number { text-align: right }
"""
_PAGE = """<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>What the disk holds</title><style>
{{ page_style }}svg { max-width: 100%; height: auto; display: block }
</style></head><body>
{{ drawing }}
{% for disk in disks %}
<h2>{{ disk.title }}: {{ disk.verdict }}</h2>
{% if disk.rows %}
<table><tr><th>family</th><th>trace</th><th class="number">places</th>
<th class="number">size</th></tr>
{% for row in disk.rows %}
<tr><td>{{ row.family }}</td><td>{{ row.trace }}</td><td class="number">{{ row.places }}</td>
<td class="number">{{ row.size }}</td></tr>
{% endfor %}
</table>
{% else %}
<p>The catalogue finds nothing on it.</p>
{% endif %}
{% endfor %}
</body></html>
"""
