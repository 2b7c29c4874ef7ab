"""What identifies a machine outside of its disk: its host knows it, and a guest may read it."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from pathlib import Path

from zeroseal.guests.identity_value import IdentityValue
from zeroseal.machines import FILE_NAME
from zeroseal.machines.definition import MachineDefinition, read_machine_file

_SHOWN_LETTERS = 12


def values_outside(definition: MachineDefinition, folder: Path) -> tuple[IdentityValue, ...]:
    """The UUID of the machine, the addresses of its network cards, and its seed medium.

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
    if definition.uuid:
        yield IdentityValue("SMBIOS UUID", definition.uuid.lower())
    for card in definition.adapters:
        if card.mac:
            yield IdentityValue("MAC", card.mac.lower())
    seed = folder / definition.seed
    if definition.seed and seed.is_file():
        digest = hashlib.sha256(seed.read_bytes()).hexdigest()
        yield IdentityValue("seed medium", f"hash {digest[:_SHOWN_LETTERS]}")
