"""``zeroseal compare``: which identity values do these images share?"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from zeroseal import api
from zeroseal.cli.image_arguments import add_on
from zeroseal.cli.options import add_reach, add_rules, policy_of_site
from zeroseal.cli.parser import Subparsers
from zeroseal.cli.pictures import add_pictures, write_pictures
from zeroseal.cli.ui import Ui

if TYPE_CHECKING:
    from zeroseal.sealing.compare import Comparison


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "compare",
        usage="zeroseal compare IMAGE IMAGE ... [OPTION ...]",
        help="compare the identity values and secrets of several images",
        description=(
            "Reads keys, machine IDs, names of storage hosts, addresses, host names and "
            "volume IDs from each image, and reports how serious it is that two images share "
            "a value; of a machine whose machine file is beside its disk also its UUID, its MACs "
            "and its seed. On Linux it also compares secrets, and files that no package owns and "
            "that look like identity. The exit status is 0 if no two images share one and 1 if "
            "they do; volume IDs, which clones of one template share by design, do not count."
        ),
        examples=(
            (
                "compare yard/north/disk.qcow2 yard/south/disk.qcow2",
                "are these two different machines",
            ),
            ("compare a.qcow2 b.qcow2 --files", "which other files do they have in common"),
            ("compare images/*.qcow2 --html shared.html", "which of many images share an identity"),
        ),
    )
    parser.add_argument("images", type=Path, nargs="+", metavar="IMAGE", help="disk images")
    add_pictures(parser, "the matrix")
    parser.add_argument(
        "--files",
        action="store_true",
        help="also list every file that no package owns and that two images have the same",
    )
    add_on(parser)
    add_reach(parser)
    add_rules(parser)
    parser.add_general()


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    from zeroseal.cli.show_compare import show_comparison
    from zeroseal.reports.machines_as_json import comparison_to_json

    if args.on:
        comparison = _compare_on_cluster(args, ui)
    else:
        comparison = api.compare(
            args.images,
            policy=policy_of_site(args),
            every_file=args.files,
            progress=ui.progress,
        )
    if args.png or args.svg or args.html:
        from zeroseal.reports.compare_report import build_html, draw_comparison

        write_pictures(args, lambda: draw_comparison(comparison), lambda: build_html(comparison))
    ui.show(
        lambda: comparison_to_json(comparison),
        lambda out: show_comparison(comparison, out, every_file=args.files),
    )
    return 0 if comparison.are_unique else 1


def _compare_on_cluster(args: argparse.Namespace, ui: Ui) -> Comparison:
    from zeroseal.fleet.cluster import ClusterRunner
    from zeroseal.machines.outside_values import values_beside
    from zeroseal.sealing.compare import check_paths, compare_sides

    check_paths(args.images)
    outside = {image: values_beside(image) for image in args.images}
    runner = ClusterRunner.connect(args.on)
    try:
        policy = policy_of_site(args)
        sides = runner.read_sides(args.images, policy, args.files, ui.progress)
    finally:
        runner.close()
    return compare_sides(args.images, sides, outside)
