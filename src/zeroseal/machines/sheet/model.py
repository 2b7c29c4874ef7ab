"""Every key of a build sheet; ``docs/build-sheet.md`` describes them for people."""

from __future__ import annotations

import re
from collections.abc import Callable
from ipaddress import ip_address, ip_interface
from typing import Annotated, Literal

import msgspec
from msgspec import Meta

from zeroseal.documents import Table, WrongValueError
from zeroseal.messages import machines as messages

NAME_PATTERN = r"^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?\Z"
ACCOUNT_PATTERN = r"^[a-z_][a-z0-9_.-]{0,31}\Z"
MAC_PATTERN = r"^[0-9a-f]{2}(:[0-9a-f]{2}){5}\Z"
_PATH_PATTERN = r"^/[^\x00]+\Z"
_DAY_SECONDS = 86_400


def check_each(key: str, values: tuple[str, ...], check: Callable[[str], object]) -> None:
    """Checks each value of a list.

    Raises:
        WrongValueError: a check raised ValueError; names the value's place.
    """
    for number, value in enumerate(values):
        try:
            check(value)
        except ValueError as error:
            raise WrongValueError((key, number), str(error)) from None


def check_interface(value: str) -> None:
    """Raises ValueError where an address with its prefix is none."""
    ip_interface(value)
    if "/" not in value:
        raise ValueError(messages.ADDRESS_WITHOUT_PREFIX)


Seconds = Annotated[int, Meta(ge=1, le=_DAY_SECONDS)]
MebiBytes = Annotated[int, Meta(ge=1, le=1 << 26)]


class NumberRange(Table, frozen=True):
    """Names with a number, of which the next free one is taken: ``prefix`` and so many digits."""

    prefix: Annotated[str, Meta(pattern=r"^[a-z0-9][a-z0-9-]{0,50}\Z")]
    first: Annotated[int, Meta(ge=0)] = 1
    last: Annotated[int, Meta(ge=0, le=999_999)] = 99
    digits: Annotated[int, Meta(ge=1, le=6)] = 2


class NetworkTable(Table, frozen=True):
    """The machine's one network card; ``vlan`` 0 is none."""

    mac: Annotated[str, Meta(pattern=MAC_PATTERN + r"|^\Z")] = ""
    model: Literal["virtio", "e1000", "e1000e", "rtl8139", "vmxnet3"] = "virtio"
    network: str = "user"
    vlan: Annotated[int, Meta(ge=0, le=4094)] = 0
    connected: bool = True


class MachineSettings(Table, frozen=True):
    """The machine's hardware and name."""

    name: Annotated[str, Meta(pattern=NAME_PATTERN + r"|^\Z")] = ""
    numbers: NumberRange | None = None
    host: Literal["qemu", "libvirt", "simulated"] = "qemu"
    connection: Annotated[str, Meta(max_length=200)] = ""
    notes: str = ""
    cpus: Annotated[int, Meta(ge=1, le=256)] = 1
    cpu_model: Annotated[str, Meta(pattern=r"^[A-Za-z0-9_.-]*\Z")] = ""
    memory_mib: Annotated[int, Meta(ge=64, le=1 << 24)] = 1024
    disk_mib: MebiBytes | None = None
    disk_bus: Literal["virtio", "sata", "scsi", "nvme"] = "virtio"
    more_disks_mib: Annotated[tuple[MebiBytes, ...], Meta(max_length=8)] = ()
    firmware: Literal["bios", "uefi"] = "uefi"
    secure_boot: bool = False
    tpm: bool = False
    boot_order: tuple[Literal["disk", "medium", "network"], ...] = ("disk",)
    serial_console: bool = True
    display: Literal["none", "vga", "virtio"] = "none"
    network: NetworkTable = NetworkTable()
    devices: tuple[Literal["sound", "usb", "tablet", "floppy", "watchdog"], ...] = ()
    restart: Literal["never", "after-shutdown"] = "never"

    def __post_init__(self) -> None:
        if bool(self.name) == bool(self.numbers):
            raise ValueError(messages.GIVE_EITHER_NAME_OR_NUMBERS)
        if self.secure_boot and self.firmware != "uefi":
            raise ValueError(messages.SECURE_BOOT_NEEDS_UEFI)


class KeyPress(Table, frozen=True):
    """Keys to press at the boot prompt: ``keys`` are QEMU's names, ``text`` is typed."""

    wait_seconds: Annotated[int, Meta(ge=0, le=3600)] = 0
    keys: tuple[str, ...] = ()
    text: Annotated[str, Meta(pattern=r"^[\x20-\x7e]*\Z")] = ""


class Medium(Table, frozen=True):
    """A medium that is attached for the build: an ISO image beside the sheet (or absolute)."""

    path: Annotated[str, Meta(min_length=1)]
    sha256: Annotated[str, Meta(pattern=r"^[0-9a-f]{64}\Z|^\Z")] = ""


class AnswerFile(Table, frozen=True):
    """A file that an installer reads under ``name``: on a medium of its own, or in the initrd."""

    path: Annotated[str, Meta(min_length=1)]
    name: Annotated[str, Meta(pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]{0,62}\Z")]
    label: Annotated[str, Meta(pattern=r"^[A-Za-z0-9_]{1,16}\Z")] = "ANSWERS"
    place: Literal["medium", "initrd"] = "medium"


class Origin(Table, frozen=True):
    """What the disk begins as: a base disk, or an empty one and an installation medium."""

    base_disk: str = ""
    base_format: Literal["", "raw", "qcow2", "vmdk", "vhdx", "vhd", "vdi", "ova"] = ""
    sha256: Annotated[str, Meta(pattern=r"^[0-9a-f]{64}\Z|^\Z")] = ""
    sha512: Annotated[str, Meta(pattern=r"^[0-9a-f]{128}\Z|^\Z")] = ""
    checksums: str = ""
    install: Medium | None = None
    kernel: str = ""
    initrd: str = ""
    kernel_arguments: str = ""
    answers: AnswerFile | None = None
    media: Annotated[tuple[Medium, ...], Meta(max_length=4)] = ()
    press: tuple[KeyPress, ...] = ()
    install_seconds: Seconds = 7200
    install_quiet_seconds: Seconds = 1800

    def __post_init__(self) -> None:
        sums = [self.sha256, self.sha512, self.checksums]
        if bool(self.base_disk) == bool(self.install or self.kernel):
            raise ValueError(messages.ORIGIN_REQUIRED)
        if self.base_disk and sum(map(bool, sums)) != 1:
            raise ValueError(messages.CHECKSUM_REQUIRED)
        if self.initrd and not self.kernel:
            raise ValueError(messages.INITRD_NEEDS_KERNEL)
        if self.answers and self.answers.place == "initrd" and not self.initrd:
            raise ValueError(messages.ANSWERS_NEED_INITRD)


class SeedUser(Table, frozen=True):
    """An account that the first boot creates; a ``throwaway`` one is removed by every seal."""

    name: Annotated[str, Meta(pattern=ACCOUNT_PATTERN)]
    full_name: Annotated[str, Meta(pattern=r"^[^:\n]*\Z")] = ""
    public_keys: tuple[str, ...] = ()
    password: str = ""
    password_hash: Annotated[str, Meta(pattern=r"^[^:\n]*\Z")] = "!"
    admin: bool = False
    throwaway: bool = False


class SeedNetwork(Table, frozen=True):
    """How the first boot configures the network: DHCP, or fixed addresses."""

    addresses: tuple[str, ...] = ()
    gateways: tuple[str, ...] = ()
    name_servers: tuple[str, ...] = ()
    search: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        check_each("addresses", self.addresses, check_interface)
        check_each("gateways", self.gateways, ip_address)
        check_each("name_servers", self.name_servers, ip_address)


class SeedSettings(Table, frozen=True):
    """What the first boot is told."""

    host_name: Annotated[str, Meta(pattern=NAME_PATTERN + r"|^\Z")] = ""
    domain: Annotated[str, Meta(pattern=r"^[a-z0-9.-]*\Z")] = ""
    root_password_hash: Annotated[str, Meta(pattern=r"^[^:\n]*\Z")] = ""
    users: tuple[SeedUser, ...] = ()
    network: SeedNetwork = SeedNetwork()
    packages: tuple[str, ...] = ()
    time_zone: Annotated[str, Meta(pattern=r"^[A-Za-z0-9_+/-]*\Z")] = ""
    locale: Annotated[str, Meta(pattern=r"^[A-Za-z0-9_.@-]*\Z")] = ""
    commands: tuple[str, ...] = ()


class Until(Table, frozen=True):
    """When a repeated task is done: its output matches, or its exit status is this."""

    output: str = ""
    status: Annotated[int, Meta(ge=0, le=255)] | None = None
    at_most: Annotated[int, Meta(ge=1, le=100)] = 5
    reboot_between: bool = False

    def __post_init__(self) -> None:
        try:
            re.compile(self.output)
        except re.error as error:
            raise WrongValueError(("output",), f"not a valid regular expression: {error}") from None
        if not self.output and self.status is None:
            raise ValueError(messages.GIVE_OUTPUT_OR_STATUS)


class CopiedFile(Table, frozen=True):
    """A file beside the sheet, and where it goes in the guest."""

    source: Annotated[str, Meta(min_length=1)]
    target: Annotated[str, Meta(pattern=_PATH_PATTERN)]
    mode: Annotated[str, Meta(pattern=r"^0?[0-7]{3,4}\Z")] = "0644"


class Task(Table, frozen=True):
    """One step inside the running guest: exactly one of copy, run, script, reboot and wait."""

    name: Annotated[str, Meta(min_length=1, max_length=80)]
    run: str = ""
    script: str = ""
    file: CopiedFile | None = msgspec.field(default=None, name="copy")
    reboot: bool = False
    wait_seconds: Annotated[int, Meta(ge=0, le=3600)] = 0
    as_root: bool = True
    timeout_seconds: Seconds = 1800
    patch: bool = False
    until: Until | None = None

    def __post_init__(self) -> None:
        wanted = [self.run, self.script, self.file, self.reboot, self.wait_seconds]
        if sum(map(bool, wanted)) != 1:
            raise ValueError(messages.TASK_ACTION_REQUIRED)
        if self.until and not (self.run or self.script):
            raise ValueError(messages.UNTIL_NEEDS_RUN_OR_SCRIPT)


class Leave(Table, frozen=True):
    """How the machine is left when it is built; ``must`` are commands that have to succeed."""

    must: tuple[str, ...] = ()
    detach_media: bool = True
    shutdown_seconds: Seconds = 300


class Accept(Table, frozen=True):
    """What must hold on a clone."""

    services: tuple[str, ...] = ()
    commands: tuple[str, ...] = ()
    no_failed_units: bool = True


class Connection(Table, frozen=True):
    """How tasks reach the guest."""

    by: Literal["ssh", "agent"] = "ssh"
    within_seconds: Seconds = 900


class UsedFile(Table, frozen=True):
    """A file that comes to be in use, on the simulated host; ``deleted`` ones go again."""

    path: Annotated[str, Meta(pattern=_PATH_PATTERN)]
    text: str
    owner: str = "root"
    repeat: Annotated[int, Meta(ge=1, le=100_000)] = 1
    deleted: bool = False


class Use(Table, frozen=True):
    """What some weeks of use leave, on the simulated host."""

    days: Annotated[int, Meta(ge=0, le=3650)] = 0
    visitor: str = ""
    swap_text: str = ""
    files: tuple[UsedFile, ...] = ()


class SimulatedAnswer(Table, frozen=True):
    """What a command answers on the simulated host: one ``output`` a run, the last one stays."""

    run: Annotated[str, Meta(min_length=1)]
    output: tuple[str, ...] = ("",)
    status: Annotated[int, Meta(ge=0, le=255)] = 0
    installs: dict[str, str] = msgspec.field(default_factory=dict)


class Simulated(Table, frozen=True):
    """How the simulated host answers, and which faults it has."""

    answers: tuple[SimulatedAnswer, ...] = ()
    faults: tuple[Literal["never-up", "never-off", "restarts", "dies"], ...] = ()


class BuildSheet(Table, frozen=True):
    """A whole sheet."""

    version: Literal[1]
    machine: MachineSettings
    origin: Origin
    seed: SeedSettings = SeedSettings()
    connect: Connection = Connection()
    task: tuple[Task, ...] = ()
    leave: Leave = Leave()
    on_copy: tuple[Task, ...] = ()
    accept: Accept = Accept()
    use: Use = Use()
    simulated: Simulated = Simulated()

    @property
    def throwaway_accounts(self) -> tuple[str, ...]:
        """The accounts that a seal always removes."""
        return tuple(user.name for user in self.seed.users if user.throwaway)

    def __post_init__(self) -> None:
        needs_shell = self.task or self.on_copy or self.leave.must
        if needs_shell and self.machine.host != "simulated" and self.connect.by == "ssh":
            admins = [user for user in self.seed.users if user.throwaway and user.admin]
            if len(admins) != 1:
                raise ValueError(messages.SSH_ACCOUNT_REQUIRED)
