"""``zeroseal compare``: which identity values do these images share?"""

from __future__ import annotations

import argparse
from pathlib import Path

from zeroseal.cli.options import Subparsers, add_common, add_reach, reach_from
from zeroseal.cli.ui import Ui


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "compare",
        help="which identity values do these images share",
        description="Reads keys, machine IDs, names of storage hosts, addresses, host names and "
        "volume ids from each image, and tells how bad it is that two share one. Ends with 0 if no "
        "two images share a value, with 1 if they do; volume ids, which clones of one template "
        "share by design, do not count.",
    )
    parser.add_argument("images", type=Path, nargs="+", metavar="IMAGE")
    parser.add_argument("--png", type=Path, metavar="FILE", help="draw the matrix (1280 by 800)")
    parser.add_argument("--html", type=Path, metavar="FILE", help="write the matrix as one page")
    add_reach(parser)
    add_common(parser)


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    from zeroseal.cli.show_compare import show_comparison
    from zeroseal.reports.machines_as_json import comparison_to_json
    from zeroseal.sealing.compare import compare_images

    comparison = compare_images(args.images, ui.progress, reach_from(args))
    if args.png or args.html:
        from zeroseal.images.output import write_small_file
        from zeroseal.reports.compare_report import build_html, build_png

        if args.png:
            write_small_file(args.png, build_png(comparison))
        if args.html:
            write_small_file(args.html, build_html(comparison).encode())
    ui.show(lambda: comparison_to_json(comparison), lambda out: show_comparison(comparison, out))
    return 0 if comparison.are_unique else 1
