"""``zeroseal build``: reference machines from build sheets."""

from __future__ import annotations

import argparse
import os
import time
from pathlib import Path
from typing import TYPE_CHECKING

from zeroseal.cli.options import add_secrets, add_yard
from zeroseal.cli.parser import SHEET, Parser, Subparsers
from zeroseal.cli.ui import Ui
from zeroseal.errors import UsageError
from zeroseal.machines import HOST_NAMES
from zeroseal.messages import cli as messages

if TYPE_CHECKING:
    from zeroseal.machines.sheet.load import Wishes


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "build",
        usage="zeroseal build SHEET ... [OPTION ...]",
        help="build reference machines from build sheets",
        description=(
            "Takes the base disk or the installation medium that a sheet names, verifies it, "
            "starts a machine, runs the sheet's tasks in it, shuts it down and leaves it as "
            "the sheet says, on QEMU, libvirt or the simulated host. A machine that already "
            "matches its sheet is not built again."
        ),
        examples=(
            ("build gate.toml", "build the machine of a sheet, or do nothing if it is up to date"),
            (
                "build gate.toml --set machine.memory_mib=4096 --console",
                "with more memory, and its console shown",
            ),
            ("build gate.toml --host simulated", "for practice, without running anything"),
        ),
    )
    parser.add_argument(
        "sheets", type=Path, nargs="+", metavar="SHEET", help="a build sheet (TOML)"
    )
    parser.add_argument("--again", action="store_true", help="build even what is up to date")
    parser.add_argument(
        "--host", dest="other_host", choices=HOST_NAMES, help="instead of the sheet's host"
    )
    parser.add_argument(
        "--console", action="store_true", help="show the machine's console while it is built"
    )
    add_yard(parser)
    add_sheet_options(parser)
    parser.add_general()


def add_sheet_options(parser: Parser) -> None:
    """What overrides the keys of a sheet."""
    sheet = parser.group(SHEET)
    sheet.add_argument(
        "--settings",
        type=Path,
        action="append",
        default=[],
        metavar="FILE",
        help="a file of the same format whose keys override the sheet's; may be repeated",
    )
    sheet.add_argument(
        "--set",
        dest="sets",
        action="append",
        default=[],
        metavar="KEY=VALUE",
        help="override one key of the sheet, such as machine.memory_mib=2048; may be repeated",
    )
    sheet.add_argument(
        "--variant",
        action="append",
        default=[],
        metavar="NAME",
        help="only this variant of the sheet; may be repeated",
    )
    add_secrets(parser, SHEET)


def wishes_from(args: argparse.Namespace) -> Wishes:
    """What the words lay over a sheet.

    Raises:
        UsageError, MissingError, RefusedError: the file with secrets is wrong.
    """
    from zeroseal.machines.sheet.load import Wishes
    from zeroseal.machines.sheet.secret_values import read_secrets

    secrets = read_secrets(args.secrets, os.environ)
    return Wishes(tuple(args.settings), tuple(args.sets), tuple(args.variant), secrets)


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    from zeroseal.cli.console_view import showing_console
    from zeroseal.cli.show_builds import show_builds
    from zeroseal.machines.build import BuildWish, build_machine
    from zeroseal.machines.readiness import assess_machine
    from zeroseal.machines.sheet.load import load_sheets
    from zeroseal.machines.yard import Yard
    from zeroseal.reports.machines_as_json import builds_to_json

    wishes = wishes_from(args)
    loaded = [item for path in args.sheets for item in load_sheets(path, wishes)]
    _check_names([item.sheet.machine.name for item in loaded])
    yard, done = Yard(args.yard), []
    for item in loaded:
        wish = BuildWish(int(time.time()), args.other_host or "", args.again)
        with showing_console(args.yard, item.sheet.machine.name, ui, wanted=args.console):
            try:
                result = build_machine(item, yard, wish, ui.progress)
            except KeyboardInterrupt:
                _tell_what_is_kept(args.yard, item.sheet.machine.name, ui)
                raise
        done.append((result, assess_machine(result.machine, ui.progress)))
    ui.show(
        lambda: builds_to_json(done),
        lambda out: show_builds(done, args.yard, out),
    )
    return 0 if all(readiness.is_ready for _result, readiness in done) else 1


def _tell_what_is_kept(yard: Path, name: str, ui: Ui) -> None:
    ui.end_progress()
    if name and (yard / name).is_dir():
        ui.tell(
            f"the machine {name} is kept, switched off and unfinished; build it again to continue"
        )


def _check_names(names: list[str]) -> None:
    twice = next((name for name in names if name and names.count(name) > 1), None)
    if twice:
        raise UsageError(messages.SAME_MACHINE_FROM_TWO_SHEETS.format(twice=twice))
