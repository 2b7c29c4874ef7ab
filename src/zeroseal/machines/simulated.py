"""The simulated host: starts and stops machines of a yard without running anything."""

from __future__ import annotations

import shutil
from dataclasses import dataclass
from pathlib import Path

from zeroseal.errors import RefusedError
from zeroseal.images.copying import copy_image_file
from zeroseal.machines.definition import MachineDefinition, new_mac, new_uuid, write_definition
from zeroseal.machines.disk_change import changed_disk
from zeroseal.machines.guest_life import GuestLife
from zeroseal.machines.seed import Seed, read_seed_medium
from zeroseal.machines.yard import MachineState, Yard, YardMachine
from zeroseal.sealing.record import record_path
from zeroseal.sealing.survey import read_image_facts

LABEL = "simulated"


@dataclass(frozen=True)
class Run:
    """What a start or stop on the simulated host did, as sentences."""

    machine: YardMachine
    told: tuple[str, ...]


def start_machine(yard: Yard, name: str, now: int) -> Run:
    """Does to a machine's disk what a boot would do.

    Raises:
        RefusedError: it is running.
        ImageError: its disk cannot be read, or a template that it hangs on is gone.
    """
    machine = yard.get(name)
    if machine.state.running:
        raise RefusedError(f"{name} is running already")
    seed = _seed_of(machine)
    with changed_disk(machine.disk, now) as subject:
        life = GuestLife(subject.opened.guest, now, machine.definition.mac, yard.lease, seed)
        life.start()
    yard.set_state(name, MachineState(True, machine.state.boots + 1, life.address))
    return Run(yard.get(name), tuple(life.told))


def stop_machine(yard: Yard, name: str, now: int) -> Run:
    """Does to a machine's disk what a shutdown would do.

    Raises:
        RefusedError: it is not running.
    """
    machine = yard.get(name)
    if not machine.state.running:
        raise RefusedError(f"{name} is not running")
    with changed_disk(machine.disk, now) as subject:
        life = GuestLife(subject.opened.guest, now, machine.definition.mac, yard.lease, None)
        life.stop()
    yard.set_state(name, MachineState(False, machine.state.boots))
    return Run(yard.get(name), tuple(life.told))


def adopt_machine(yard: Yard, image: Path, name: str) -> YardMachine:
    """Takes a copy of a disk into the yard as a machine, with its seal record if it has one.

    Raises:
        OutputExistsError: there is a machine of that name.
        ImageError: the image cannot be read.
    """
    source = read_image_facts(image)
    if source.other_files:
        raise RefusedError(
            f"{image} needs {source.other_files[0]} too: adopt a copy that is one whole file"
        )
    disk = f"disk.{source.format_name}"
    with yard.new_machine(name) as folder:
        copy_image_file(image, folder / disk)
        if record_path(image).is_file():
            shutil.copyfile(record_path(image), record_path(folder / disk))
        definition = MachineDefinition(name, new_uuid(), new_mac(yard.macs()), disk)
        write_definition(folder, definition)
    return yard.get(name)


def _seed_of(machine: YardMachine) -> Seed | None:
    if not machine.definition.seed:
        return None
    return read_seed_medium(machine.folder / machine.definition.seed)
