"""Every key of a build sheet; ``docs/build-sheet.md`` describes them for people."""

from __future__ import annotations

import re
from ipaddress import ip_address, ip_interface
from typing import Annotated, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, model_validator

NAME_PATTERN = r"^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$"
ACCOUNT_PATTERN = r"^[a-z_][a-z0-9_.-]{0,31}$"
MAC_PATTERN = r"^[0-9a-f]{2}(:[0-9a-f]{2}){5}$"
_PATH_PATTERN = r"^/[^\x00]+$"
_DAY_SECONDS = 86_400


def _regular_expression(value: str) -> str:
    try:
        re.compile(value)
    except re.error as error:
        raise ValueError(f"no regular expression: {error}") from error
    return value


def _interface(value: str) -> str:
    ip_interface(value)
    if "/" not in value:
        raise ValueError("write the address with its prefix, such as 192.0.2.10/24")
    return value


def _address(value: str) -> str:
    ip_address(value)
    return value


Pattern = Annotated[str, AfterValidator(_regular_expression)]
Address = Annotated[str, AfterValidator(_address)]
InterfaceAddress = Annotated[str, AfterValidator(_interface)]
Seconds = Annotated[int, Field(ge=1, le=_DAY_SECONDS)]
MebiBytes = Annotated[int, Field(ge=1, le=1 << 26)]


class Table(BaseModel):
    """A table of a sheet: unknown keys are errors, values are not converted."""

    model_config = ConfigDict(defer_build=True, extra="forbid", frozen=True, strict=True)


class NumberRange(Table):
    """Names with a number, of which the next free one is taken: ``prefix`` and so many digits."""

    prefix: str = Field(pattern=r"^[a-z0-9][a-z0-9-]{0,50}$")
    first: int = Field(default=1, ge=0)
    last: int = Field(default=99, ge=0, le=999_999)
    digits: int = Field(default=2, ge=1, le=6)


class NetworkCard(Table):
    """The machine's one network card; ``vlan`` 0 is none."""

    mac: str = Field(default="", pattern=MAC_PATTERN + r"|^$")
    model: Literal["virtio", "e1000", "e1000e", "rtl8139", "vmxnet3"] = "virtio"
    network: str = "user"
    vlan: int = Field(default=0, ge=0, le=4094)
    connected: bool = True


class MachineSettings(Table):
    """The machine's hardware and name."""

    name: str = Field(default="", pattern=NAME_PATTERN + r"|^$")
    numbers: NumberRange | None = None
    host: Literal["qemu", "simulated"] = "qemu"
    notes: str = ""
    cpus: int = Field(default=1, ge=1, le=256)
    cpu_model: str = Field(default="", pattern=r"^[A-Za-z0-9_.-]*$")
    memory_mib: int = Field(default=1024, ge=64, le=1 << 24)
    disk_mib: MebiBytes | None = None
    disk_bus: Literal["virtio", "sata", "scsi", "nvme"] = "virtio"
    more_disks_mib: list[MebiBytes] = Field(default=[], max_length=8)
    firmware: Literal["bios", "uefi"] = "uefi"
    boot_order: list[Literal["disk", "medium", "network"]] = ["disk"]
    serial_console: bool = True
    display: Literal["none", "vga", "virtio"] = "none"
    network: NetworkCard = NetworkCard()
    devices: list[Literal["sound", "usb", "tablet", "floppy", "tpm", "watchdog"]] = []
    restart: Literal["never", "after-shutdown"] = "never"

    @model_validator(mode="after")
    def _has_one_name(self) -> MachineSettings:
        if bool(self.name) == bool(self.numbers):
            raise ValueError("give either a name or numbers")
        return self


class KeyPress(Table):
    """Keys to press at the boot prompt: ``keys`` are QEMU's names, ``text`` is typed."""

    wait_seconds: int = Field(default=0, ge=0, le=3600)
    keys: list[str] = []
    text: str = Field(default="", pattern=r"^[\x20-\x7e]*$")


class Medium(Table):
    """A medium that is attached for the build: an ISO image beside the sheet (or absolute)."""

    path: str = Field(min_length=1)
    sha256: str = Field(default="", pattern=r"^[0-9a-f]{64}$|^$")


class AnswerFile(Table):
    """A file that an installer reads, put on a medium of its own under ``name``."""

    path: str = Field(min_length=1)
    name: str = Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$")
    label: str = Field(default="ANSWERS", pattern=r"^[A-Za-z0-9_]{1,16}$")


class Origin(Table):
    """What the disk begins as: a base disk, or an empty one and an installation medium."""

    base_disk: str = ""
    base_format: Literal["", "raw", "qcow2", "vmdk", "vhdx", "vhd", "vdi", "ova"] = ""
    sha256: str = Field(default="", pattern=r"^[0-9a-f]{64}$|^$")
    sha512: str = Field(default="", pattern=r"^[0-9a-f]{128}$|^$")
    checksums: str = ""
    install: Medium | None = None
    kernel: str = ""
    initrd: str = ""
    kernel_arguments: str = ""
    answers: AnswerFile | None = None
    media: list[Medium] = Field(default=[], max_length=4)
    press: list[KeyPress] = []
    install_seconds: Seconds = 7200

    @model_validator(mode="after")
    def _is_one_kind(self) -> Origin:
        sums = [self.sha256, self.sha512, self.checksums]
        if bool(self.base_disk) == bool(self.install or self.kernel):
            raise ValueError("give either a base_disk, or an install medium or kernel")
        if self.base_disk and sum(map(bool, sums)) != 1:
            raise ValueError("a base_disk needs one of sha256, sha512 and checksums")
        if self.initrd and not self.kernel:
            raise ValueError("an initrd needs a kernel")
        return self


class SeedUser(Table):
    """An account that the first boot creates; a ``throwaway`` one is removed by every seal."""

    name: str = Field(pattern=ACCOUNT_PATTERN)
    full_name: str = Field(default="", pattern=r"^[^:\n]*$")
    public_keys: list[str] = []
    password: str = ""
    password_hash: str = Field(default="!", pattern=r"^[^:\n]*$")
    admin: bool = False
    throwaway: bool = False


class SeedNetwork(Table):
    """How the first boot configures the network: DHCP, or fixed addresses."""

    addresses: list[InterfaceAddress] = []
    gateways: list[Address] = []
    name_servers: list[Address] = []
    search: list[str] = []


class SeedSettings(Table):
    """What the first boot is told."""

    host_name: str = Field(default="", pattern=NAME_PATTERN + r"|^$")
    domain: str = Field(default="", pattern=r"^[a-z0-9.-]*$")
    root_password_hash: str = Field(default="", pattern=r"^[^:\n]*$")
    users: list[SeedUser] = []
    network: SeedNetwork = SeedNetwork()
    packages: list[str] = []
    time_zone: str = Field(default="", pattern=r"^[A-Za-z0-9_+/-]*$")
    locale: str = Field(default="", pattern=r"^[A-Za-z0-9_.@-]*$")
    commands: list[str] = []


class Until(Table):
    """When a repeated task is done: its output matches, or its exit status is this."""

    output: Pattern = ""
    status: int | None = Field(default=None, ge=0, le=255)
    at_most: int = Field(default=5, ge=1, le=100)
    reboot_between: bool = False

    @model_validator(mode="after")
    def _has_an_end(self) -> Until:
        if not self.output and self.status is None:
            raise ValueError("give output or status")
        return self


class CopiedFile(Table):
    """A file beside the sheet, and where it goes in the guest."""

    source: str = Field(min_length=1)
    target: str = Field(pattern=_PATH_PATTERN)
    mode: str = Field(default="0644", pattern=r"^0?[0-7]{3,4}$")


class Task(Table):
    """One step inside the running guest: exactly one of copy, run, script, reboot and wait."""

    name: str = Field(min_length=1, max_length=80)
    run: str = ""
    script: str = ""
    file: CopiedFile | None = Field(default=None, alias="copy")
    reboot: bool = False
    wait_seconds: int = Field(default=0, ge=0, le=3600)
    as_root: bool = True
    timeout_seconds: Seconds = 1800
    patch: bool = False
    until: Until | None = None

    @model_validator(mode="after")
    def _does_one_thing(self) -> Task:
        wanted = [self.run, self.script, self.file, self.reboot, self.wait_seconds]
        if sum(map(bool, wanted)) != 1:
            raise ValueError("give exactly one of run, script, copy, reboot and wait_seconds")
        if self.until and not (self.run or self.script):
            raise ValueError("only run and script can be repeated with until")
        return self


class Leave(Table):
    """How the machine is left when it is built; ``must`` are commands that have to succeed."""

    must: list[str] = []
    detach_media: bool = True
    shutdown_seconds: Seconds = 300


class Accept(Table):
    """What must hold on a clone."""

    services: list[str] = []
    commands: list[str] = []
    no_failed_units: bool = True


class Connection(Table):
    """How tasks reach the guest."""

    by: Literal["ssh", "agent"] = "ssh"
    within_seconds: Seconds = 900


class UsedFile(Table):
    """A file that comes to be in use, on the simulated host; ``deleted`` ones go again."""

    path: str = Field(pattern=_PATH_PATTERN)
    text: str
    owner: str = "root"
    repeat: int = Field(default=1, ge=1, le=100_000)
    deleted: bool = False


class Use(Table):
    """What some weeks of use leave, on the simulated host."""

    days: int = Field(default=0, ge=0, le=3650)
    visitor: str = ""
    swap_text: str = ""
    files: list[UsedFile] = []


class SimulatedAnswer(Table):
    """What a command answers on the simulated host: one ``output`` a run, the last one stays."""

    run: str = Field(min_length=1)
    output: list[str] = [""]
    status: int = Field(default=0, ge=0, le=255)
    installs: dict[str, str] = {}


class Simulated(Table):
    """How the simulated host answers, and which faults it has."""

    answers: list[SimulatedAnswer] = []
    faults: list[Literal["never-up", "never-off", "restarts", "dies"]] = []


class BuildSheet(Table):
    """A whole sheet."""

    version: Literal[1]
    machine: MachineSettings
    origin: Origin
    seed: SeedSettings = SeedSettings()
    connect: Connection = Connection()
    task: list[Task] = []
    leave: Leave = Leave()
    on_copy: list[Task] = []
    accept: Accept = Accept()
    use: Use = Use()
    simulated: Simulated = Simulated()

    @property
    def throwaway_accounts(self) -> tuple[str, ...]:
        """The accounts that a seal always removes."""
        return tuple(user.name for user in self.seed.users if user.throwaway)

    @model_validator(mode="after")
    def _can_be_reached(self) -> BuildSheet:
        needs_shell = self.task or self.on_copy or self.leave.must
        if needs_shell and self.machine.host == "qemu" and self.connect.by == "ssh":
            admins = [user for user in self.seed.users if user.throwaway and user.admin]
            if len(admins) != 1:
                raise ValueError(
                    "tasks over SSH need one account in seed.users with admin and throwaway"
                )
        return self
