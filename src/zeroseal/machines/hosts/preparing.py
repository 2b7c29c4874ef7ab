"""What a start needs on this computer, whichever host does it: media, firmware, a free port."""

from __future__ import annotations

import shutil
import socket
from pathlib import Path

from zeroseal.errors import MissingError, environment_error
from zeroseal.machines import VARIABLES_FILE
from zeroseal.machines.definition import MachineDefinition
from zeroseal.machines.hosts.qemu.programs import Firmware, find_firmware
from zeroseal.machines.hosts.tpm import find_tpm_program
from zeroseal.machines.yard import YardMachine
from zeroseal.messages import machines as messages


def check_files(machine: YardMachine) -> None:
    """Whether the firmware and the media of a machine are there.

    Raises:
        MissingError: one is not.
    """
    if machine.definition.firmware == "uefi":
        find_firmware(machine.definition.secure_boot)
    if machine.definition.tpm:
        find_tpm_program()
    for medium in machine.definition.media:
        if not (machine.folder / medium.path).is_file():
            raise MissingError(
                messages.MEDIUM_NOT_FOUND.format(path=medium.path, name=machine.definition.name)
            )


def give_firmware(folder: Path, definition: MachineDefinition) -> Firmware | None:
    """The firmware of a machine, with variables of its own; None for BIOS.

    Raises:
        MissingError: it is not installed.
    """
    if definition.firmware != "uefi":
        return None
    firmware, target = find_firmware(definition.secure_boot), folder / VARIABLES_FILE
    if not target.exists():
        try:
            shutil.copyfile(firmware.variables, target)
        except OSError as error:
            raise environment_error(error, target, "writing") from error
    return firmware


def find_free_port() -> int:
    """A port of the loopback address that nothing listens on."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])
