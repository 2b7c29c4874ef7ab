"""The machine file: hardware and wiring of one machine, in a few lines of TOML."""

from __future__ import annotations

import json
import secrets
import tomllib
import uuid
from collections.abc import Iterable
from dataclasses import asdict, dataclass, fields
from pathlib import Path

from zeroseal.errors import DamagedError, OutputExistsError
from zeroseal.images.output import write_small_file

FILE_NAME = "machine.toml"
_VERSION = 1


@dataclass(frozen=True)
class MachineDefinition:
    """One machine.

    Attributes:
        uuid: the SMBIOS UUID; guests may derive their machine ID from it.
        mac: of its one network card, locally administered.
        disk: file name of the disk, beside the machine file.
        seed: file name of the seed medium, empty for none.
        template: what it was cloned from, empty for what was built or adopted.
        linked: whether its disk hangs on the template's.
    """

    name: str
    uuid: str
    mac: str
    disk: str
    cpus: int = 1
    memory_mib: int = 1024
    firmware: str = "uefi"
    seed: str = ""
    template: str = ""
    linked: bool = False
    notes: str = ""


def new_uuid() -> str:
    """A random machine UUID."""
    return str(uuid.uuid4())


def new_mac(taken: Iterable[str]) -> str:
    """A random, locally administered MAC that is not taken."""
    known = set(taken)
    while True:
        mac = "02:" + ":".join(f"{byte:02x}" for byte in secrets.token_bytes(5))
        if mac not in known:
            return mac


def write_definition(folder: Path, machine: MachineDefinition) -> None:
    """Writes the machine file into its folder."""
    lines = [f"version = {_VERSION}"]
    # a TOML basic string and a JSON string without control characters are the same text
    lines += [f"{key} = {json.dumps(value)}" for key, value in asdict(machine).items()]
    write_small_file(folder / FILE_NAME, ("\n".join(lines) + "\n").encode())


def read_definition(folder: Path) -> MachineDefinition:
    """Reads the machine file of a folder.

    Raises:
        DamagedError: it is not what we write.
    """
    path = folder / FILE_NAME
    try:
        document = tomllib.loads(path.read_text("utf-8"))
        if document.pop("version") != _VERSION:
            raise ValueError("it is of another version")
        types = {field.name: field.type for field in fields(MachineDefinition)}
        for key, value in document.items():
            if types.get(key) != type(value).__name__:
                raise ValueError(f"key {key}")
        return MachineDefinition(**document)
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise DamagedError(f"{path} is no machine file that can be understood: {error}") from error


def check_new_folder(folder: Path) -> None:
    """Raises OutputExistsError where a machine of that name is already."""
    if folder.exists():
        raise OutputExistsError(f"{folder} exists already: choose another name, or remove it first")
