"""How machines, clones and the shelf look on a terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console

from zeroseal.blocks.sizes import size_text
from zeroseal.cli import render
from zeroseal.machines.snapshots import MachineSnapshot, noted_names
from zeroseal.sentences import clean, counted

if TYPE_CHECKING:
    from pathlib import Path

    from zeroseal.machines.hosts.host import Run
    from zeroseal.machines.readiness import MachineReadiness
    from zeroseal.machines.yard import YardMachine

HOST_TITLES = {"qemu": "on QEMU", "libvirt": "on libvirt"}
SIMULATED = "on the simulated host: nothing was run, so this proves nothing about a real guest"


def show_machine(machine: YardMachine, console: Console) -> None:
    """One machine."""
    render.headline(console, machine.definition.name, "bold", f"  {_state(machine)}")
    render.facts(console, machine_rows(machine))


def show_whole_machine(
    machine: YardMachine,
    addresses: list[str],
    snapshots: list[MachineSnapshot],
    readiness: MachineReadiness,
    console: Console,
) -> None:
    """One machine, its snapshots, and whether it is fit to be sealed."""
    from zeroseal.cli.show_builds import show_readiness

    show_machine(machine, console)
    if addresses:
        render.facts(console, [("addresses", ", ".join(addresses))])
    if snapshots:
        render.section(console, "Snapshots")
        _snapshot_table(snapshots, console)
    show_readiness(readiness, console)


def show_snapshots(
    machine: YardMachine, said: str, snapshots: list[MachineSnapshot], console: Console
) -> None:
    """What became of a machine's snapshots."""
    render.headline(console, machine.definition.name, "bold", f" {clean(said)}.")
    _snapshot_table(snapshots, console)


def show_removed(removed: list[tuple[str, Path | None]], console: Console) -> None:
    """Machines that are no more."""
    if len(removed) > 1:
        stay = "their disks stay" if removed[0][1] else "with their disks"
        render.headline(console, "Removed", "bold", f" {len(removed)} machines, {stay}.")
        render.items(console, [str(disk or name) for name, disk in removed])
        return
    name, disk = removed[0]
    rest = f" {name} and its disk." if disk is None else f" {name}; its disk stays: {disk}"
    render.headline(console, "Removed", "bold", rest)


def show_machines(machines: list[YardMachine], yard: Path, console: Console) -> None:
    """All machines of a yard."""
    if not machines:
        console.print(f"The yard {yard} has no machines yet.")
        render.next_step(console, "Make one:", f"zeroseal build SHEET --yard {yard}")
        return
    count = len(machines)
    render.headline(console, counted(count, "machine"), "bold", f" in {yard}")
    render.table(
        console,
        ("name", "state", "host", "address", "disk", "snapshots", "made from"),
        [
            (
                item.definition.name,
                _short_state(item),
                item.definition.host,
                item.state.address or "-",
                size_text(item.disk.stat().st_size) if item.disk.is_file() else "gone",
                str(len(noted_names(item)) or "-"),
                _made_from(item),
            )
            for item in machines
        ],
    )


def show_run(run: Run, yard: Path, console: Console) -> None:
    """What a start or stop did."""
    name = run.machine.definition.name
    word = "Started" if run.machine.state.running else "Stopped"
    where = SIMULATED if run.is_simulated else HOST_TITLES[run.machine.definition.host]
    render.headline(console, word, "bold", f" {name} {where}.")
    messages = list(run.messages)
    if run.machine.state.address:
        messages.append(f"its address is {run.machine.state.address}")
    render.bullets(console, messages)
    if run.machine.state.running and not run.is_simulated:
        command = f"zeroseal yard console {name} --yard {yard}"
        render.next_step(console, "Watch it start:", command)


def machine_rows(machine: YardMachine) -> list[tuple[str, str]]:
    """The facts of a machine."""
    definition = machine.definition
    rows = [
        ("disk", str(machine.disk)),
        ("hardware", render.hardware_text(definition)),
    ]
    for card in definition.adapters:
        vlan = f", VLAN {card.vlan}" if card.vlan else ""
        state = "" if card.connected else ", not connected"
        rows.append(("network", f"{card.mac}, {card.model} on {card.network}{vlan}{state}"))
    rows.append(("UUID", definition.uuid))
    if definition.template:
        rows.append(("made from", _made_from(machine)))
    if definition.batch:
        rows.append(("batch", definition.batch))
    if definition.sheet:
        variant = f", variant {definition.variant}" if definition.variant else ""
        rows.append(("sheet", definition.sheet + variant))
    if definition.throwaway_accounts:
        names = ", ".join(definition.throwaway_accounts)
        rows.append(("build account", f"{names}, which every seal removes"))
    for medium in definition.media:
        rows.append(("medium", f"{machine.folder / medium.path} (attached)"))
    if machine.state.ssh_port:
        rows.append(("SSH", f"127.0.0.1 port {machine.state.ssh_port}"))
    if definition.notes:
        rows.append(("notes", definition.notes))
    return rows


def _state(machine: YardMachine) -> str:
    boots = machine.state.boots
    host = HOST_TITLES.get(machine.definition.host, "simulated")
    return f"{_short_state(machine)}, started {counted(boots, 'time')} ({host})"


def _short_state(machine: YardMachine) -> str:
    if machine.state.running:
        return "running"
    return "unfinished" if machine.state.unfinished else "stopped"


def _snapshot_table(snapshots: list[MachineSnapshot], console: Console) -> None:
    rows: list[tuple[str, ...]] = [
        (item.name, item.taken_on, item.purpose or "-") for item in snapshots
    ]
    if rows:
        render.table(console, ("snapshot", "taken", "purpose"), rows)


def _made_from(machine: YardMachine) -> str:
    definition = machine.definition
    linked = ", linked" if definition.linked else ""
    return definition.template + linked if definition.template else "-"
