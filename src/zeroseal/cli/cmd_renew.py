"""``zeroseal renew``: patches a reference machine and puts a sealed copy on the shelf."""

from __future__ import annotations

import argparse
import time
from pathlib import Path

from zeroseal.cli.cmd_build import add_sheet_options, wishes_from
from zeroseal.cli.image_arguments import add_answer_forms
from zeroseal.cli.options import (
    add_choices,
    add_rules,
    add_shelf,
    add_yard,
)
from zeroseal.cli.parser import MANY, Parser, Subparsers
from zeroseal.cli.signing_options import add_signing, signer_from
from zeroseal.cli.ui import Ui
from zeroseal.errors import UsageError
from zeroseal.machines import HOST_NAMES
from zeroseal.messages import cli as messages


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "renew",
        usage="zeroseal renew MACHINE ... [OPTION ...]",
        help="patch reference machines and put sealed copies of them on the shelf",
        description=(
            "Starts a reference machine, runs the patch tasks of its sheet until nothing is "
            "left to do, shuts it down, takes a snapshot, seals a copy, checks the copy and "
            "puts it on the shelf as a new version. The machine itself stays unsealed and "
            "switched off. Where something fails, its disk goes back to what it was (qcow2). "
            "Several machines are renewed one after the other, or some at the same time; one "
            "that fails does not stop the others."
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
            (
                "renew --all --jobs 2 --not-before 22:00 --until 05:00",
                "all machines that were built from a sheet, two at a time, at night",
            ),
        ),
    )
    parser.add_argument("names", nargs="*", metavar="MACHINE", help="machines of the yard")
    parser.add_argument(
        "--all", action="store_true", help="all machines of the yard that were built from a sheet"
    )
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
    parser.add_argument(
        "--host", dest="other_host", choices=HOST_NAMES, default="",
        help="start it there instead of where it was built for",
    )  # fmt: skip
    _add_window(parser)
    add_answer_forms(parser)
    add_yard(parser)
    add_shelf(parser)
    add_sheet_options(parser)
    add_choices(parser)
    add_signing(parser)
    add_rules(parser)
    parser.add_general()


def _add_window(parser: Parser) -> None:
    many = parser.group(MANY)
    many.add_argument(
        "--jobs", type=int, default=1, metavar="N",
        help="number of machines to renew at the same time (default: 1)",
    )  # fmt: skip
    many.add_argument(
        "--not-before", default="", metavar="TIME",
        help="start no machine before this time: HH:MM, or a date with a time",
    )  # fmt: skip
    many.add_argument(
        "--until", default="", metavar="TIME",
        help="start no machine after this time; one that was started is finished",
    )  # fmt: skip


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    names = _names_of(args)
    if len(names) > 1 or args.all or args.not_before or args.until or args.json_lines or args.junit:
        return _renew_each(names, args, ui)
    return _renew(names[0], args, ui)


def _names_of(args: argparse.Namespace) -> list[str]:
    from zeroseal.machines.yard import Yard

    if args.all and args.names:
        raise UsageError(messages.NAMES_WITH_ALL)
    names = list(args.names)
    if args.all:
        names = [
            machine.definition.name
            for machine in Yard(args.yard).machines()
            if machine.definition.sheet and not machine.definition.template
        ]
    if not names:
        raise UsageError(messages.NO_MACHINE_TO_RENEW)
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice:
        raise UsageError(messages.GIVEN_TWICE.format(path=twice))
    if len(names) > 1 and (args.template or args.sheet):
        raise UsageError(messages.ONLY_FOR_ONE_MACHINE)
    return names


def _renew_each(names: list[str], args: argparse.Namespace, ui: Ui) -> int:
    from datetime import datetime

    from zeroseal.cli.many import Work, run_each, words_of
    from zeroseal.cli.time_window import parse_window
    from zeroseal.fleet.answer import Subject

    if args.jobs < 1:
        raise UsageError(messages.JOBS_TOO_FEW)
    window = parse_window(args.not_before, args.until, datetime.now())
    args.all = False  # each process renews the one that it is given
    words = words_of(args)
    subjects = tuple(
        Subject(name, name, ("renew", name, "--json", "--quiet", *words)) for name in names
    )
    return run_each(Work("renew", "machine", subjects, args.jobs, window=window), args, ui)


def _renew(name: str, args: argparse.Namespace, ui: Ui) -> int:
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
    definition = yard.get(name).definition
    path = args.sheet or (Path(definition.sheet) if definition.sheet else None)
    if path is None:
        raise UsageError(messages.NOT_BUILT_FROM_SHEET.format(name=name))
    loaded = load_again(path, definition.settings, definition.variant, wishes_from(args))
    policy, signer = policy_from(args), signer_from(args)
    wish = RenewWish(
        now=int(time.time()),
        template=args.template,
        version=args.version,
        kept_snapshots=args.keep,
        policy=policy,
        signer=signer,
        host=args.other_host,
    )
    renewal = renew_machine(loaded, yard, name, shelf, wish, ui.progress)
    ui.show(lambda: renewal_to_json(renewal), lambda out: show_renewal(renewal, args.shelf, out))
    return 0
