"""Local accounts of a Windows: its account database (SAM), groups and profiles, read only.

Layouts follow what public registry parsers and chntpw agree on; no database that Windows wrote was
at hand.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from zeroseal.guests.registry.hive import Value
from zeroseal.guests.registry.paths import Registry
from zeroseal.guests.windows.sids import MACHINE_SID_BYTES, MachineSid, sid_bytes, sid_text

ACCOUNTS = "SAM\\SAM\\Domains\\Account"
DOMAINS = ("Account", "Builtin")
ADMINISTRATOR, FIRST_HUMAN = 500, 1000
_ADMINISTRATORS = 544
_SID_OFFSET_AT, _SID_AT = 0x38, 0x40  # in the domain's ``V`` value: the offset counts from there
FLAGS_AT, DISABLED = 0x38, 0x0001  # in the ``F`` value of an account
_ENTRIES_AT, _ENTRY_BYTES = 0xCC, 12  # in its ``V`` value
_NT_HASH = 14
_EMPTY_HASHES = (0, 4, 24)  # lengths of an entry that holds no hash: old form, AES form
GROUP_ENTRIES_AT, GROUP_MEMBERS_AT = 0x34, 0x28  # in the ``C`` value of a group


@dataclass(frozen=True)
class WindowsAccount:
    """A local account.

    Attributes:
        rid: its relative identifier.
        has_password: whether a password's hash is stored.
        is_administrator: whether it is a member of the local Administrators.
    """

    name: str
    rid: int
    disabled: bool
    has_password: bool = False
    is_administrator: bool = False

    @property
    def is_human(self) -> bool:
        """Whether somebody made it: the system's own have numbers below 1000."""
        return self.rid >= FIRST_HUMAN

    @property
    def can_log_in(self) -> bool:
        """Whether its password lets somebody in."""
        return not self.disabled and self.has_password


@dataclass(frozen=True)
class WindowsGroup:
    """A local group: where it is stored, its name, its members' identifiers."""

    domain: str
    rid: int
    name: str
    members: tuple[str, ...]


def read_machine_sid(registry: Registry) -> MachineSid | None:
    """The machine's own identifier: at the end of the ``V`` value, or where that says."""
    for _found, value in registry.values(ACCOUNTS, "V"):
        raw = value.data
        start = _SID_AT + int.from_bytes(raw[_SID_OFFSET_AT : _SID_OFFSET_AT + 4], "little")
        return MachineSid.parse(raw[-MACHINE_SID_BYTES:]) or MachineSid.parse(
            raw[start : start + MACHINE_SID_BYTES]
        )
    return None


def read_accounts(registry: Registry) -> list[WindowsAccount]:
    """The local accounts by number; the type of a name's value is its relative identifier."""
    sid = read_machine_sid(registry)
    administrators = {
        member
        for group in read_groups(registry)
        if group.rid == _ADMINISTRATORS
        for member in group.members
    }
    found = []
    for key in registry.find(f"{ACCOUNTS}\\Users\\Names\\*"):
        rid = next((value.kind for value in key.hive.values(key.key)), None)
        if rid is None:
            continue
        facts = _value_of(registry, rid, "F")
        flags = int.from_bytes(facts[FLAGS_AT : FLAGS_AT + 2], "little")
        found.append(
            WindowsAccount(
                name=key.key.name,
                rid=rid,
                disabled=bool(flags & DISABLED),
                has_password=_has_hash(_value_of(registry, rid, "V")),
                is_administrator=sid is not None and sid.account(rid) in administrators,
            )
        )
    return sorted(found, key=lambda account: account.rid)


def account_value(rid: int) -> str:
    """The key of an account in the database's hive."""
    return f"SAM\\Domains\\Account\\Users\\{rid:08X}"


def nt_hash_of(registry: Registry, rid: int) -> bytes:
    """The encrypted hash of an account's password; empty where there is none."""
    raw = _value_of(registry, rid, "V")
    start, length = _entry(raw, _NT_HASH)
    return b"" if length in _EMPTY_HASHES else raw[start : start + length]


def read_groups(registry: Registry) -> list[WindowsGroup]:
    """The local groups with their members."""
    found = []
    for domain in DOMAINS:
        for key, value in registry.values(f"SAM\\SAM\\Domains\\{domain}\\Aliases\\*", "C"):
            if len(value.data) >= GROUP_ENTRIES_AT:
                found.append(_group(domain, key.key.name, value))
    return found


def members_of(content: bytes) -> Iterator[tuple[int, bytes]]:
    """Yields (place, identifier) of the members in a group's ``C`` value."""
    at = GROUP_MEMBERS_AT
    place = GROUP_ENTRIES_AT + int.from_bytes(content[at : at + 4], "little")
    end = min(len(content), place + int.from_bytes(content[at + 4 : at + 8], "little"))
    while place + 8 <= end and place + sid_bytes(content[place:]) <= end:
        length = sid_bytes(content[place:])
        yield place, content[place : place + length]
        place += length


def _group(domain: str, name: str, value: Value) -> WindowsGroup:
    raw = value.data
    start = GROUP_ENTRIES_AT + int.from_bytes(raw[0x10:0x14], "little")
    length = int.from_bytes(raw[0x14:0x18], "little")
    title = raw[start : start + (length & ~1)].decode("utf-16-le", "replace")
    members = tuple(sid_text(sid) for _place, sid in members_of(raw))
    return WindowsGroup(domain, int.from_bytes(raw[:4], "little"), title or name, members)


def _value_of(registry: Registry, rid: int, name: str) -> bytes:
    for _found, value in registry.values(f"SAM\\{account_value(rid)}", name):
        return value.data
    return b""


def _entry(raw: bytes, number: int) -> tuple[int, int]:
    at = number * _ENTRY_BYTES
    start = _ENTRIES_AT + int.from_bytes(raw[at : at + 4], "little")
    return start, int.from_bytes(raw[at + 4 : at + 8], "little")


def _has_hash(raw: bytes) -> bool:
    if len(raw) < _ENTRIES_AT:
        return False
    start, length = _entry(raw, _NT_HASH)
    return length not in _EMPTY_HASHES and start + length <= len(raw)
