"""The yard: the folder where machines live on this host, one folder a machine.

``NAME/machine.toml`` is its definition, the disk and seed medium lie beside it, ``NAME/state.json``
says whether it runs. ``network.json`` is the memory of the simulated network.
"""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from ipaddress import IPv4Network
from pathlib import Path

from zeroseal.errors import DamagedError, MissingError, NoSpaceError, environment_error
from zeroseal.machines.definition import (
    FILE_NAME,
    MachineDefinition,
    check_new_folder,
    read_definition,
)

STATE_FILE = "state.json"
NETWORK_FILE = "network.json"
NETWORK = IPv4Network("192.0.2.0/24")  # RFC 5737: for documentation
_FIRST_ADDRESS = 41


@dataclass(frozen=True)
class MachineState:
    """Whether a machine runs; ``boots`` counts its starts on the simulated host."""

    running: bool = False
    boots: int = 0
    address: str = ""


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
            raise MissingError(f"{folder} is no folder: name the yard's folder with --yard")

    def machines(self) -> list[YardMachine]:
        """All machines, by name."""
        if not self.folder.is_dir():
            return []
        found = sorted(path.parent for path in self.folder.glob(f"[!.]*/{FILE_NAME}"))
        return [self._read(folder) for folder in found]

    def get(self, name: str) -> YardMachine:
        """The machine of that name.

        Raises:
            MissingError: there is none; names those that are there.
        """
        if (self.folder / name / FILE_NAME).is_file() and "/" not in name:
            return self._read(self.folder / name)
        names = ", ".join(machine.definition.name for machine in self.machines())
        raise MissingError(
            f"the yard {self.folder} has no machine {name!r}; it has {names or 'none'}"
        )

    def macs(self) -> set[str]:
        """The MACs that are taken."""
        return {machine.definition.mac for machine in self.machines()}

    @contextmanager
    def new_machine(self, name: str) -> Iterator[Path]:
        """Gives a hidden folder to fill, which becomes the machine's when all went well.

        Raises:
            OutputExistsError: there is a machine of that name.
        """
        final = self.folder / name
        check_new_folder(final)
        hidden = self.folder / f".{name}.{os.getpid()}.part"
        try:
            hidden.mkdir(parents=True)
        except OSError as error:
            raise environment_error(error, self.folder, "writing to") from error
        try:
            yield hidden
            hidden.rename(final)
        except OSError as error:
            raise environment_error(error, final, "writing") from error
        finally:
            shutil.rmtree(hidden, ignore_errors=True)

    def set_state(self, name: str, state: MachineState) -> None:
        """Remembers whether a machine runs."""
        value = {"running": state.running, "boots": state.boots, "address": state.address}
        _replace_json(self.folder / name / STATE_FILE, value)

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
                raise NoSpaceError(f"the simulated network {NETWORK} has no address left")
            leases[client] = free
            _replace_json(path, leases)
        return str(leases[client])

    def _read(self, folder: Path) -> YardMachine:
        path = folder / STATE_FILE
        value = _read_json(path) if path.is_file() else {}
        state = MachineState(
            running=bool(value.get("running")),
            boots=int(str(value.get("boots", 0))),
            address=str(value.get("address", "")),
        )
        return YardMachine(folder, read_definition(folder), state)


def _read_json(path: Path) -> dict[str, object]:
    try:
        value = json.loads(path.read_text("utf-8"))
    except (OSError, ValueError) as error:
        raise DamagedError(f"{path} cannot be understood: {error}") from error
    if not isinstance(value, dict):
        raise DamagedError(f"{path} cannot be understood")
    return value


def _replace_json(path: Path, value: object) -> None:
    temporary = path.with_name(f".{path.name}.part")
    try:
        temporary.write_text(json.dumps(value, indent=1) + "\n")
        temporary.replace(path)
    except OSError as error:
        raise environment_error(error, path, "writing") from error
