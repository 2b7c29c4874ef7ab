"""Finding what is a Windows machine's own where no pattern can say where it is."""

from __future__ import annotations

import re
from collections.abc import Iterator

from zeroseal.guests.guest import Guest
from zeroseal.guests.registry import values
from zeroseal.guests.registry.remains import count_stale
from zeroseal.guests.windows.answer_files import iter_answer_files
from zeroseal.guests.windows.hives import find_hives, logs_of
from zeroseal.guests.windows.identity import (
    COMPUTER_NAME,
    NEUTRAL_COMPUTER_NAME,
    TCPIP,
    VERSION,
    FirstStart,
    read_text,
)
from zeroseal.guests.windows.network import iter_cards
from zeroseal.guests.windows.policy import POLICY_NAME, policy_text
from zeroseal.guests.windows.template_mark import is_marked
from zeroseal.traces.changes import (
    Change,
    CleanHive,
    NewGuid,
    ReissueSid,
    RemoveKey,
    RemovePath,
    RemoveValue,
    SetNumber,
    SetPolicyName,
    SetText,
)
from zeroseal.traces.context import FindContext

_USER_SERVICE = re.compile(r"_[0-9a-f]{4,16}$", re.IGNORECASE)
_OF_USERS = 0x40  # bit of a service's type: a template or an instance for somebody's session
_INSTANCE = 0x80
_GUID = ("SOFTWARE\\Microsoft\\Cryptography", "MachineGuid")
_LONGEST_LOG = 1 << 30
_STATIC = {"ipaddress", "subnetmask", "defaultgateway", "defaultgatewaymetric", "nameserver"}


def find_computer_name(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the places that say what the computer is called."""
    registry = context.of_windows.registry
    name = read_text(registry, COMPUTER_NAME, "ComputerName")
    evidence = f"the name {name}"
    for pattern, wanted in (
        (COMPUTER_NAME, "ComputerName"),
        (TCPIP, "NV Hostname"),
        (TCPIP, "Hostname"),
    ):
        for found, value in registry.values(pattern, wanted):
            if values.typed(value) not in ("", NEUTRAL_COMPUTER_NAME):
                yield SetText(found.file, found.path, value.name, NEUTRAL_COMPUTER_NAME), evidence
    for found, value in registry.values(POLICY_NAME, ""):
        if policy_text(value.data) not in ("", NEUTRAL_COMPUTER_NAME):
            yield SetPolicyName(found.file, found.path, "", NEUTRAL_COMPUTER_NAME), evidence


def find_registered_owner(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the registered owner where that is an account that goes."""
    windows = context.of_windows
    names = {account.name.lower() for account in windows.doomed}
    for found, value in windows.registry.values(VERSION, "RegisteredOwner"):
        text = values.typed(value)
        if isinstance(text, str) and text.lower() in names:
            yield SetText(found.file, found.path, value.name, ""), "an account that goes"


def find_machine_sid(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the machine's identifier where every clone would start with it."""
    windows = context.of_windows
    sid, start = windows.identity.sid, windows.identity.first_start
    if start is FirstStart.PLAIN and sid and not is_marked(windows.registry, sid):
        yield ReissueSid("the machine", sid), "a new random one takes its place everywhere"


def find_machine_guid(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the machine's GUID, unless a seal made it and nothing was started since."""
    registry = context.of_windows.registry
    for found, value in registry.values(*_GUID):
        text = values.typed(value)
        if isinstance(text, str) and text and not is_marked(registry, text):
            yield NewGuid(found.file, found.path, value.name), "a new random one takes its place"


def find_answer_files(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields answer files of set-up, but for the one that a resealed system will read."""
    resealed = context.of_windows.identity.first_start.makes_identity
    for file in iter_answer_files(context.guest):
        if not (resealed and file.is_cached):
            yield RemovePath(file.path), "holds passwords" if file.passwords else ""


def find_user_services(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields services of somebody's session; the template that they were made from stays."""
    for found, value in context.of_windows.registry.values("SYSTEM\\CSn\\Services\\*_*", "Type"):
        kind = values.typed(value)
        is_instance = isinstance(kind, int) and kind & _OF_USERS and kind & _INSTANCE
        if is_instance and _USER_SERVICE.search(found.key.name):
            yield RemoveKey(found.file, found.path), "of a session that is over"


def find_card_addresses(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields static addresses, where clones are to ask for theirs."""
    if not context.asks_dhcp:
        return
    for card in iter_cards(context.of_windows.registry):
        if not card.addresses:
            continue
        evidence = f"{', '.join(card.addresses)} becomes DHCP"
        yield SetNumber(card.file, card.key, "EnableDHCP", 1), evidence
        for name in card.names:
            if name.lower() in _STATIC:
                yield RemoveValue(card.file, card.key, name), evidence


def find_hive_remains(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields hives with something in free cells, or in their transaction logs."""
    windows, guest = context.of_windows, context.guest
    for path in find_hives(guest):
        if windows.is_doomed(path):
            continue
        logs = sum(_holds_something(guest, log) for log in logs_of(guest, path))
        hive = windows.registry.hive(path)
        stale = count_stale(hive) if hive else 0
        told = [f"{stale} stale bytes"] if stale else []
        told += [f"{logs} transaction log{'' if logs == 1 else 's'}"] if logs else []
        if told:
            yield CleanHive(path), ", ".join(told)


def _holds_something(guest: Guest, path: str) -> bool:
    content = guest.read_file(path, _LONGEST_LOG)
    return content.count(0) < len(content)
