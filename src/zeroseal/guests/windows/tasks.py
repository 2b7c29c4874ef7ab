"""Scheduled tasks: a file of XML each, and what the scheduler's cache in the registry says of it.

The cache keeps a hash (SHA-256) of the XML, which was not seen in data that Windows wrote.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator
from dataclasses import dataclass

from zeroseal.filesystems.tree import Kind
from zeroseal.guests.guest import Guest
from zeroseal.guests.registry import value_types
from zeroseal.guests.registry.paths import FoundKey, Registry

TASKS_FOLDER = "/Windows/System32/Tasks"
TASK_CACHE = "SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion\\Schedule\\TaskCache"
_OWNERS = re.compile(r"<(?:Author|UserId|GroupId)>([^<]*)</")
_LISTS = ("Tasks", "Plain", "Logon", "Boot", "Maintenance")
_LONGEST = 1 << 20


@dataclass(frozen=True)
class ScheduledTask:
    """A task.

    Attributes:
        path: of its file in the guest.
        owners: the accounts that its XML names, as it names them.
        keys: those of the scheduler's cache that are about it.
    """

    path: str
    owners: tuple[str, ...]
    keys: tuple[FoundKey, ...]

    def belongs_to(self, sids: Collection[str], names: Collection[str]) -> bool:
        """Whether it names one of some accounts; a name may stand behind a computer's."""
        plain = [owner.rpartition("\\")[2].lower() for owner in self.owners]
        return any(owner in sids for owner in self.owners) or any(name in plain for name in names)


def iter_tasks(guest: Guest, registry: Registry) -> Iterator[ScheduledTask]:
    """Yields all tasks."""
    if not guest.is_folder(TASKS_FOLDER):
        return
    for path, facts in guest.walk(TASKS_FOLDER):
        if facts.kind is Kind.FILE and facts.size_bytes <= _LONGEST:
            owners = tuple(_OWNERS.findall(decode_xml(guest.read_file(path))))
            yield ScheduledTask(path, owners, _keys_of(path, registry))


def decode_xml(raw: bytes) -> str:
    """The text of a task's file: UTF-16 with its mark, or UTF-8."""
    wide = raw[:2] in (b"\xff\xfe", b"\xfe\xff")
    return raw.decode("utf-16" if wide else "utf-8", "replace")


def _keys_of(path: str, registry: Registry) -> tuple[FoundKey, ...]:
    """What the cache says of one task."""
    name = path.removeprefix(TASKS_FOLDER + "/").replace("/", "\\")
    found = list(registry.find(f"{TASK_CACHE}\\Tree\\{name}"))
    for tree in list(found):
        value = tree.hive.find_value(tree.key, "Id")
        identifier = value_types.typed(value) if value else ""
        if isinstance(identifier, str) and identifier:
            for listed in _LISTS:
                found += registry.find(f"{TASK_CACHE}\\{listed}\\{identifier}")
    return tuple(found)
