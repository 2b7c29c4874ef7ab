"""Which images share which identity values, as a matrix: a picture (PNG) and one page (HTML)."""

from __future__ import annotations

import io
from html import escape

from zeroseal.guests.identity_value import Severity
from zeroseal.reports.disk_report import ACCENTS, PAGE_STYLE
from zeroseal.sealing.compare import Comparison, letter_of

COLOURS = {
    Severity.EXPOSED: "#d1478f",
    Severity.CONFUSED: ACCENTS["left"],
    Severity.NOTICED: ACCENTS["data"],
    Severity.BY_DESIGN: "#8a949e",
}
# told apart without colour: the worse, the larger
_SIZES = {
    Severity.EXPOSED: 190,
    Severity.CONFUSED: 130,
    Severity.NOTICED: 80,
    Severity.BY_DESIGN: 35,
}
_INCHES = (12.8, 8.0)
_DPI = 100
_MOST_ROWS, _MOST_COLUMNS = 28, 40
_LONGEST = 52


def build_png(comparison: Comparison) -> bytes:
    """Draws a picture of 1280 by 800: a row for each shared value, a column for each image."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure(figsize=_INCHES, dpi=_DPI, facecolor="white")
    FigureCanvasAgg(figure)
    figure.text(0.03, 0.955, _title(comparison), fontsize=14, weight="bold")
    rows = comparison.shared[:_MOST_ROWS]
    columns = min(len(comparison.images), _MOST_COLUMNS)
    figure.text(0.03, 0.92, _rest(comparison), fontsize=9, color=ACCENTS["data"])
    axes = figure.add_axes((0.42, 0.17, 0.55, 0.68))
    for place, item in enumerate(rows):
        severity = item.value.severity
        axes.axhline(place, color=ACCENTS["empty"], linewidth=0.8, zorder=0)
        places = [number for number in item.images if number < columns]
        axes.scatter(
            places, [place] * len(places), s=_SIZES[severity], color=COLOURS[severity], zorder=2
        )
    axes.set_ylim(max(len(rows), 8) - 0.5, -0.7)
    axes.set_xlim(-0.7, max(columns, 6) - 0.3)
    axes.set_yticks(
        range(len(rows)),
        [_shortened(f"{item.value.kind}  {item.value.shown}") for item in rows],
        fontsize=8,
    )
    axes.set_xticks(range(columns), [letter_of(number) for number in range(columns)], fontsize=9)
    axes.xaxis.tick_top()
    axes.tick_params(length=0)
    for side in axes.spines.values():
        side.set_visible(False)
    for number, severity in enumerate(sorted(Severity, reverse=True)):
        figure.text(
            0.05 + 0.235 * number, 0.105, f"● {severity.meaning}", fontsize=8,
            color=COLOURS[severity],
        )  # fmt: skip
    names = "   ".join(
        f"{letter_of(number)} {path.name}"
        for number, path in enumerate(comparison.images[:columns])
    )
    figure.text(0.05, 0.05, names, fontsize=8, wrap=True)
    content = io.BytesIO()
    figure.savefig(content, format="png", dpi=_DPI, metadata={"Software": None})
    return content.getvalue()


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
        f"{head}</tr></thead><tbody>{body}</tbody></table><h2>What it means</h2>"
        f"<ul>{meanings}</ul></body></html>\n"
    )


def _title(comparison: Comparison) -> str:
    if comparison.are_unique:
        return f"UNIQUE: {len(comparison.images)} images share no identity value"
    shared = [item for item in comparison.shared if not item.value.by_design]
    return f"SHARED: {len(shared)} identity values on more than one of the images"


def _rest(comparison: Comparison) -> str:
    more_rows = len(comparison.shared) - _MOST_ROWS
    more_images = len(comparison.images) - _MOST_COLUMNS
    messages = [f"{len(comparison.images)} images, {len(comparison.shared)} shared values"]
    messages += [f"the first {_MOST_ROWS} values are drawn"] if more_rows > 0 else []
    messages += [f"the first {_MOST_COLUMNS} images are drawn"] if more_images > 0 else []
    return "; ".join(messages)


def _shortened(text: str) -> str:
    return text if len(text) <= _LONGEST else f"{text[: _LONGEST - 1]}…"
