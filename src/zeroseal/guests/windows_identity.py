"""Who a Windows is, and how its next start would go: read from its registry, nothing is changed.

Layouts of the account database follow what public registry parsers agree on; no database that
Windows wrote was at hand here. The state of set-up was seen in a real hive.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from enum import Enum

from zeroseal.guests.registry import values
from zeroseal.guests.registry.paths import Registry

_ACCOUNTS = "SAM\\SAM\\Domains\\Account"
_CURRENT = "SOFTWARE\\Microsoft\\Windows\\CurrentVersion"
_SETUP = "SYSTEM\\Setup"
_TCPIP = "SYSTEM\\CSn\\Services\\Tcpip\\Parameters"
_SID_BYTES = 24  # of a machine: four sub-authorities
_FLAGS_AT, _DISABLED = 0x38, 0x0001  # in the ``F`` value of an account
_SYSTEM_PROFILES = ("S-1-5-18", "S-1-5-19", "S-1-5-20")

# (pattern of a key that is there only while something is pending, what it is)
_PENDING_KEYS = (
    (f"{_CURRENT}\\Component Based Servicing\\RebootPending", "a restart after servicing"),
    (f"{_CURRENT}\\Component Based Servicing\\PackagesPending", "packages that are half installed"),
    (f"{_CURRENT}\\WindowsUpdate\\Auto Update\\RebootRequired", "a restart after updates"),
)
_SESSION = "SYSTEM\\CSn\\Control\\Session Manager"
_RENAMES = "PendingFileRenameOperations*"


class FirstStart(Enum):
    """How the next start goes, by the state of set-up."""

    PLAIN = "it starts plainly: every clone would share its security identifier"
    RESEALED = "resealed by Windows' own generalize pass: its next start makes a new identity"
    BETWEEN = "set-up is between two passes: finish it in the guest"
    UNKNOWN = "its set-up state is not told"


@dataclass(frozen=True)
class WindowsAccount:
    """A local account."""

    name: str
    rid: int
    disabled: bool


@dataclass(frozen=True)
class WindowsIdentity:
    """What is one machine's own.

    Attributes:
        sid: the machine's security identifier, which those of its accounts begin with.
        machine_guid: by which much software tells machines apart.
        update_id: by which an update server does.
        accounts: the local ones, by their relative identifiers.
        profiles: folders of people's profiles, as the guest sees them.
        domain: that it has joined; empty in a workgroup.
        pending: what it has yet to do, half-sentences.
    """

    sid: str = ""
    machine_guid: str = ""
    update_id: str = ""
    accounts: tuple[WindowsAccount, ...] = ()
    profiles: tuple[str, ...] = ()
    first_start: FirstStart = FirstStart.UNKNOWN
    image_state: str = ""
    domain: str = ""
    pending: tuple[str, ...] = ()


NO_IDENTITY = WindowsIdentity()


def read_identity(registry: Registry) -> WindowsIdentity:
    """Reads all of it; what is not there is empty.

    Raises:
        ImageError, RefusedError: a hive cannot be read.
    """
    state = read_text(registry, f"{_CURRENT}\\Setup\\State", "ImageState")
    return WindowsIdentity(
        sid=_machine_sid(registry),
        machine_guid=read_text(registry, "SOFTWARE\\Microsoft\\Cryptography", "MachineGuid"),
        update_id=read_text(registry, f"{_CURRENT}\\WindowsUpdate", "SusClientId"),
        accounts=tuple(sorted(_iter_accounts(registry), key=lambda account: account.rid)),
        profiles=tuple(
            profile.folder for profile in registry.profiles() if profile.sid not in _SYSTEM_PROFILES
        ),
        first_start=_first_start(registry, state),
        image_state=state,
        domain=read_text(registry, _TCPIP, "Domain"),
        pending=tuple(_iter_pending(registry)),
    )


def read_text(registry: Registry, pattern: str, name: str) -> str:
    """The text of the first value that is there; empty where none is."""
    for _key, value in registry.values(pattern, name):
        text = values.typed(value)
        if isinstance(text, str):
            return text
    return ""


def sid_text(raw: bytes) -> str:
    """A binary security identifier as text; empty where it is none.

    The identifier authority is big-endian, the sub-authorities are little-endian.
    """
    if len(raw) < 8 or raw[0] != 1 or len(raw) < 8 + 4 * raw[1]:
        return ""
    parts = [int.from_bytes(raw[at : at + 4], "little") for at in range(8, 8 + 4 * raw[1], 4)]
    return "-".join(["S", "1", str(int.from_bytes(raw[2:8], "big")), *map(str, parts)])


def _machine_sid(registry: Registry) -> str:
    for _key, value in registry.values(_ACCOUNTS, "V"):
        return sid_text(value.data[-_SID_BYTES:])
    return ""


def _iter_accounts(registry: Registry) -> Iterator[WindowsAccount]:
    """Yields the local accounts; the type of a name's value is its relative identifier."""
    for found in registry.find(f"{_ACCOUNTS}\\Users\\Names\\*"):
        for value in found.hive.values(found.key):
            rid = value.kind
            flags = b""
            for _key, data in registry.values(f"{_ACCOUNTS}\\Users\\{rid:08X}", "F"):
                flags = data.data[_FLAGS_AT : _FLAGS_AT + 2]
            disabled = bool(int.from_bytes(flags, "little") & _DISABLED)
            yield WindowsAccount(found.key.name, rid, disabled)
            break


def _first_start(registry: Registry, state: str) -> FirstStart:
    in_setup = any(
        _number(registry, _SETUP, name) for name in ("SystemSetupInProgress", "OOBEInProgress")
    )
    if state == "IMAGE_STATE_COMPLETE":
        return FirstStart.BETWEEN if in_setup else FirstStart.PLAIN
    if state == "IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE":
        return FirstStart.RESEALED
    return FirstStart.BETWEEN if state or in_setup else FirstStart.UNKNOWN


def _iter_pending(registry: Registry) -> Iterator[str]:
    for pattern, what in _PENDING_KEYS:
        if any(True for _found in registry.find(pattern)):
            yield what
    for _key, value in registry.values(_SESSION, _RENAMES):
        if values.typed(value):
            yield "files to be renamed at the next start"
            break
    name = read_text(registry, "SYSTEM\\CSn\\Control\\ComputerName\\ComputerName", "ComputerName")
    host = read_text(registry, _TCPIP, "NV Hostname")
    if name and host and name.lower() != host.lower():
        yield f"a new computer name, {host}"


def _number(registry: Registry, pattern: str, name: str) -> int:
    for _key, value in registry.values(pattern, name):
        number = values.typed(value)
        if isinstance(number, int):
            return number
    return 0
