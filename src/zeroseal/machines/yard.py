"""The yard: the folder where machines live on this host, one folder a machine.

``NAME/machine.toml`` is its definition, the disk and seed medium lie beside it, ``NAME/state.json``
says whether it runs. ``network.json`` is the memory of the simulated network.
"""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Callable, Collection, Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass, replace
from ipaddress import IPv4Network
from pathlib import Path

from zeroseal.documents import WrongValueError, convert
from zeroseal.errors import (
    DamagedError,
    InUseError,
    MissingError,
    NoSpaceError,
    RefusedError,
    environment_error,
)
from zeroseal.images.locks import open_locked
from zeroseal.images.output import replace_small_file
from zeroseal.images.output_folder import OutputFolder, sweep_unfinished
from zeroseal.machines import FILE_NAME, TPM_FOLDER
from zeroseal.machines.batch import take_back_unfinished
from zeroseal.machines.definition import (
    MachineDefinition,
    check_new_folder,
    read_definition,
    write_definition,
)
from zeroseal.messages import machines as messages

STATE_FILE = "state.json"
NETWORK_FILE = "network.json"
_RECORD_SUFFIX = ".seal.json"
NETWORK = IPv4Network("192.0.2.0/24")  # RFC 5737: for documentation
_FIRST_ADDRESS = 41


@dataclass(frozen=True)
class MachineState:
    """What is true of a machine now.

    Attributes:
        boots: how often it was started.
        address: that the simulated network gave it, or its own static one.
        pid, ssh_port: of its QEMU, while it runs there.
        unfinished: why its build did not end well; empty where it did.
    """

    running: bool = False
    boots: int = 0
    address: str = ""
    pid: int = 0
    ssh_port: int = 0
    unfinished: str = ""


@dataclass(frozen=True)
class YardMachine:
    """One machine of a yard."""

    folder: Path
    definition: MachineDefinition
    state: MachineState

    @property
    def disk(self) -> Path:
        """Its disk."""
        return self.folder / self.definition.disk


class Yard:
    """A folder of machines; a folder that is not there yet is an empty yard."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        if folder.exists() and not folder.is_dir():
            raise MissingError(messages.NOT_FOLDER.format(folder=folder))

    def machines(self) -> list[YardMachine]:
        """All machines, by name."""
        if not self.folder.is_dir():
            return []
        take_back_unfinished(self.folder)
        found = sorted(path.parent for path in self.folder.glob(f"[!.]*/{FILE_NAME}"))
        return [self._read(folder) for folder in found]

    def get(self, name: str) -> YardMachine:
        """The machine of that name.

        Raises:
            MissingError: there is none; names those that are there.
        """
        take_back_unfinished(self.folder)
        if (self.folder / name / FILE_NAME).is_file() and "/" not in name:
            return self._read(self.folder / name)
        names = ", ".join(machine.definition.name for machine in self.machines())
        raise MissingError(
            messages.NO_SUCH_MACHINE.format(
                folder=self.folder, name=name, names=names or "no machines"
            )
        )

    def macs(self) -> set[str]:
        """The MACs that are taken."""
        return {card.mac for machine in self.machines() for card in machine.definition.adapters}

    def next_name(
        self, prefix: str, first: int, last: int, digits: int, taken: Collection[str] = ()
    ) -> str:
        """The first name with a number that nothing in the yard has, and that is not ``taken``.

        Raises:
            NoSpaceError: all are taken.
        """
        for number in range(first, last + 1):
            name = f"{prefix}{number:0{digits}}"
            if name not in taken and not (self.folder / name).exists():
                return name
        raise NoSpaceError(
            messages.NO_MACHINE_NUMBER_LEFT.format(
                folder=self.folder, first=first, last=last, prefix=prefix
            )
        )

    @contextmanager
    def claimed(self, name: str) -> Iterator[None]:
        """Keeps other commands off a machine that is being built or changed.

        Raises:
            InUseError: another command is at work on it.
        """
        path = self.folder / f".{name}.claim"
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            descriptor = open_locked(path)
        except OSError as error:
            raise environment_error(error, self.folder, "writing to") from error
        if descriptor is None:
            raise InUseError(messages.MACHINE_LOCKED.format(name=name, folder=self.folder))
        try:
            yield
        finally:
            path.unlink(missing_ok=True)
            os.close(descriptor)

    @contextmanager
    def new_machine(self, name: str, make_room: Callable[[], None] | None = None) -> Iterator[Path]:
        """Gives a hidden folder to fill, which becomes the machine's when all went well.

        Args:
            name: of the new machine.
            make_room: called last, where a machine of that name gives way.

        Raises:
            OutputExistsError: there is a machine of that name, and it does not give way.
        """
        if self.folder.is_dir():
            sweep_unfinished(self.folder)
        with OutputFolder(self.folder / name, gives_way=make_room is not None) as output:
            try:
                yield output.path
                if make_room:
                    make_room()
            except OSError as error:
                raise environment_error(error, output.final, "writing") from error
            output.commit()

    def remove(self, name: str, with_disk: bool) -> Path | None:
        """Removes a machine; returns its disk, which stays unless ``with_disk``.

        Raises:
            RefusedError: it runs.
        """
        machine = self.get(name)
        self.check_stopped(machine)
        try:
            # without its machine file it is no machine any more, whatever comes next
            (machine.folder / FILE_NAME).unlink()
            if with_disk:
                shutil.rmtree(machine.folder)
                return None
            kept = {machine.disk.name, *map(str, machine.definition.more_disks)}
            for path in machine.folder.iterdir():
                if path.name == TPM_FOLDER:
                    shutil.rmtree(path)
                elif path.name not in kept and not path.name.endswith(_RECORD_SUFFIX):
                    path.unlink()
        except OSError as error:
            raise environment_error(error, machine.folder, "removing") from error
        return machine.disk

    def check_stopped(self, machine: YardMachine) -> None:
        """Raises RefusedError where a machine runs."""
        name = machine.definition.name
        if machine.state.running:
            raise RefusedError(messages.STOP_MACHINE_FIRST.format(name=name))

    def rename(self, name: str, new_name: str) -> None:
        """Gives a machine that does not run another name.

        Raises:
            OutputExistsError: that name is taken.
        """
        machine = self.get(name)
        check_new_folder(self.folder / new_name)
        try:
            machine.folder.rename(self.folder / new_name)
        except OSError as error:
            raise environment_error(error, machine.folder, "renaming") from error
        write_definition(self.folder / new_name, replace(machine.definition, name=new_name))

    def set_state(self, name: str, state: MachineState) -> None:
        """Remembers what is true of a machine."""
        write_state(self.folder / name, state)

    def lease(self, client: str) -> str:
        """The address that the simulated network gives a client; the same client, the same address.

        Raises:
            NoSpaceError: all addresses are given.
        """
        path = self.folder / NETWORK_FILE
        leases = _read_json(path) if path.is_file() else {}
        if client not in leases:
            taken = set(leases.values())
            hosts = [str(address) for address in NETWORK.hosts()][_FIRST_ADDRESS - 1 :]
            free = next((address for address in hosts if address not in taken), None)
            if free is None:
                raise NoSpaceError(messages.NO_FREE_ADDRESS.format(network=NETWORK))
            leases[client] = free
            _replace_json(path, leases)
        return str(leases[client])

    def _read(self, folder: Path) -> YardMachine:
        path = folder / STATE_FILE
        value = _read_json(path) if path.is_file() else {}
        try:
            state = convert(value, MachineState)
        except WrongValueError as error:
            raise DamagedError(messages.MACHINE_STATE_UNREADABLE.format(path=path)) from error
        return YardMachine(folder, read_definition(folder), state)


def write_state(folder: Path, state: MachineState) -> None:
    """Writes what is true of the machine of this folder."""
    _replace_json(folder / STATE_FILE, asdict(state))


def _read_json(path: Path) -> dict[str, object]:
    try:
        value = json.loads(path.read_text("utf-8"))
    except (OSError, ValueError) as error:
        raise DamagedError(messages.SNAPSHOTS_UNREADABLE.format(path=path, error=error)) from error
    if not isinstance(value, dict):
        raise DamagedError(messages.MACHINE_STATE_UNREADABLE.format(path=path))
    return value


def _replace_json(path: Path, value: object) -> None:
    """Writes a file whole or not at all; it says who runs what, and is its owner's only."""
    replace_small_file(path, (json.dumps(value, indent=1) + "\n").encode(), mode=0o600)
