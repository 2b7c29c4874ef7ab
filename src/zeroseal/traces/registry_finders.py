"""Finding traces in the registry of a Windows, and in its event logs."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterator

from zeroseal.errors import ZeroSealError
from zeroseal.guests.eventlogs.log import read_log
from zeroseal.guests.guest import Guest
from zeroseal.guests.registry import values
from zeroseal.guests.registry.hive import Value
from zeroseal.guests.registry.paths import FoundKey, fits
from zeroseal.traces.changes import (
    BlankValue,
    Change,
    EmptyKey,
    RemoveKey,
    RemovePath,
    RemoveValue,
    SetText,
)
from zeroseal.traces.context import FindContext
from zeroseal.traces.model import EventLogs, RegistryKeys, RegistryValues, Treatment, Where

_LOGS = "/Windows/System32/winevt/Logs"
_GUID = re.compile(r"\{?[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}\}?$")


def find_keys(
    where: Where, locator: RegistryKeys, context: FindContext
) -> Iterator[tuple[Change, str]]:
    """Yields the keys that patterns fit; an empty one that is to be emptied is no finding."""
    for pattern in locator.patterns:
        for found in iter_found(pattern, context):
            key = found.key
            if where.treatment is Treatment.REMOVE:
                yield RemoveKey(found.file, found.path), ""
            elif key.cell.subkeys or key.cell.values:
                yield EmptyKey(found.file, found.path), _holds(key.cell.subkeys)


def find_values(
    where: Where, locator: RegistryValues, context: FindContext
) -> Iterator[tuple[Change, str]]:
    """Yields the values that patterns fit."""
    for wanted in locator.patterns:
        for found in iter_found(wanted.key, context):
            for value in found.hive.values(found.key):
                if not _is_named(value.name, wanted.names, wanted.excepted):
                    continue
                change = _change_for(where, found, value)
                if change:
                    yield change, evidence_of(value)


def find_event_logs(locator: EventLogs, context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the logs of channels, each with what is in it; the service makes them anew."""
    for pattern in locator.patterns:
        for path in context.guest.glob(f"{_LOGS}/{pattern.replace('/', '%4')}.evtx"):
            yield RemovePath(path), _log_evidence(path, context.guest)


def iter_found(pattern: str, context: FindContext) -> Iterator[FoundKey]:
    """The keys that a pattern fits, but for those in the hives of profiles that go."""
    windows = context.of_windows
    for found in windows.registry.find(pattern):
        if not windows.is_doomed(found.file):
            yield found


def evidence_of(value: Value) -> str:
    """What can be told of a value: a short hash of an identifier, never what it says."""
    content = values.typed(value)
    if isinstance(content, str) and _GUID.match(content):
        return f"hash {hashlib.sha256(content.lower().encode()).hexdigest()[:8]}"
    return ""


def _change_for(where: Where, found: FoundKey, value: Value) -> Change | None:
    if where.clean and str(values.typed(value)) in where.clean:
        return None
    if where.contains and not re.search(where.contains, str(values.typed(value))):
        return None
    match where.treatment:
        case Treatment.REMOVE:
            return RemoveValue(found.file, found.path, value.name)
        case Treatment.BLANK:
            change = BlankValue(found.file, found.path, value.name)
            return change if any(value.data) else None
        case _:
            if values.typed(value) == where.content:
                return None
            return SetText(found.file, found.path, value.name, where.content)


def _is_named(name: str, names: tuple[str, ...], excepted: tuple[str, ...]) -> bool:
    return any(fits(name, pattern) for pattern in names) and not any(
        fits(name, pattern) for pattern in excepted
    )


def _holds(subkeys: int) -> str:
    return f"{subkeys} key{'' if subkeys == 1 else 's'} in it" if subkeys else ""


def _log_evidence(path: str, guest: Guest) -> str:
    try:
        facts = read_log(guest.read_file(path), path)
    except ZeroSealError:
        return "cannot be read as a log"
    count = f"{facts.records} record{'' if facts.records == 1 else 's'}"
    return f"{count}, of {', '.join(facts.computers)}" if facts.computers else count
