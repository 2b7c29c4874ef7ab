"""``zeroseal build``: a reference machine from a build sheet."""

from __future__ import annotations

import argparse
import time
from pathlib import Path

from zeroseal.cli.options import Subparsers, add_common, add_yard
from zeroseal.cli.ui import Ui


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's words."""
    parser = subparsers.add_parser(
        "build",
        help="make a reference machine from a build sheet (simulated host)",
        description="Takes the base disk that the sheet names, verifies its checksum, and does to "
        "a copy of it what a first boot and some use would do. The host is simulated: nothing is "
        "run, and the result proves nothing about a real guest.",
    )
    parser.add_argument("sheet", type=Path, metavar="SHEET", help="a build sheet (TOML)")
    add_yard(parser)
    add_common(parser)


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    from zeroseal.cli.show_machines import show_built
    from zeroseal.machines.build import build_machine
    from zeroseal.machines.yard import Yard
    from zeroseal.reports.machines_as_json import machine_to_json

    machine = build_machine(args.sheet, Yard(args.yard), int(time.time()), ui.progress)
    ui.show(lambda: machine_to_json(machine), lambda out: show_built(machine, args.yard, out))
    return 0
