"""``zeroseal yard``: the machines that live here, and what can be done with them."""

from __future__ import annotations

import argparse
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zeroseal.cli.options import add_host, add_reach, add_shelf, add_yard, reach_from
from zeroseal.cli.parser import Parser, Subparsers
from zeroseal.cli.ui import Ui
from zeroseal.errors import MissingError, RefusedError, UsageError
from zeroseal.machines import HOST_NAMES
from zeroseal.messages import cli as messages

if TYPE_CHECKING:
    from zeroseal.machines.yard import Yard, YardMachine

_STOP_SECONDS = 300


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "yard",
        usage="zeroseal yard ACTION [OPTION ...]",
        help="manage machines: list, show, start, stop, snapshot, adopt, remove",
        description=(
            "The yard is the folder where machines are kept. A machine is started on the host "
            "that its machine file names: QEMU runs it; the simulated host changes its disk "
            "as a boot would, and runs nothing."
        ),
        examples=(
            ("yard list", "the machines and their states"),
            ("yard start north", "start one"),
            ("yard adopt old.qcow2 --name old", "add an existing machine"),
        ),
    )
    actions = parser.add_actions()
    _add(actions, "list", "list the machines", named=False)
    _add(actions, "show", "show one machine, its snapshots and whether it is ready to be sealed")
    start = _add(actions, "start", "start a machine")
    start.add_argument(
        "--host",
        dest="other_host",
        choices=HOST_NAMES,
        help="instead of the machine's own host",
    )
    stop = _add(actions, "stop", "shut a machine down")
    stop.add_argument(
        "--within",
        type=int,
        default=_STOP_SECONDS,
        metavar="SECONDS",
        help=f"cut its power after this many seconds (default: {_STOP_SECONDS})",
    )
    _add(actions, "console", "show a machine's serial console until you press Ctrl-C")
    _add(actions, "detach", "detach a seed medium that has been applied")
    snapshot = _add(actions, "snapshot", "take a snapshot of the disk")
    snapshot.add_argument("snapshot", metavar="SNAPSHOT", help="name of the snapshot")
    snapshot.add_argument("--purpose", default="", metavar="TEXT", help="purpose of the snapshot")
    snapshot.add_argument("--drop", action="store_true", help="delete that snapshot instead")
    revert = _add(actions, "revert", "return the disk to a snapshot; later changes are lost")
    revert.add_argument("snapshot", metavar="SNAPSHOT", help="one of the machine's snapshots")
    revert.add_argument("--yes", action="store_true", help="do not ask for confirmation")
    describe = _add(actions, "describe", "print a machine's definition for another host")
    describe.add_argument(
        "--as",
        dest="form",
        choices=("domain", "ovf", "qemu"),
        default="domain",
        help="a libvirt domain (default), OVF, or a script that starts QEMU",
    )
    describe.add_argument("-o", dest="output", type=Path, metavar="OUT", help="write to a new file")
    remove = _add(actions, "remove", "remove machines; their disks stay", named=False)
    remove.add_argument("names", nargs="*", metavar="NAME", help="machines of the yard")
    remove.add_argument(
        "--batch",
        default="",
        metavar="BATCH",
        help="all machines that were cloned together; see yard show",
    )
    remove.add_argument("--with-disk", action="store_true", help="also remove their disks")
    remove.add_argument("--yes", action="store_true", help="do not ask for confirmation")
    _add_adopt(actions)


def _add(actions: Any, name: str, text: str, named: bool = True) -> Parser:
    action: Parser = actions.add_parser(name, help=text, description=text.capitalize() + ".")
    if named:
        action.add_argument("name", metavar="NAME", help="a machine of the yard")
    add_yard(action)
    action.add_general()
    return action


def _add_adopt(actions: Any) -> None:
    adopt = actions.add_parser(
        "adopt",
        help="add an existing machine: a disk image, or a template on the shelf",
        description=(
            "Adds a disk as a machine, with its seal record if it has one, and with its "
            "definition where one is given. NAME@VERSION turns a template into a machine "
            "again, to be patched and put back as a new version. With --domain the machine is one "
            "that libvirt knows, with all its disks."
        ),
    )
    adopt.add_argument(
        "image",
        type=Path,
        nargs="?",
        metavar="IMAGE|NAME@VERSION",
        help="a disk image, or a template on the shelf",
    )
    adopt.add_argument("--name", metavar="NAME", help="the machine's name (default: as defined)")
    adopt.add_argument(
        "--machine",
        type=Path,
        metavar="FILE",
        help="its definition: libvirt domain XML, OVF, or a machine.toml",
    )
    adopt.add_argument(
        "--domain", metavar="DOMAIN", help="instead of an image: a domain of libvirt that is off"
    )
    adopt.add_argument(
        "--connection",
        default="",
        metavar="URI",
        help="of libvirt, such as qemu:///system (default: libvirt\u2019s own)",
    )
    adopt.add_argument(
        "--in-place", action="store_true", help="keep the disk where it is instead of copying it"
    )
    add_host(adopt, "simulated")
    add_reach(adopt)
    add_yard(adopt)
    add_shelf(adopt)
    adopt.add_general()


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    from zeroseal.cli import show_machines as show
    from zeroseal.machines.yard import Yard
    from zeroseal.reports.machines_as_json import machine_to_json, yard_to_json

    yard = Yard(args.yard)
    match args.action:
        case "list":
            machines = yard.machines()
            ui.show(
                lambda: yard_to_json(machines),
                lambda out: show.show_machines(machines, args.yard, out),
            )
        case "show":
            return _show(args, ui, yard)
        case "adopt":
            machine = _adopt(args, yard)
            ui.show(lambda: machine_to_json(machine), lambda out: show.show_machine(machine, out))
        case "console":
            return _console(args, ui, yard)
        case "start" | "stop":
            _start_or_stop(args, ui, yard)
        case "describe":
            _describe(args, ui, yard)
        case "detach":
            machine = _detach(yard, args.name)
            ui.show(lambda: machine_to_json(machine), lambda out: show.show_machine(machine, out))
        case "snapshot" | "revert":
            _snapshot(args, ui, yard)
        case _:
            _remove(args, ui, yard)
    return 0


def _show(args: argparse.Namespace, ui: Ui, yard: Yard) -> int:
    from zeroseal.cli.show_machines import show_whole_machine
    from zeroseal.machines.hosts.choose import host_of
    from zeroseal.machines.readiness import assess_machine
    from zeroseal.machines.snapshots import list_snapshots
    from zeroseal.reports.machines_as_json import readiness_to_json, snapshots_to_json

    machine = yard.get(args.name)
    snapshots = [] if machine.state.running else list_snapshots(machine)
    readiness = assess_machine(machine, ui.progress)
    host = host_of(machine, yard, int(time.time()))
    addresses = host.addresses(machine) if machine.state.running else []
    ui.show(
        lambda: (
            snapshots_to_json(machine, snapshots)
            | {"readiness": readiness_to_json(readiness), "addresses": addresses}
        ),
        lambda out: show_whole_machine(machine, addresses, snapshots, readiness, out),
    )
    return 0


def _start_or_stop(args: argparse.Namespace, ui: Ui, yard: Yard) -> None:
    from dataclasses import replace

    from zeroseal.cli.show_machines import show_run
    from zeroseal.machines.definition import write_definition
    from zeroseal.machines.hosts.choose import host_of
    from zeroseal.reports.machines_as_json import run_to_json

    machine = yard.get(args.name)
    with yard.claimed(args.name):
        wanted = getattr(args, "other_host", None)
        if wanted and wanted != machine.definition.host:
            if machine.state.running:
                raise RefusedError(
                    messages.ALREADY_RUNNING_ON_HOST.format(
                        name=args.name, host=machine.definition.host
                    )
                )
            write_definition(machine.folder, replace(machine.definition, host=wanted))
            machine = yard.get(args.name)
        host = host_of(machine, yard, int(time.time()))
        if args.action == "start":
            done = host.start(machine, is_bound=False, progress=ui.progress)
        else:
            done = host.stop(machine, args.within, ui.progress)
    ui.show(lambda: run_to_json(done), lambda out: show_run(done, args.yard, out))


def _console(args: argparse.Namespace, ui: Ui, yard: Yard) -> int:
    from zeroseal.cli.console_view import showing_console

    machine = yard.get(args.name)
    if machine.definition.host == "simulated":
        raise UsageError(messages.NO_CONSOLE_ON_SIMULATED_HOST.format(name=args.name))
    with showing_console(args.yard, args.name, ui, wanted=True, from_start=True):
        while yard.get(args.name).state.running and _is_alive(args, yard):
            time.sleep(1.0)
    ui.tell(f"{args.name} is off; its console output ends here")
    return 0


def _is_alive(args: argparse.Namespace, yard: Yard) -> bool:
    from zeroseal.machines.hosts.choose import host_of

    machine = yard.get(args.name)
    return host_of(machine, yard, 0).is_running(machine)


def _detach(yard: Yard, name: str) -> YardMachine:
    from zeroseal.machines.definition import detach_seed

    machine = yard.get(name)
    yard.check_stopped(machine)
    with yard.claimed(name):
        detach_seed(machine.folder, machine.definition)
    return yard.get(name)


def _snapshot(args: argparse.Namespace, ui: Ui, yard: Yard) -> None:
    from zeroseal.cli.show_machines import show_snapshots
    from zeroseal.machines import snapshots
    from zeroseal.reports.machines_as_json import snapshots_to_json

    machine = yard.get(args.name)
    with yard.claimed(args.name):
        if args.action == "revert":
            question = f"Changes to the disk of {args.name} after {args.snapshot} will be lost."
            ui.ask(args.yes, question, args.name)
            snapshots.revert(machine, args.snapshot)
            said = f"is back at snapshot {args.snapshot}"
        elif args.drop:
            snapshots.drop(machine, args.snapshot)
            said = f"no longer has the snapshot {args.snapshot}"
        else:
            snapshots.take(machine, args.snapshot, args.purpose, int(time.time()))
            said = f"has the snapshot {args.snapshot}"
    listed = snapshots.list_snapshots(machine)
    ui.show(
        lambda: snapshots_to_json(machine, listed),
        lambda out: show_snapshots(machine, said, listed, out),
    )


def _remove(args: argparse.Namespace, ui: Ui, yard: Yard) -> None:
    """Removes one machine, several, or a whole batch; the shelf forgets those that are clones."""
    from zeroseal.cli.show_machines import show_removed
    from zeroseal.reports.machines_as_json import removals_to_json
    from zeroseal.templates.shelf.clone_links import forget_machine

    machines = [yard.get(name) for name in args.names]
    if args.batch:
        found = [item for item in yard.machines() if item.definition.batch == args.batch]
        if not found:
            raise MissingError(
                messages.NO_MACHINES_OF_BATCH.format(yard=args.yard, batch=args.batch)
            )
        machines += found
    if not machines:
        raise UsageError(messages.MACHINES_OR_BATCH_REQUIRED)
    for machine in machines:
        yard.check_stopped(machine)
    names = [machine.definition.name for machine in machines]
    what = (
        "The machines and their disks" if args.with_disk else "The machines, but not their disks,"
    )
    question = f"{what} will be removed: {', '.join(names)}."
    ui.ask(args.yes, question, args.batch or names[0])
    disks = []
    for machine in machines:
        with yard.claimed(machine.definition.name):
            if args.with_disk:
                forget_machine(machine)
            disks.append(yard.remove(machine.definition.name, args.with_disk))
    removed = list(zip(names, disks, strict=True))
    ui.show(lambda: removals_to_json(removed), lambda out: show_removed(removed, out))


def _describe(args: argparse.Namespace, ui: Ui, yard: Yard) -> None:
    from zeroseal.images.output import write_small_file
    from zeroseal.machines.definition_writers import build_definition_text
    from zeroseal.reports.as_json import head

    text = build_definition_text(yard.get(args.name), args.form)
    if args.output:
        write_small_file(args.output, text.encode())
        ui.tell(f"the definition of {args.name} was written to {args.output}")
        return
    ui.show(
        lambda: head("definition") | {"form": args.form, "text": text},
        lambda _out: ui.show_text(text),
    )


def _adopt(args: argparse.Namespace, yard: Yard) -> Any:
    from zeroseal.machines.adopt import Adoption, adopt_image
    from zeroseal.machines.definition_files import read_definition_file
    from zeroseal.templates.shelf.shelf import Shelf

    if bool(args.domain) == bool(args.image) or (args.domain and args.machine):
        raise UsageError(messages.IMAGE_OR_DOMAIN)
    definition = read_definition_file(args.machine) if args.machine else None
    if args.domain:
        from zeroseal.extras import extra

        with extra("libvirt", "a domain of libvirt"):
            from zeroseal.machines.hosts.libvirt.adopting import read_domain  # an extra

        definition = read_domain(args.connection, args.domain)
        args.image = Path(definition.disk)
    image, origin = args.image, ""
    if not image.exists() and "@" in str(image):
        template = Shelf(args.shelf).get(str(image))
        image, origin = template.disk, template.entry.title
        if args.in_place:
            raise UsageError(messages.TEMPLATE_STAYS_ON_SHELF)
    name = args.name or (definition.name if definition else "")
    if not name:
        raise UsageError(messages.MACHINE_NAME_REQUIRED)
    how = Adoption(
        definition,
        args.machine.parent if args.machine else Path(),
        args.in_place,
        origin,
        args.host or ("libvirt" if args.domain else "simulated"),
        reach_from(args),
    )
    return adopt_image(yard, image, name, how)
