"""Finds what QEMU needs on this computer: the program, acceleration, UEFI firmware.

Source: QEMU, ``docs/interop/firmware.json``: firmware is described by JSON files in known folders.
"""

from __future__ import annotations

import json
import os
import re
import shutil
from dataclasses import dataclass
from pathlib import Path

from zeroseal.errors import MissingError
from zeroseal.messages import machines as messages

PROGRAM = "qemu-system-x86_64"
_WAY_OUT = "install QEMU (Debian: apt-get install qemu-system-x86 qemu-utils ovmf)"
_DESCRIPTION_FOLDERS = (
    "/etc/qemu/firmware",
    "/usr/local/share/qemu/firmware",
    "/usr/share/qemu/firmware",
)
_SECURE = {"requires-smm", "enrolled-keys", "secure-boot"}
_NOT_WANTED = {"requires-smm", "enrolled-keys"}


@dataclass(frozen=True)
class Firmware:
    """UEFI firmware: the code, and the variables that each machine gets a copy of.

    Attributes:
        is_secure: whether it has Secure Boot with the makers' keys enrolled.
    """

    code: Path
    variables: Path
    is_secure: bool = False


def find_program() -> str:
    """The path of QEMU.

    Raises:
        MissingError: it is not installed.
    """
    path = shutil.which(PROGRAM)
    if path is None:
        raise MissingError(messages.NOT_FOUND_ON_PATH.format(program=PROGRAM, way_out=_WAY_OUT))
    return path


def has_kvm() -> bool:
    """Whether this user may use the kernel's acceleration, and the processor really gives it.

    Seen in the wild: a ``/dev/kvm`` on a processor without virtualization, whose kernel emulates
    what the firmware does, so that a boot loader takes minutes to read its first file.
    """
    if not os.access("/dev/kvm", os.R_OK | os.W_OK):
        return False
    try:
        flags = Path("/proc/cpuinfo").read_text("utf-8", "replace")
    except OSError:
        return False
    return re.search(r"^flags\s*:.*\b(vmx|svm)\b", flags, re.MULTILINE) is not None


def find_firmware(is_secure: bool = False) -> Firmware:
    """UEFI firmware, from the descriptions that distributions install.

    Args:
        is_secure: with Secure Boot and the makers' keys enrolled; else with neither.

    Raises:
        MissingError: none is installed.
    """
    for folder in _DESCRIPTION_FOLDERS:
        for description in sorted(Path(folder).glob("*.json")):
            firmware = _parse_description(description, is_secure)
            if firmware and firmware.code.is_file() and firmware.variables.is_file():
                return firmware
    raise MissingError(messages.NO_UEFI_FIRMWARE_FOR_QEMU_FOUND.format(way_out=_WAY_OUT))


def _parse_description(path: Path, is_secure: bool) -> Firmware | None:
    try:
        value = json.loads(path.read_text("utf-8"))
        mapping = value["mapping"]
        fits = (
            "uefi" in value["interface-types"]
            and mapping["device"] == "flash"
            and any(target["architecture"] == "x86_64" for target in value["targets"])
            and _has_features(set(value["features"]), is_secure)
        )
        if not fits:
            return None
        return Firmware(
            Path(mapping["executable"]["filename"]),
            Path(mapping["nvram-template"]["filename"]),
            is_secure,
        )
    except (OSError, ValueError, KeyError, TypeError):
        return None


def _has_features(features: set[str], is_secure: bool) -> bool:
    return features >= _SECURE if is_secure else not _NOT_WANTED & features
