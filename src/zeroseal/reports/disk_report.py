"""A disk before and after its seal, as a picture (PNG) and as one page without anything around it.

Heavy packages are imported where they are used.
"""

from __future__ import annotations

import io
from dataclasses import dataclass
from html import escape
from typing import TYPE_CHECKING, Any

from zeroseal.blocks.sizes import size_text
from zeroseal.reports.as_json import Json, head
from zeroseal.traces.finding import by_trace
from zeroseal.traces.model import FAMILIES

if TYPE_CHECKING:
    from pathlib import Path

    from matplotlib.axes import Axes

    from zeroseal.sealing.disk_map import DiskMap
    from zeroseal.traces.finding import Finding

# the same in the terminal, in pictures and on pages; told apart by colour-blind readers, and by
# their height: content that is left is drawn as a half
ACCENTS = {"data": "#5b6773", "left": "#c98500", "empty": "#e3e8ed", "sealed": "#2b8cd6"}
_LABELS = {
    "data": "files and structures",
    "left": "content where none belongs",
    "empty": "nothing",
}
_INCHES = (12.8, 8.0)
_DPI = 100
_LABEL_CELLS, _LONGEST_LABEL = 14, 16


@dataclass(frozen=True)
class ReportedDisk:
    """One disk of a report: its title, its map and what the catalogue finds on it."""

    title: str
    verdict: str
    map: DiskMap
    findings: tuple[Finding, ...]


def build_png(disks: list[ReportedDisk]) -> bytes:
    """Draws a picture of 1280 by 800: a strip for each disk, and its findings by family."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure(figsize=_INCHES, dpi=_DPI, facecolor="white")
    FigureCanvasAgg(figure)
    rows = len(disks)
    grid = figure.add_gridspec(
        2 * rows, 1, height_ratios=[1, 2] * rows, hspace=0.9, left=0.08, right=0.97, top=0.92,
        bottom=0.09,
    )  # fmt: skip
    figure.text(0.03, 0.965, "Where the disk holds what", fontsize=14, weight="bold")
    for number, disk in enumerate(disks):
        _draw_strip(figure.add_subplot(grid[2 * number]), disk)
        _draw_families(figure.add_subplot(grid[2 * number + 1]), disk, disks)
    _draw_legend(figure)
    content = io.BytesIO()
    figure.savefig(content, format="png", dpi=_DPI, metadata={"Software": None})
    return content.getvalue()


def build_html(disks: list[ReportedDisk]) -> str:
    """One page; the picture's content as vectors and tables."""
    from jinja2 import Environment

    page = Environment(autoescape=True, trim_blocks=True, lstrip_blocks=True).from_string(_PAGE)
    shown = [
        {
            "title": disk.title,
            "verdict": disk.verdict,
            "size": size_text(disk.map.size_bytes),
            "stored": size_text(sum(disk.map.stored)),
            "left": size_text(sum(disk.map.left)),
            "strip": _svg_strip(disk.map),
            "rows": _rows(disk),
        }
        for disk in disks
    ]
    return page.render(disks=shown, accents=ACCENTS, labels=_LABELS, page_style=PAGE_STYLE)


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


def _draw_strip(axes: Axes, disk: ReportedDisk) -> None:
    shares = _shares(disk.map)
    numbers = range(len(shares))
    data = [min(1.0, share) for share, _left in shares]
    left = [min(1.0, share) for _data, share in shares]
    axes.set_facecolor(ACCENTS["empty"])
    axes.bar(numbers, data, width=1.0, color=ACCENTS["data"], aa=False)
    axes.bar(numbers, left, width=1.0, bottom=data, color=ACCENTS["left"], hatch="//",
             edgecolor="white", linewidth=0, aa=False)  # fmt: skip
    axes.set_xlim(-0.5, len(shares) - 0.5)
    axes.set_ylim(0, 1.02)
    axes.set_yticks([])
    labels = _labels(disk.map)
    axes.set_xticks([cell for cell, _text in labels], [text for _cell, text in labels],
                    fontsize=8, ha="left")  # fmt: skip
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    message = (
        f"{disk.title}: {disk.verdict}. Disk of {size_text(disk.map.size_bytes)}, "
        f"{size_text(sum(disk.map.stored))} hold something, "
        f"{size_text(sum(disk.map.left))} of it where nothing belongs"
    )
    axes.set_title(message, fontsize=10, loc="left", x=-0.053)


def _draw_families(axes: Axes, disk: ReportedDisk, disks: list[ReportedDisk]) -> None:
    counts = _counts(disk.findings)
    most = max([1, *(count for item in disks for count in _counts(item.findings).values())])
    names = list(FAMILIES)
    values = [counts[name] for name in names]
    axes.barh(range(len(names)), values, color=ACCENTS["left"], height=0.6)
    axes.set_yticks(range(len(names)), [_plain(name) for name in names], fontsize=8)
    axes.invert_yaxis()
    axes.set_xlim(0, most * 1.1)
    axes.tick_params(axis="x", labelsize=8)
    for number, value in enumerate(values):
        axes.text(value + most * 0.008, number, str(value), va="center", fontsize=8)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    axes.set_xlabel("findings", fontsize=8)


def _draw_legend(figure: Any) -> None:
    from matplotlib.patches import Patch

    handles = [
        Patch(facecolor=ACCENTS[name], label=label, hatch="//" if name == "left" else "",
              edgecolor="white")
        for name, label in _LABELS.items()
    ]  # fmt: skip
    figure.legend(handles=handles, loc="upper right", ncols=3, fontsize=9, frameon=False)


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


def _svg_strip(map_: DiskMap) -> Any:
    """The strip as vectors; only numbers and our own colours go in."""
    from markupsafe import Markup

    bars = []
    for number, (data, left) in enumerate(_shares(map_)):
        data, left = min(1.0, data), min(1.0, left)
        low = 40 - data * 40
        bars.append(f'<rect x="{number}" y="{low:.1f}" width="1" height="{data * 40:.1f}" '
                    f'fill="{ACCENTS["data"]}"/>')  # fmt: skip
        if left:
            high = max(0.0, low - left * 40)
            bars.append(f'<rect x="{number}" y="{high:.1f}" width="1" height="{low - high:.1f}" '
                        f'fill="{ACCENTS["left"]}"/>')  # fmt: skip
    names = "".join(
        f'<text x="{cell}" y="45" font-size="3.4">{escape(text)}</text>'
        for cell, text in _labels(map_)
    )
    cells = len(map_.stored)
    svg = (
        f'<svg viewBox="0 0 {cells} 48" shape-rendering="crispEdges" role="img" '
        'aria-label="the disk as a strip">'
        f'<rect width="{cells}" height="40" fill="{ACCENTS["empty"]}"/>{"".join(bars)}{names}</svg>'
    )
    return Markup(svg)


def _labels(map_: DiskMap) -> list[tuple[int, str]]:
    """(part, name) of the volumes, the large ones first, that have room for their name."""
    labels: list[tuple[int, str]] = []
    for volume in sorted(map_.volumes, key=lambda item: -item.size_bytes):
        cell = volume.offset_bytes // map_.part_bytes
        has_room = all(abs(cell - other) >= _LABEL_CELLS for other, _text in labels)
        if volume.kind != "unknown" and has_room:
            name = f"{volume.name.replace('partition ', '')} {volume.kind}"
            labels.append((cell, name[:_LONGEST_LABEL]))
    return sorted(labels)


PAGE_STYLE = """\
body { font: 15px/1.45 system-ui, sans-serif; margin: 2rem auto; max-width: 72rem; color: #1c2329 }
table { border-collapse: collapse; margin: .6rem 0 2rem } td, th { padding: .15rem 1.2rem .15rem 0;
text-align: left } td.number, th.number { text-align: right }
"""
_PAGE = """<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>Where the disk holds what</title><style>
{{ page_style }}svg { width: 100%; height: auto; display: block }
.sign { display: inline-block; width: .9rem; height: .9rem; margin: 0 .4rem 0 1.2rem }
</style></head><body>
<h1>Where the disk holds what</h1>
<p>{% for name, label in labels.items() %}
<span class="sign" style="background: {{ accents[name] }}"></span>{{ label }}
{% endfor %}</p>
{% for disk in disks %}
<h2>{{ disk.title }}: {{ disk.verdict }}</h2>
<p>Disk of {{ disk.size }}, {{ disk.stored }} hold something, {{ disk.left }} of it where nothing
belongs.</p>
{{ disk.strip }}
{% if disk.rows %}
<table><tr><th>family</th><th>trace</th><th class="number">places</th>
<th class="number">size</th></tr>
{% for row in disk.rows %}
<tr><td>{{ row.family }}</td><td>{{ row.trace }}</td><td class="number">{{ row.places }}</td>
<td class="number">{{ row.size }}</td></tr>
{% endfor %}
</table>
{% else %}
<p>The catalogue finds nothing.</p>
{% endif %}
{% endfor %}
</body></html>
"""
