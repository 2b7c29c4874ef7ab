"""How machines, clones and the shelf look on a terminal."""

from __future__ import annotations

from pathlib import Path

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from zeroseal.blocks.sizes import size_text
from zeroseal.cli import look
from zeroseal.cli.ui import clean
from zeroseal.machines.simulated import Run
from zeroseal.machines.yard import YardMachine
from zeroseal.templates.shelf import Template, sealed_on

SIMULATED = "on the simulated host: nothing was run, this proves nothing about a real guest"


def show_built(machine: YardMachine, yard: Path, console: Console) -> None:
    """A machine that was built."""
    name = machine.definition.name
    look.headline(console, "Built", "bold", f" {name} {SIMULATED}.")
    look.facts(console, _rows(machine))
    look.next_step(console, "Look what identity is on it now:", f"zeroseal survey {machine.disk}")
    console.print(f"  zeroseal yard list --yard {yard}", soft_wrap=True)


def show_machine(machine: YardMachine, console: Console) -> None:
    """One machine."""
    look.headline(console, machine.definition.name, "bold", f"  {_state(machine)}")
    look.facts(console, _rows(machine))


def show_machines(machines: list[YardMachine], yard: Path, console: Console) -> None:
    """All machines of a yard."""
    if not machines:
        console.print(f"The yard {yard} has no machines yet.")
        look.next_step(console, "Make one:", f"zeroseal build SHEET --yard {yard}")
        return
    count = len(machines)
    rest = f" in {yard}, on the simulated host"
    look.headline(console, f"{count} machine{'' if count == 1 else 's'}", "bold", rest)
    _table(
        console,
        ("name", "state", "starts", "address", "MAC", "made from"),
        [
            (
                item.definition.name,
                "running" if item.state.running else "stopped",
                str(item.state.boots),
                item.state.address or "-",
                item.definition.mac,
                _made_from(item),
            )
            for item in machines
        ],
    )


def show_run(run: Run, console: Console) -> None:
    """What a start or stop did."""
    name = run.machine.definition.name
    word = "Started" if run.machine.state.running else "Stopped"
    look.headline(console, word, "bold", f" {name} {SIMULATED}.")
    told = list(run.told)
    if run.machine.state.address:
        told.append(f"the network gave it {run.machine.state.address}")
    look.bullets(console, told)


def show_clones(clones: list[YardMachine], folder: Path, console: Console) -> None:
    """Machines that were made from a template."""
    count = len(clones)
    kind = "linked" if clones[0].definition.linked else "full"
    rest = f" of {clones[0].definition.template} in {folder}"
    look.headline(console, f"{count} {kind} clone{'' if count == 1 else 's'}", "bold", rest)
    _table(
        console,
        ("name", "MAC", "machine UUID", "disk"),
        [
            (
                item.definition.name,
                item.definition.mac,
                item.definition.uuid,
                f"{item.definition.disk}, {size_text(item.disk.stat().st_size)}",
            )
            for item in clones
        ],
    )
    notes = ["Attach seed.iso for the first start: it gives each clone its name. Detach it later."]
    if clones[0].definition.linked:
        notes.append("Linked clones are lost if the template is changed, moved or removed.")
    look.bullets(console, notes)
    first = clones[0].definition.name
    look.next_step(
        console, "Start one on the simulated host:", f"zeroseal yard start {first} --yard {folder}"
    )


def show_shelf(templates: list[Template], shelf: Path, console: Console) -> None:
    """All templates of a shelf."""
    if not templates:
        console.print(f"The shelf {shelf} is empty.")
        command = f"zeroseal shelf add IMAGE --name NAME --version VERSION --shelf {shelf}"
        look.next_step(console, "Put a sealed image on it:", command)
        return
    count = len(templates)
    look.headline(console, f"{count} template{'' if count == 1 else 's'}", "bold", f" on {shelf}")
    _table(
        console,
        ("template", "system", "disk", "sealed", "notes"),
        [
            (
                item.entry.title,
                item.entry.system,
                size_text(item.entry.size_bytes),
                sealed_on(item.entry),
                item.entry.notes or "-",
            )
            for item in templates
        ],
    )


def show_template(template: Template, shelf: Path, console: Console) -> None:
    """One template."""
    entry = template.entry
    look.headline(console, entry.title, "bold", f"  {entry.system}")
    look.facts(
        console,
        [
            ("disk", f"{template.disk} ({entry.format_name}, {size_text(entry.size_bytes)})"),
            ("sealed", sealed_on(entry)),
            ("digest", entry.digest),
            ("notes", entry.notes or "none"),
        ],
    )
    command = f"zeroseal clone {entry.title} --shelf {shelf} --name NAME --to YARD"
    look.next_step(console, "Make machines from it:", command)


def _rows(machine: YardMachine) -> list[tuple[str, str]]:
    definition = machine.definition
    rows = [
        ("disk", str(machine.disk)),
        ("hardware", f"{definition.cpus} CPU, {definition.memory_mib} MiB, {definition.firmware}"),
        ("MAC", definition.mac),
        ("UUID", definition.uuid),
    ]
    if definition.template:
        rows.append(("made from", _made_from(machine)))
    if definition.seed:
        rows.append(("seed", f"{machine.folder / definition.seed} (attached)"))
    if definition.notes:
        rows.append(("notes", definition.notes))
    return rows


def _state(machine: YardMachine) -> str:
    boots = machine.state.boots
    word = "running" if machine.state.running else "stopped"
    return f"{word}, started {boots} time{'' if boots == 1 else 's'} (simulated)"


def _made_from(machine: YardMachine) -> str:
    definition = machine.definition
    linked = ", linked" if definition.linked else ""
    return definition.template + linked if definition.template else "-"


def _table(console: Console, titles: tuple[str, ...], rows: list[tuple[str, ...]]) -> None:
    table = Table.grid(padding=(0, 2 if console.width >= 100 else 1))
    for title in titles:
        table.add_column(no_wrap=title != titles[-1])
    table.add_row(*(Text(title, style=look.QUIET_STYLE) for title in titles))
    for row in rows:
        table.add_row(*(Text(clean(value)) for value in row))
    console.print(Padding(table, (0, 0, 0, 2), expand=False))
