"""Who a Windows is, and how its next start would go: read from its registry, nothing is changed."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from enum import Enum

from zeroseal.errors import ZeroSealError
from zeroseal.guests.registry import value_types
from zeroseal.guests.registry.paths import Registry
from zeroseal.guests.system import SystemFacts
from zeroseal.guests.windows.accounts import WindowsAccount, read_accounts, read_machine_sid
from zeroseal.guests.windows.sids import MachineSid

FAMILY = "windows"
CURRENT = "SOFTWARE\\Microsoft\\Windows\\CurrentVersion"
VERSION = "SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion"
TCPIP = "SYSTEM\\CSn\\Services\\Tcpip\\Parameters"
COMPUTER_NAME = "SYSTEM\\CSn\\Control\\ComputerName\\ComputerName"
NEUTRAL_COMPUTER_NAME = "UNNAMED"
_SETUP = "SYSTEM\\Setup"
_FIRST_OF_ELEVEN = 22000  # builds from here on are Windows 11, whatever the product name says
_SYSTEM_PROFILES = ("S-1-5-18", "S-1-5-19", "S-1-5-20")
_SYSTEM_FOLDERS = ("windows", "program files", "program files (x86)", "programdata", "boot", "efi")
SHARED_PROFILES = ("default", "public", "all users", "default user", "defaultapppool")
_PEOPLE = ("S-1-5-21-", "S-1-12-1-")  # local and domain accounts, and those of a cloud directory

# (pattern of a key, what is pending): marks of a restart are keys without content, of the others
# only a key that holds something says that work is under way
_SERVICING = f"{CURRENT}\\Component Based Servicing"
_PENDING_MARKS = (
    (f"{_SERVICING}\\RebootPending", "a restart after servicing"),
    (f"{CURRENT}\\WindowsUpdate\\Auto Update\\RebootRequired", "a restart after updates"),
)
_PENDING_WORK = (
    (f"{_SERVICING}\\PackagesPending", "packages that are partly installed"),
    ("SYSTEM\\Setup\\Upgrade", "an upgrade in progress"),
    ("SYSTEM\\Setup\\MoSetup\\Volatile", "an upgrade in progress"),
)
SERVICING_PLAN = "/Windows/WinSxS/pending.xml"
_SESSION = "SYSTEM\\CSn\\Control\\Session Manager"
_RENAMES = "PendingFileRenameOperations*"


class FirstStart(Enum):
    """How the next start goes, by the state of set-up."""

    PLAIN = "not resealed: no setup pass gives it a new identity"
    RESEALED = "resealed by Windows' own generalize pass: its next start gives it a new identity"
    AUDIT = "resealed for audit mode: its next start logs the administrator in without asking"
    BETWEEN = "setup is between two passes: finish it in the guest"
    UNKNOWN = "its setup state is not recorded: start the machine once and shut it down"

    @property
    def makes_identity(self) -> bool:
        """Whether the next start gives the machine a new security identifier."""
        return self in (FirstStart.RESEALED, FirstStart.AUDIT)


@dataclass(frozen=True)
class WindowsProfile:
    """The profile of a person: whose, and the folder as the guest sees it."""

    sid: str
    folder: str

    @property
    def name(self) -> str:
        """The name of its folder."""
        return self.folder.rpartition("/")[2]

    @property
    def has_own_folder(self) -> bool:
        """Whether its folder can be one person's: none of the system's, none that holds those."""
        parts = self.folder.lower().strip("/").split("/")
        return (
            len(parts) > 1
            and ".." not in parts
            and parts[0] not in _SYSTEM_FOLDERS
            and parts[-1] not in SHARED_PROFILES
        )


@dataclass(frozen=True)
class WindowsIdentity:
    """What is one machine's own.

    Attributes:
        sid: the machine's security identifier, which those of its accounts begin with.
        machine_guid: by which much software tells machines apart.
        update_id: by which an update server does.
        accounts: the local ones, by their relative identifiers.
        profiles: those of people.
        domain: that it has joined; empty in a workgroup.
        pending: what it has yet to do, half-sentences.
    """

    sid: str = ""
    machine_guid: str = ""
    update_id: str = ""
    accounts: tuple[WindowsAccount, ...] = ()
    profiles: tuple[WindowsProfile, ...] = ()
    first_start: FirstStart = FirstStart.UNKNOWN
    image_state: str = ""
    domain: str = ""
    pending: tuple[str, ...] = ()

    def sid_of(self, account: WindowsAccount) -> str:
        """The security identifier of a local account."""
        return f"{self.sid}-{account.rid}"


NO_IDENTITY = WindowsIdentity()


@dataclass(frozen=True)
class WindowsFacts:
    """What a Windows says of itself.

    Attributes:
        volume: the name of the volume that it lies on.
        host_name: its computer name; empty where its registry does not say.
        identity: what else is its own.
        problem: why the registry could not be read; empty where it could.
    """

    volume: str
    name: str = "Windows"
    build: str = ""
    host_name: str = ""
    identity: WindowsIdentity = NO_IDENTITY
    problem: str = ""

    @property
    def system(self) -> SystemFacts:
        """The same, as every guest tells it."""
        return SystemFacts(FAMILY, self.name, FAMILY, self.build, self.host_name)


def read_windows(registry: Registry, volume: str, plan: bool = False) -> WindowsFacts:
    """Reads what a registry says of its system; what cannot be read is reported, not raised.

    Args:
        registry: the hives.
        volume: the name of the volume that it lies on.
        plan: whether servicing left a plan for the next start (``SERVICING_PLAN``).
    """
    facts = WindowsFacts(volume)
    try:
        build = read_text(registry, VERSION, "CurrentBuild")
        name = read_text(registry, VERSION, "ProductName") or facts.name
        if build.isdigit() and int(build) >= _FIRST_OF_ELEVEN:
            name = name.replace("Windows 10", "Windows 11")
        facts = WindowsFacts(
            volume, name, build, read_text(registry, COMPUTER_NAME, "ComputerName")
        )
        return replace(facts, identity=read_identity(registry, plan))
    except ZeroSealError as error:
        return replace(facts, problem=error.message)


def read_identity(registry: Registry, plan: bool = False) -> WindowsIdentity:
    """Reads all of it; what is not there is empty.

    Raises:
        ImageError, RefusedError: a hive cannot be read.
    """
    state = read_text(registry, f"{CURRENT}\\Setup\\State", "ImageState")
    sid = read_machine_sid(registry)
    return WindowsIdentity(
        sid=sid.text if sid else "",
        machine_guid=read_text(registry, "SOFTWARE\\Microsoft\\Cryptography", "MachineGuid"),
        update_id=read_text(registry, f"{CURRENT}\\WindowsUpdate", "SusClientId"),
        accounts=tuple(read_accounts(registry)),
        profiles=tuple(read_profiles(registry)),
        first_start=_first_start(registry, state),
        image_state=state,
        domain=_domain(registry, sid),
        pending=tuple(_iter_pending(registry, plan)),
    )


def read_profiles(registry: Registry) -> list[WindowsProfile]:
    """The profiles of people; those of services and of the system are left out."""
    return [
        WindowsProfile(profile.sid, profile.folder)
        for profile in registry.profiles()
        if profile.sid not in _SYSTEM_PROFILES and profile.sid.startswith(_PEOPLE)
    ]


def read_text(registry: Registry, pattern: str, name: str) -> str:
    """The text of the first value that is there; empty where none is."""
    for _key, value in registry.values(pattern, name):
        text = value_types.typed(value)
        if isinstance(text, str):
            return text
    return ""


def read_number(registry: Registry, pattern: str, name: str) -> int:
    """The number of the first value that is there; 0 where none is."""
    for _key, value in registry.values(pattern, name):
        number = value_types.typed(value)
        if isinstance(number, int):
            return number
    return 0


def _first_start(registry: Registry, state: str) -> FirstStart:
    in_setup = any(
        read_number(registry, _SETUP, name) for name in ("SystemSetupInProgress", "OOBEInProgress")
    )
    if state == "IMAGE_STATE_COMPLETE":
        return FirstStart.BETWEEN if in_setup else FirstStart.PLAIN
    if state == "IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE":
        return FirstStart.RESEALED
    if state == "IMAGE_STATE_GENERALIZE_RESEAL_TO_AUDIT":
        return FirstStart.AUDIT
    return FirstStart.BETWEEN if state or in_setup else FirstStart.UNKNOWN


def _domain(registry: Registry, own: MachineSid | None) -> str:
    """The domain that the machine has joined: by the network's settings, or by the policy."""
    name = read_text(registry, TCPIP, "Domain")
    if name:
        return name
    for _found, value in registry.values("SECURITY\\Policy\\PolPrDmS", ""):
        sid = MachineSid.parse(value.data[:24])
        if sid is not None and sid != own:
            return sid.text
    return ""


def _iter_pending(registry: Registry, plan: bool) -> Iterator[str]:
    """What servicing, updates, upgrades and renames have left to the next start."""
    marks = [what for key, what in _PENDING_MARKS if any(True for _key in registry.find(key))]
    work = [what for key, what in _PENDING_WORK if _has_content(registry, key)]
    yield from dict.fromkeys(marks + work)
    if plan:
        yield "a servicing plan (pending.xml)"
    if read_number(registry, f"{_SERVICING}\\SessionsPending", "Exclusive"):
        yield "a servicing session"
    for _key, value in registry.values(_SESSION, _RENAMES):
        if value_types.typed(value):
            yield "files to be renamed at the next start"
            break
    if read_number(registry, "SOFTWARE\\Microsoft\\Updates", "UpdateExeVolatile"):
        yield "an update that is partly installed"
    name = read_text(registry, COMPUTER_NAME, "ComputerName")
    host = read_text(registry, TCPIP, "NV Hostname")
    if name and host and name.lower() != host.lower():
        yield f"a new computer name, {host}"


def _has_content(registry: Registry, pattern: str) -> bool:
    """Whether a key that a pattern fits holds a value or a key."""
    return any(
        any(True for _value in found.hive.values(found.key)) or found.hive.subkey_offsets(found.key)
        for found in registry.find(pattern)
    )
