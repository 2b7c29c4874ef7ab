"""The machine file: hardware and wiring of one machine, in TOML."""

from __future__ import annotations

import secrets
import tomllib
import uuid
from collections.abc import Iterable
from dataclasses import dataclass, fields, is_dataclass, replace
from pathlib import Path
from typing import Any

from zeroseal.documents import WrongValueError, convert, toml_value
from zeroseal.errors import DamagedError, MissingError, OutputExistsError, environment_error
from zeroseal.images.output import replace_small_file
from zeroseal.machines import FILE_NAME
from zeroseal.messages import machines as messages

_VERSION = 2
SEED_MEDIUM, INSTALL_MEDIUM, OTHER_MEDIUM = "seed", "install", "other"


@dataclass(frozen=True)
class NetworkCard:
    """A network card; ``network`` names what it is plugged into, ``vlan`` 0 is untagged."""

    mac: str
    model: str = "virtio"
    network: str = "user"
    vlan: int = 0
    connected: bool = True


@dataclass(frozen=True)
class AttachedMedium:
    """A medium in a drive: a file beside the machine file, or an absolute path."""

    path: str
    purpose: str = OTHER_MEDIUM


@dataclass(frozen=True)
class Hardware:
    """What a machine is made of, without anything that makes it itself.

    Attributes:
        disk_bytes: how large its disk is to be; 0 where nobody says.
        tpm: whether it has a TPM, whose state is no part of it.
        secure_boot: whether its UEFI firmware only starts signed loaders.
    """

    cpus: int = 1
    memory_mib: int = 1024
    firmware: str = "uefi"
    disk_bus: str = "virtio"
    card_model: str = "virtio"
    disk_bytes: int = 0
    tpm: bool = False
    secure_boot: bool = False


@dataclass(frozen=True)
class MachineDefinition:
    """One machine.

    Attributes:
        uuid: the SMBIOS UUID; guests may derive their machine ID from it.
        disk: file name of the disk that it boots from, beside the machine file or absolute.
        disk_bus: ``virtio``, ``sata``, ``scsi`` or ``nvme``; for the further disks too.
        boot_order: of ``disk``, ``medium`` and ``network``.
        secure_boot: whether its UEFI firmware only starts signed loaders.
        tpm: whether it has a TPM of its own; the state lies in its folder, in ``TPM_FOLDER``.
        serial: the SMBIOS serial number; empty for the host's own.
        generation_id: tells a guest that it went back or was copied; empty for none.
        devices: those that a server does not need, such as ``sound``.
        restart: ``never``, or ``after-shutdown`` where the host starts it again.
        host: ``qemu``, ``libvirt`` or ``simulated``: where it is started.
        connection: of libvirt, by its URI; empty for libvirt's own default.
        agent: whether it has the channel of the QEMU guest agent.
        addresses: static ones that it was given, each with its prefix.
        template: what it was cloned from, empty for what was built or adopted.
        template_folder: where that lay on its shelf; empty for an image that lay on none.
        template_digest: of the template's disk when it was cloned.
        batch: what it was made together with.
        linked: whether its disk hangs on the template's.
        throwaway_accounts: those of the build, which a seal always removes.
        sheet: the build sheet, with ``variant`` and the ``settings`` laid over it; empty for none.
        built_from: digest of what the sheet asked for.
        unknown: what the definition it was adopted from has and this file has no word for.
        kept_elements: those elements of a libvirt domain as they stand there, and
            ``kept_devices`` those of its devices; a domain that is written has them again.
    """

    name: str
    uuid: str
    disk: str
    adapters: tuple[NetworkCard, ...] = ()
    media: tuple[AttachedMedium, ...] = ()
    more_disks: tuple[str, ...] = ()
    disk_bus: str = "virtio"
    cpus: int = 1
    cpu_model: str = ""
    memory_mib: int = 1024
    firmware: str = "uefi"
    secure_boot: bool = False
    tpm: bool = False
    serial: str = ""
    generation_id: str = ""
    boot_order: tuple[str, ...] = ("disk",)
    serial_console: bool = True
    display: str = "none"
    devices: tuple[str, ...] = ()
    agent: bool = True
    restart: str = "never"
    host: str = "simulated"
    connection: str = ""
    addresses: tuple[str, ...] = ()
    template: str = ""
    template_folder: str = ""
    template_digest: str = ""
    batch: str = ""
    linked: bool = False
    throwaway_accounts: tuple[str, ...] = ()
    sheet: str = ""
    variant: str = ""
    settings: tuple[str, ...] = ()
    built_from: str = ""
    unknown: tuple[str, ...] = ()
    kept_elements: tuple[str, ...] = ()
    kept_devices: tuple[str, ...] = ()
    notes: str = ""

    @property
    def mac(self) -> str:
        """The MAC of the first network card; empty for none."""
        return self.adapters[0].mac if self.adapters else ""

    @property
    def seed(self) -> str:
        """The path of the attached seed medium; empty for none."""
        return next((item.path for item in self.media if item.purpose == SEED_MEDIUM), "")

    def without_media(self) -> MachineDefinition:
        """The same machine with nothing in its drives, booting from its disk."""
        return replace(self, media=(), boot_order=("disk",))


def new_uuid() -> str:
    """A random machine UUID."""
    return str(uuid.uuid4())


def detach_seed(folder: Path, definition: MachineDefinition) -> MachineDefinition:
    """Takes a machine's seed medium off for good: it would seed the next machine alike.

    Its file goes too where it lies beside the machine file; elsewhere it is not ours.

    Raises:
        MissingError: none is attached.
        UnfinishedError: the folder cannot be written to.
    """
    if not definition.seed:
        raise MissingError(messages.NO_SEED_MEDIUM_ATTACHED.format(name=definition.name))
    media = tuple(item for item in definition.media if item.purpose != SEED_MEDIUM)
    detached = replace(definition, media=media)
    write_definition(folder, detached)
    if Path(definition.seed).name != definition.seed:
        return detached
    try:
        (folder / definition.seed).unlink(missing_ok=True)
    except OSError as error:
        raise environment_error(error, folder / definition.seed, "removing") from error
    return detached


def new_mac(taken: Iterable[str]) -> str:
    """A random, locally administered MAC that is not taken."""
    known = set(taken)
    while True:
        mac = "02:" + ":".join(f"{byte:02x}" for byte in secrets.token_bytes(5))
        if mac not in known:
            return mac


def build_definition(machine: MachineDefinition) -> str:
    """The machine file's text."""
    lines, tables = [f"version = {_VERSION}"], []
    for item in fields(machine):
        value = getattr(machine, item.name)
        if isinstance(value, tuple) and value and is_dataclass(value[0]):
            tables += [line for entry in value for line in _table(item.name, entry)]
        elif value != item.default or item.name in ("name", "uuid", "disk"):
            lines.append(f"{item.name} = {toml_value(value)}")
    return "\n".join([*lines, *tables]) + "\n"


def write_definition(folder: Path, machine: MachineDefinition) -> None:
    """Writes the machine file into its folder; an older one is replaced at once."""
    replace_small_file(folder / FILE_NAME, build_definition(machine).encode(), mode=0o600)


def read_definition(folder: Path) -> MachineDefinition:
    """Reads the machine file of a folder.

    Raises:
        DamagedError: it is not what we write.
    """
    return read_machine_file(folder / FILE_NAME)


def read_machine_file(path: Path) -> MachineDefinition:
    """Reads a machine file.

    Raises:
        MissingError: it is not there.
        DamagedError: it is not what we write; names the key.
    """
    try:
        document = tomllib.loads(path.read_text("utf-8"))
        version = document.pop("version", None)
        if version == 1:
            document = _from_first_version(document)
        elif version != _VERSION:
            raise ValueError(messages.ANOTHER_VERSION)
        _move_tpm(document)
        return convert(document, MachineDefinition, only_known=True)
    except FileNotFoundError as error:
        raise MissingError(messages.MACHINE_FILE_NOT_FOUND.format(path=path)) from error
    except WrongValueError as error:
        raise DamagedError(
            messages.MACHINE_FILE_KEY_WRONG.format(path=path, key=error.key)
        ) from None
    except (OSError, ValueError) as error:
        raise DamagedError(
            messages.MACHINE_FILE_UNREADABLE.format(path=path, error=error)
        ) from error


def check_new_folder(folder: Path) -> None:
    """Raises OutputExistsError where a machine of that name is already."""
    if folder.exists():
        raise OutputExistsError(messages.ALREADY_EXISTS.format(folder=folder))


def _table(name: str, entry: Any) -> list[str]:
    lines = ["", f"[[{name}]]"]
    for item in fields(entry):
        lines.append(f"{item.name} = {toml_value(getattr(entry, item.name))}")
    return lines


def _move_tpm(document: dict[str, Any]) -> None:
    """What older releases wrote: a TPM among the devices."""
    devices = document.get("devices")
    if isinstance(devices, list) and "tpm" in devices:
        devices.remove("tpm")
        document["tpm"] = True


def _from_first_version(document: dict[str, Any]) -> dict[str, Any]:
    """What the first releases wrote: one MAC and one seed medium, as plain keys."""
    mac, seed = document.pop("mac", ""), document.pop("seed", "")
    if mac:
        document["adapters"] = [{"mac": mac}]
    if seed:
        document["media"] = [{"path": seed, "purpose": SEED_MEDIUM}]
    return document
