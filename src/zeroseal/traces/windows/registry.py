"""Traces in the registry of a Windows, and in its event logs: where they are, what is done."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from zeroseal.errors import ZeroSealError
from zeroseal.guests.eventlogs.log import read_log
from zeroseal.guests.guest import Guest
from zeroseal.guests.registry import value_types
from zeroseal.guests.registry.edit import HiveEditor
from zeroseal.guests.registry.hive import Value
from zeroseal.guests.registry.paths import FoundKey, fits
from zeroseal.guests.windows.hives import HiveSet, hive_title
from zeroseal.sentences import counted
from zeroseal.traces.changes import Change, RemovePath, Workbench, is_claimed
from zeroseal.traces.finder import FindContext, Found
from zeroseal.traces.model import EventLogs, RegistryKeys, RegistryValues, Treatment, Where
from zeroseal.traces.windows.context import WindowsContext

_LOGS = "/Windows/System32/winevt/Logs"
_GUID = re.compile(r"\{?[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}\}?$")


@dataclass(frozen=True)
class RegistryChange(Change):
    """A change of the registry; ``file`` is the hive's, ``key`` a path in it.

    Attributes:
        takes_place: whether what it is about is gone then, with all below it.
    """

    file: str
    key: str
    takes_place: ClassVar[bool] = False

    @property
    def place(self) -> str:
        """The hive, the key, and the value."""
        key = f"\\{self.key}" if self.key else ""
        return f"{hive_title(self.file)}{key}{self._value_text}"

    @property
    def path(self) -> str:
        """The place as a path below the hive's file, a value last; in lower case."""
        parts = [self.file, *self.key.split("\\")] if self.key else [self.file]
        return "/".join([*parts, *self._value_parts]).lower()

    def claim(self, claimed: set[str]) -> bool:  # noqa: D102 - as in Change
        if is_claimed(self.path, claimed) or is_claimed(self.file, claimed):
            return False
        if self.takes_place:
            claimed.add(self.path)
        return True

    @property
    def _value_text(self) -> str:
        return ""

    @property
    def _value_parts(self) -> tuple[str, ...]:
        return ()

    def apply(self, bench: Workbench) -> None:
        """Treats the key; one that is gone already is left alone."""
        hives = bench.get_hives()
        editor = hives.editor(self.file)
        key = editor.find_key(self.key)
        if key is not None:
            self.apply_to(key, editor, hives)

    def apply_to(self, key: int, editor: HiveEditor, hives: HiveSet) -> None:
        """Treats a key that is there."""


@dataclass(frozen=True)
class RemoveKey(RegistryChange):
    """Removes a key with all below it."""

    takes_place = True

    def apply_to(self, key: int, editor: HiveEditor, hives: HiveSet) -> None:  # noqa: D102
        del hives
        if key != editor.root:
            editor.delete_key(key)


@dataclass(frozen=True)
class EmptyKey(RegistryChange):
    """Removes the values and keys that a key holds; it stays itself."""

    def apply_to(self, key: int, editor: HiveEditor, hives: HiveSet) -> None:  # noqa: D102
        del hives
        editor.delete_values(key)
        for name in editor.subkey_names(key):
            child = editor.find_key(f"{self.key}\\{name}")
            if child is not None:
                editor.delete_key(child)


@dataclass(frozen=True)
class ValueChange(RegistryChange):
    """A change of one value."""

    name: str

    @property
    def _value_text(self) -> str:
        return f" : {self.name or '(default)'}"

    @property
    def _value_parts(self) -> tuple[str, ...]:
        return (f":{self.name}",)


@dataclass(frozen=True)
class RemoveValue(ValueChange):
    """Removes a value of a key."""

    takes_place = True

    def apply_to(self, key: int, editor: HiveEditor, hives: HiveSet) -> None:  # noqa: D102
        del hives
        editor.delete_value(key, self.name)


@dataclass(frozen=True)
class BlankValue(ValueChange):
    """Zeroes what a value holds; its length and type stay."""

    def apply_to(self, key: int, editor: HiveEditor, hives: HiveSet) -> None:  # noqa: D102
        del hives
        kind, data = editor.get_value(key, self.name) or (value_types.BINARY, b"")
        editor.set_value(key, self.name, kind, bytes(len(data)))


@dataclass(frozen=True)
class SetText(ValueChange):
    """Gives a value this text; its type stays."""

    text: str

    def apply_to(self, key: int, editor: HiveEditor, hives: HiveSet) -> None:  # noqa: D102
        del hives
        kind, _data = editor.get_value(key, self.name) or (value_types.SZ, b"")
        kind = kind if kind in (value_types.SZ, value_types.EXPAND_SZ) else value_types.SZ
        editor.set_value(key, self.name, kind, value_types.pack(kind, self.text))


@dataclass(frozen=True)
class SetNumber(ValueChange):
    """Gives a value this number."""

    number: int

    def apply_to(self, key: int, editor: HiveEditor, hives: HiveSet) -> None:  # noqa: D102
        del hives
        content = value_types.pack(value_types.DWORD, self.number)
        editor.set_value(key, self.name, value_types.DWORD, content)


def find_in_windows(
    where: Where, locator: RegistryKeys | RegistryValues | EventLogs, context: FindContext
) -> Iterator[Found]:
    """Yields what the registry's patterns fit, and the event logs that hold something."""
    if isinstance(locator, EventLogs):
        yield from find_event_logs(locator, context.guest)
        return
    assert isinstance(context, WindowsContext)  # only its traces have such places
    if isinstance(locator, RegistryKeys):
        yield from find_keys(where, locator, context)
    else:
        yield from find_values(where, locator, context)


def find_keys(where: Where, locator: RegistryKeys, context: WindowsContext) -> Iterator[Found]:
    """Yields the keys that patterns fit; an empty one that is to be emptied is no finding."""
    for pattern in locator.patterns:
        for found in iter_found(pattern, context):
            key = found.key
            if where.treatment is Treatment.REMOVE:
                yield RemoveKey(found.file, found.path), ""
            elif key.cell.subkeys or key.cell.values:
                yield EmptyKey(found.file, found.path), _holds(key.cell.subkeys)


def find_values(where: Where, locator: RegistryValues, context: WindowsContext) -> Iterator[Found]:
    """Yields the values that patterns fit."""
    for wanted in locator.patterns:
        for found in iter_found(wanted.key, context):
            for value in found.hive.values(found.key):
                if not _is_named(value.name, wanted.names, wanted.excepted):
                    continue
                change = _change_for(where, found, value)
                if change:
                    yield change, evidence_of(value)


def find_event_logs(locator: EventLogs, guest: Guest) -> Iterator[Found]:
    """Yields the logs of channels, each with what is in it; the service makes them anew."""
    for pattern in locator.patterns:
        for path in guest.glob(f"{_LOGS}/{pattern.replace('/', '%4')}.evtx"):
            yield RemovePath(path), _log_evidence(path, guest)


def iter_found(pattern: str, context: WindowsContext) -> Iterator[FoundKey]:
    """The keys that a pattern fits, but for those in the hives of profiles that go."""
    for found in context.registry.find(pattern):
        if not context.is_removed(found.file):
            yield found


def evidence_of(value: Value) -> str:
    """What can be told of a value: a short hash of an identifier, never what it says."""
    content = value_types.typed(value)
    if isinstance(content, str) and _GUID.match(content):
        return f"hash {hashlib.sha256(content.lower().encode()).hexdigest()[:8]}"
    return ""


def _change_for(where: Where, found: FoundKey, value: Value) -> Change | None:
    if where.clean and str(value_types.typed(value)) in where.clean:
        return None
    if where.contains and not re.search(where.contains, str(value_types.typed(value))):
        return None
    match where.treatment:
        case Treatment.REMOVE:
            return RemoveValue(found.file, found.path, value.name)
        case Treatment.BLANK:
            change = BlankValue(found.file, found.path, value.name)
            return change if any(value.data) else None
        case _:
            if value_types.typed(value) == where.content:
                return None
            return SetText(found.file, found.path, value.name, where.content)


def _is_named(name: str, names: tuple[str, ...], excepted: tuple[str, ...]) -> bool:
    return any(fits(name, pattern) for pattern in names) and not any(
        fits(name, pattern) for pattern in excepted
    )


def _holds(subkeys: int) -> str:
    return f"{counted(subkeys, 'key')} in it" if subkeys else ""


def _log_evidence(path: str, guest: Guest) -> str:
    try:
        facts = read_log(guest.read_file(path), path)
    except ZeroSealError:
        return "cannot be read as a log"
    count = counted(facts.records, "record")
    return f"{count}, of {', '.join(facts.computers)}" if facts.computers else count
