"""``zeroseal compare``: which identity values do these images share?"""

from __future__ import annotations

import argparse
from pathlib import Path

from zeroseal.cli.options import Subparsers, add_common
from zeroseal.cli.ui import Ui


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's words."""
    parser = subparsers.add_parser(
        "compare",
        help="which identity values do these images share",
        description="Reads machine IDs, SSH host keys, random seeds, host names, leased addresses "
        "and volume ids from each image. Ends with 0 if no two images share one, with 1 if they "
        "do; volume ids, which clones of one template share by design, do not count.",
    )
    parser.add_argument("images", type=Path, nargs="+", metavar="IMAGE")
    add_common(parser)


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    from zeroseal.cli.show_compare import show_comparison
    from zeroseal.reports.machines_as_json import comparison_to_json
    from zeroseal.sealing.compare import compare_images

    comparison = compare_images(args.images, ui.progress)
    ui.show(lambda: comparison_to_json(comparison), lambda out: show_comparison(comparison, out))
    return 0 if comparison.are_unique else 1
