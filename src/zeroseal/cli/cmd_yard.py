"""``zeroseal yard``: the machines that live here; start and stop them on the simulated host."""

from __future__ import annotations

import argparse
import time
from pathlib import Path

from zeroseal.cli.options import Subparsers, add_common, add_yard
from zeroseal.cli.ui import Ui


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's words."""
    parser = subparsers.add_parser(
        "yard",
        help="list, show, start, stop and adopt machines (simulated host)",
        description="The yard is the folder where machines live. Starting one does to its disk "
        "what a boot would do, on a simulated host: nothing is run.",
    )
    actions = parser.add_subparsers(dest="action", metavar="ACTION", required=True)
    for name, text in (
        ("list", "list the machines"),
        ("show", "show one machine"),
        ("start", "start a machine"),
        ("stop", "stop a machine"),
    ):
        action = actions.add_parser(name, help=text, description=text.capitalize() + ".")
        if name != "list":
            action.add_argument("name", metavar="NAME", help="a machine of the yard")
        add_yard(action)
        add_common(action)
    adopt = actions.add_parser(
        "adopt",
        help="take a copy of a disk image in as a machine",
        description="Take a copy of a disk image, with its seal record if it has one, in as a "
        "machine.",
    )
    adopt.add_argument("image", type=Path, metavar="IMAGE")
    adopt.add_argument("--name", required=True, metavar="NAME", help="the machine's name")
    add_yard(adopt)
    add_common(adopt)


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    from zeroseal.cli.show_machines import show_machine, show_machines, show_run
    from zeroseal.machines import simulated
    from zeroseal.machines.yard import Yard
    from zeroseal.reports.machines_as_json import machine_to_json, run_to_json, yard_to_json

    yard, now = Yard(args.yard), int(time.time())
    match args.action:
        case "list":
            machines = yard.machines()
            ui.show(
                lambda: yard_to_json(machines), lambda out: show_machines(machines, args.yard, out)
            )
        case "show":
            machine = yard.get(args.name)
            ui.show(lambda: machine_to_json(machine), lambda out: show_machine(machine, out))
        case "adopt":
            machine = simulated.adopt_machine(yard, args.image, args.name)
            ui.show(lambda: machine_to_json(machine), lambda out: show_machine(machine, out))
        case _:
            act = simulated.start_machine if args.action == "start" else simulated.stop_machine
            done = act(yard, args.name, now)
            ui.show(lambda: run_to_json(done), lambda out: show_run(done, out))
    return 0
