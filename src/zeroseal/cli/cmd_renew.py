"""``zeroseal renew``: patches a reference machine and puts a sealed copy on the shelf."""

from __future__ import annotations

import argparse
import time
from pathlib import Path

from zeroseal.cli.cmd_build import add_sheet_options, wishes_from
from zeroseal.cli.options import (
    add_choices,
    add_rules,
    add_shelf,
    add_yard,
)
from zeroseal.cli.parser import Subparsers
from zeroseal.cli.signing_options import add_signing, signer_from
from zeroseal.cli.ui import Ui
from zeroseal.errors import UsageError
from zeroseal.messages import cli as messages


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "renew",
        usage="zeroseal renew MACHINE [OPTION ...]",
        help="patch a reference machine and put a sealed copy of it on the shelf",
        description=(
            "Starts a reference machine, runs the patch tasks of its sheet until nothing is "
            "left to do, shuts it down, takes a snapshot, seals a copy, checks the copy and "
            "puts it on the shelf as a new version. The machine itself stays unsealed and "
            "switched off."
        ),
        examples=(
            (
                "renew gangway-ref",
                "patch the machine and put this month\\u2019s version on the shelf",
            ),
            (
                "renew gangway-ref --version 2026-12 --sign ops.key",
                "with a version of your choice, signed",
            ),
        ),
    )
    parser.add_argument("name", metavar="MACHINE", help="a machine of the yard")
    parser.add_argument(
        "--sheet", type=Path, metavar="SHEET", help="instead of the sheet from which it was built"
    )
    parser.add_argument("--template", default="", metavar="NAME", help="its name on the shelf")
    parser.add_argument(
        "--version",
        default="",
        metavar="VERSION",
        help="its version on the shelf (default: the month)",
    )
    parser.add_argument(
        "--keep",
        type=int,
        default=3,
        metavar="COUNT",
        help="number of snapshots of renewals to keep (default: 3)",
    )
    add_yard(parser)
    add_shelf(parser)
    add_sheet_options(parser)
    add_choices(parser)
    add_signing(parser)
    add_rules(parser)
    parser.add_general()


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    from zeroseal.cli.options import policy_from
    from zeroseal.cli.show_renewal import show_renewal
    from zeroseal.machines.sheet.load import load_again
    from zeroseal.machines.yard import Yard
    from zeroseal.reports.machines_as_json import renewal_to_json
    from zeroseal.templates.renew import RenewWish, renew_machine
    from zeroseal.templates.shelf.shelf import Shelf

    if args.keep < 1:
        raise UsageError(messages.KEEP_TOO_SMALL)
    yard, shelf = Yard(args.yard), Shelf(args.shelf)
    definition = yard.get(args.name).definition
    path = args.sheet or (Path(definition.sheet) if definition.sheet else None)
    if path is None:
        raise UsageError(messages.NOT_BUILT_FROM_SHEET.format(name=args.name))
    loaded = load_again(path, definition.settings, definition.variant, wishes_from(args))
    policy, signer = policy_from(args), signer_from(args)
    wish = RenewWish(
        now=int(time.time()),
        template=args.template,
        version=args.version,
        kept_snapshots=args.keep,
        policy=policy,
        signer=signer,
    )
    renewal = renew_machine(loaded, yard, args.name, shelf, wish, ui.progress)
    ui.show(lambda: renewal_to_json(renewal), lambda out: show_renewal(renewal, args.shelf, out))
    return 0
