"""``zeroseal renew``: patches a reference machine and puts a sealed copy on the shelf."""

from __future__ import annotations

import argparse
import time
from pathlib import Path

from zeroseal.cli.cmd_build import add_sheet_options, wishes_from
from zeroseal.cli.options import (
    Subparsers,
    add_choices,
    add_common,
    add_rules,
    add_shelf,
    add_yard,
)
from zeroseal.cli.signing_options import add_signing, signer_from
from zeroseal.cli.ui import Ui
from zeroseal.errors import UsageError


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "renew",
        help="patch a reference machine, and put a sealed copy of it on the shelf",
        description="Starts a reference machine, runs the patch tasks of its sheet until nothing "
        "is left, shuts it down, keeps a snapshot, seals a copy, checks it and puts it on the "
        "shelf as a new version. The machine itself stays unsealed, and off.",
    )
    parser.add_argument("name", metavar="MACHINE", help="a machine of the yard")
    parser.add_argument(
        "--sheet", type=Path, metavar="SHEET", help="instead of the sheet that it was built from"
    )
    parser.add_argument("--template", default="", metavar="NAME", help="its name on the shelf")
    parser.add_argument(
        "--version", default="", metavar="VERSION", help="on the shelf (default: the month)"
    )
    parser.add_argument(
        "--keep",
        type=int,
        default=3,
        metavar="COUNT",
        help="snapshots of renewals that stay (default: 3)",
    )
    add_sheet_options(parser)
    add_choices(parser)
    add_yard(parser)
    add_shelf(parser)
    add_signing(parser)
    add_rules(parser)
    add_common(parser)


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
        raise UsageError("--keep is at least 1: the way back from this renewal stays")
    yard, shelf = Yard(args.yard), Shelf(args.shelf)
    definition = yard.get(args.name).definition
    path = args.sheet or (Path(definition.sheet) if definition.sheet else None)
    if path is None:
        raise UsageError(f"{args.name} was not built from a sheet: give one with --sheet")
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
