"""``--html``, ``--svg`` and ``--png``: what a command draws, and into which files."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from zeroseal.cli.parser import Parser

if TYPE_CHECKING:
    from zeroseal.reports.drawing import Drawing


def add_pictures(parser: Parser, what: str) -> None:
    """Into which files a command draws."""
    parser.add_argument(
        "--html",
        type=Path,
        metavar="FILE",
        help=f"write {what} as one HTML page",
    )
    parser.add_argument("--svg", type=Path, metavar="FILE", help=f"write {what} as vectors")
    parser.add_argument(
        "--png",
        type=Path,
        metavar="FILE",
        help=f"write {what} as a picture 1280 pixels wide (needs the extra zeroseal[pictures])",
    )


def write_pictures(
    args: argparse.Namespace, draw: Callable[[], Drawing], build_page: Callable[[], str]
) -> list[Path]:
    """Writes the files that were asked for, and returns them.

    Raises:
        MissingExtraError: a PNG was asked for, and its package is not installed.
        UnfinishedError: a file cannot be written.
    """
    from zeroseal.images.output import write_small_file

    def png() -> bytes:
        return draw().to_png()

    def svg() -> bytes:
        return draw().to_svg().encode()

    def html() -> bytes:
        return build_page().encode()

    wanted = ((args.png, png), (args.svg, svg), (args.html, html))  # the first may lack its package
    written = []
    for path, build in wanted:
        if path:
            write_small_file(path, build())
            written.append(path)
    return written
