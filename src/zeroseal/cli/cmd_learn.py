"""``zeroseal learn``: starts two machines of an image and compares every file of their disks."""

from __future__ import annotations

import argparse
from pathlib import Path

from zeroseal.cli.options import (
    add_machine_file,
    add_reach,
    add_rules,
    add_starts,
    policy_of_site,
    wish_from,
)
from zeroseal.cli.parser import POLICY, Subparsers
from zeroseal.cli.ui import Ui
from zeroseal.errors import OutputExistsError
from zeroseal.messages import cli as messages


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "learn",
        usage="zeroseal learn IMAGE [OPTION ...]",
        help="start two machines from an image and find identity that is in no trace",
        description=(
            "Starts two throwaway overlays of an image, sealed or not, as two different "
            "machines, starts the first one a second time, and compares every file of their "
            "disks: what each machine has made for itself, what both have the same, and which "
            "trace covers it. They have no network to other machines. The image is only read. "
            "The exit status is 1 if something looks like identity and no trace covers it."
        ),
        examples=(
            ("learn gate.qcow2", "on QEMU"),
            ("learn gate.qcow2 --draft-rules RULES.toml", "draft house rules for what was found"),
            ("learn gate.qcow2 --host simulated", "for practice, without running anything"),
        ),
    )
    parser.add_argument("image", type=Path, metavar="IMAGE", help="a disk image")
    add_starts(parser)
    parser.add_argument(
        "--sheet",
        type=Path,
        metavar="SHEET",
        help="a build sheet whose tasks are run on both after their first start",
    )
    parser.add_argument(
        "--every-file",
        action="store_true",
        help="list also the files that differ and do not look like identity",
    )
    parser.group(POLICY).add_argument(
        "--draft-rules",
        type=Path,
        metavar="FILE",
        help="write house rules to choose from, for files that no trace covers",
    )
    add_machine_file(parser)
    add_reach(parser)
    add_rules(parser)
    parser.add_general()


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    if args.draft_rules and args.draft_rules.exists():
        raise OutputExistsError(
            messages.ALREADY_EXISTS.format(path=args.draft_rules), path=str(args.draft_rules)
        )
    from zeroseal.cli.show_learn import show_learned
    from zeroseal.machines.learn import learn_image
    from zeroseal.machines.sheet.load import load_sheet
    from zeroseal.reports.machines_as_json import learned_to_json

    wish = wish_from(args)
    sheet = load_sheet(args.sheet) if args.sheet else None
    result = learn_image(args.image, wish, sheet, policy_of_site(args), ui.progress)
    if args.draft_rules:
        from zeroseal.images.output import write_small_file
        from zeroseal.sealing.linux.learned_rules import draft_learned_rules

        text = draft_learned_rules(result.learned, args.image)
        write_small_file(args.draft_rules, text.encode())
    ui.show(
        lambda: learned_to_json(result),
        lambda out: show_learned(result, args.draft_rules, out, every_file=args.every_file),
    )
    return 0 if result.is_good else 1
