"""A drawing of rectangles, dots and texts: written as SVG by ourselves, as PNG by matplotlib.

Both come from one list of shapes, so that a picture, a page and a file of vectors show the same.
Coordinates are pixels from the top left; the place of a text is the left (or right) end of its
base line.
"""

from __future__ import annotations

import io
from dataclasses import dataclass, field
from html import escape
from typing import TypeAlias

from zeroseal.extras import extra

FONT = "DejaVu Sans, Verdana, sans-serif"
INK, QUIET = "#1c2329", "#5b6773"
_DPI = 100
_WIDE_CHARACTER = 0.62  # of the size of a font, about what an average letter of it takes


@dataclass(frozen=True)
class Box:
    """A filled rectangle; ``hatched`` ones are told apart without their colour."""

    x: float
    y: float
    width: float
    height: float
    fill: str
    hatched: bool = False


@dataclass(frozen=True)
class Dot:
    """A filled circle."""

    x: float
    y: float
    radius: float
    fill: str


@dataclass(frozen=True)
class Words:
    """A line of text."""

    x: float
    y: float
    text: str
    size: float = 12
    fill: str = INK
    bold: bool = False
    ends_here: bool = False


Shape: TypeAlias = Box | Dot | Words


@dataclass
class Drawing:
    """Shapes on a white sheet.

    Attributes:
        width, height: pixels.
        label: what it shows, for those who cannot see it.
    """

    width: int
    height: int
    label: str
    shapes: list[Shape] = field(default_factory=list)

    def to_svg(self) -> str:
        """The drawing as vectors; every text is escaped."""
        body = "".join(_svg_of(shape) for shape in self.shapes)
        return (
            f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {self.width} {self.height}" '
            f'width="{self.width}" height="{self.height}" role="img" font-family="{FONT}" '
            f'aria-label="{escape(self.label)}">'
            '<defs><pattern id="hatch" width="6" height="6" patternUnits="userSpaceOnUse" '
            'patternTransform="rotate(45)"><rect width="2" height="6" fill="white"/></pattern>'
            f'</defs><rect width="{self.width}" height="{self.height}" fill="white"/>{body}</svg>\n'
        )

    def to_png(self) -> bytes:
        """The drawing as a picture.

        Raises:
            MissingExtraError: matplotlib is not installed.
        """
        with extra("pictures", "a PNG picture"):
            from matplotlib.backends.backend_agg import FigureCanvasAgg
            from matplotlib.figure import Figure
            from matplotlib.patches import Circle, Rectangle
        figure = Figure(figsize=(self.width / _DPI, self.height / _DPI), dpi=_DPI)
        FigureCanvasAgg(figure)
        axes = figure.add_axes((0, 0, 1, 1))
        axes.set_xlim(0, self.width)
        axes.set_ylim(self.height, 0)
        axes.axis("off")
        for shape in self.shapes:
            match shape:
                case Box(x, y, width, height, fill, hatched):
                    axes.add_patch(
                        Rectangle(
                            (x, y), width, height, facecolor=fill, linewidth=0, antialiased=False,
                            hatch="////" if hatched else "", edgecolor="white",
                        )
                    )  # fmt: skip
                case Dot(x, y, radius, fill):
                    axes.add_patch(Circle((x, y), radius, facecolor=fill, linewidth=0))
                case Words(x, y, text, size, fill, bold, ends_here):
                    axes.text(
                        x, y, text, fontsize=size * 72 / _DPI, color=fill, parse_math=False,
                        ha="right" if ends_here else "left", va="baseline",
                        weight="bold" if bold else "normal",
                    )  # fmt: skip
        content = io.BytesIO()
        figure.savefig(content, format="png", dpi=_DPI, metadata={"Software": None})
        return content.getvalue()


def width_of(text: str, size: float) -> float:
    """About how many pixels a text takes."""
    return len(text) * size * _WIDE_CHARACTER


def fitted(text: str, size: float, pixels: float) -> str:
    """A text that takes no more than that; what is cut off is marked."""
    most = max(1, int(pixels / (size * _WIDE_CHARACTER)))
    return text if len(text) <= most else f"{text[: most - 1]}…"


def _svg_of(shape: Shape) -> str:
    match shape:
        case Box(x, y, width, height, fill, hatched):
            place = f'x="{x:.1f}" y="{y:.1f}" width="{width:.1f}" height="{height:.1f}"'
            box = f'<rect {place} fill="{fill}" shape-rendering="crispEdges"/>'
            return box + (f'<rect {place} fill="url(#hatch)"/>' if hatched else "")
        case Dot(x, y, radius, fill):
            return f'<circle cx="{x:.1f}" cy="{y:.1f}" r="{radius:.1f}" fill="{fill}"/>'
        case Words(x, y, text, size, fill, bold, ends_here):
            style = ' font-weight="bold"' if bold else ""
            style += ' text-anchor="end"' if ends_here else ""
            return (
                f'<text x="{x:.1f}" y="{y:.1f}" font-size="{size:g}" fill="{fill}"{style}>'
                f"{escape(text)}</text>"
            )
