"""``zeroseal trial``: boots two throwaway machines of an image and reads what grew on them."""

from __future__ import annotations

import argparse
from pathlib import Path

from zeroseal.cli.options import add_machine_file, add_reach, add_starts, wish_from
from zeroseal.cli.parser import Subparsers
from zeroseal.cli.ui import Ui


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "trial",
        usage="zeroseal trial IMAGE [OPTION ...]",
        help="start two throwaway machines from a sealed image and check that they differ",
        description=(
            "Starts two throwaway overlays of a sealed image, waits until their first boot is "
            "complete, shuts them down, and reads from their disks whether each identity was "
            "created again and differs, and which services failed. The image is only read."
        ),
        examples=(
            ("trial sealed.qcow2", "on QEMU"),
            ("trial sealed.qcow2 --host simulated", "for practice, without running anything"),
        ),
    )
    parser.add_argument("image", type=Path, metavar="IMAGE", help="a sealed disk image")
    add_starts(parser)
    parser.add_argument(
        "--sheet",
        type=Path,
        metavar="SHEET",
        help="a build sheet whose [accept] conditions must hold on both",
    )
    add_machine_file(parser)
    add_reach(parser)
    parser.add_general()


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    from zeroseal.cli.show_trial import show_trial
    from zeroseal.machines.sheet.load import Wishes, load_sheets
    from zeroseal.machines.trial import try_image
    from zeroseal.reports.machines_as_json import trial_to_json

    accept = load_sheets(args.sheet, Wishes())[0].sheet.accept if args.sheet else None
    wish = wish_from(args, accept)
    result = try_image(args.image, wish, ui.progress)
    ui.show(lambda: trial_to_json(result), lambda out: show_trial(result, out))
    return 0 if result.is_good else 1
