"""What identifies a machine outside of its disk: its host knows it, and a guest may read it."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from pathlib import Path

from zeroseal.guests.identity_value import IdentityValue
from zeroseal.machines import FILE_NAME, TPM_FOLDER, VARIABLES_FILE
from zeroseal.machines.definition import MachineDefinition, read_machine_file
from zeroseal.machines.firmware_variables import read_boot_entries

_SHOWN_LETTERS = 12


def values_outside(definition: MachineDefinition, folder: Path) -> tuple[IdentityValue, ...]:
    """What a host gives one machine alone: numbers, addresses, a TPM, firmware variables, a seed.

    Args:
        definition: of the machine.
        folder: where its files lie.
    """
    return tuple(dict.fromkeys(_iter_values(definition, folder)))


def values_beside(image: Path) -> tuple[IdentityValue, ...]:
    """The same of the machine whose file lies beside its disk; nothing where there is none.

    Raises:
        DamagedError: the file cannot be understood.
    """
    path = image.parent / FILE_NAME
    if not path.is_file():
        return ()
    definition = read_machine_file(path)
    is_its_disk = (image.parent / definition.disk).resolve() == image.resolve()
    return values_outside(definition, image.parent) if is_its_disk else ()


def _iter_values(definition: MachineDefinition, folder: Path) -> Iterator[IdentityValue]:
    for label, value in (
        ("SMBIOS UUID", definition.uuid.lower()),
        ("SMBIOS serial number", definition.serial),
        ("generation ID", definition.generation_id.lower()),
    ):
        if value:
            yield IdentityValue(label, value)
    for card in definition.adapters:
        if card.mac:
            yield IdentityValue("MAC", card.mac.lower())
    for entry in read_boot_entries(folder / VARIABLES_FILE):
        if entry.mac:
            yield IdentityValue("MAC in firmware variables", entry.mac)
    for state in sorted((folder / TPM_FOLDER).glob("*.permall")):
        digest = hashlib.sha256(state.read_bytes()).hexdigest()
        yield IdentityValue("TPM state", f"hash {digest[:_SHOWN_LETTERS]}")
    seed = folder / definition.seed
    if definition.seed and seed.is_file():
        digest = hashlib.sha256(seed.read_bytes()).hexdigest()
        yield IdentityValue("seed medium", f"hash {digest[:_SHOWN_LETTERS]}")
