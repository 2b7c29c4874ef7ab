"""Giving a machine another security identifier, offline, everywhere at once.

The new one is as long as the old one in text, number by number, so that everything is changed where
it stands: hives (values, names of keys, rights), files (names, contents, rights), the store of
rights of each volume. What is bound to the old one by encryption stays unreadable: protected data
of users, encrypted files, registrations of applications; profiles should go first.
"""

from __future__ import annotations

import hashlib

from zeroseal.errors import RefusedError
from zeroseal.guests.guest import Guest
from zeroseal.guests.registry import value_types
from zeroseal.guests.windows.hives import HiveSet, find_hives
from zeroseal.guests.windows.sids import MachineSid
from zeroseal.guests.windows.tasks import iter_tasks
from zeroseal.guests.windows.template_mark import SOFTWARE_FILE, mark
from zeroseal.messages import guests as messages

Pairs = list[tuple[bytes, bytes]]


def reissue_sid(hives: HiveSet, text: str, marks: bool = True) -> MachineSid:
    """Puts a new random identifier in the place of the machine's own.

    Args:
        hives: of a guest that is opened for editing; whoever made them writes them back.
        text: the old one, ``S-1-5-21-A-B-C``.
        marks: whether a later look is to know that a seal made it.

    Returns:
        the new one.

    Raises:
        RefusedError: it has numbers so small that there are too few others of their length.
    """
    old = MachineSid.parse_text(text)
    if old is None or not old.can_be_replaced:
        raise RefusedError(messages.SECURITY_IDENTIFIER_TOO_SHORT.format(sid=text))
    new, guest = old.another(()), hives.guest
    pairs = pairs_of(old, new)
    hashed = _task_hashes(hives)
    for path in find_hives(guest):
        content = hives.editor(path).build() if hives.is_open(path) else None
        content = content or hives.registry.get_hive(path).content
        if any(before in content for before, _after in pairs):
            hives.editor(path).replace_bytes(pairs)
    if marks:
        mark(hives.editor(SOFTWARE_FILE), new.text)
    for mount in guest.mounts:
        mount.driver.replace_bytes(guest.editor_of(mount), pairs)
    guest.forget_ways()
    guest.finish()
    hives.publish()
    _renew_task_hashes(hives, hashed)
    return new


def pairs_of(old: MachineSid, new: MachineSid) -> Pairs:
    """(old, new) of every form: digits in one and in two bytes each, and in binary."""
    before, after = (sid.text.removeprefix("S-1-5-21-") for sid in (old, new))
    return [
        (before.encode(), after.encode()),
        (before.encode("utf-16-le"), after.encode("utf-16-le")),
        (old.triplet, new.triplet),
    ]


def _task_hashes(hives: HiveSet) -> dict[str, bytes]:
    """The hash of every task's file."""
    tasks = iter_tasks(hives.guest, hives.registry)
    return {task.path: _hash_of(hives.guest, task.path) for task in tasks}


def _renew_task_hashes(hives: HiveSet, before: dict[str, bytes]) -> None:
    """The scheduler's cache has a hash of each task: those of changed tasks are made anew."""
    for task in list(iter_tasks(hives.guest, hives.registry)):
        old, new = before.get(task.path, b""), _hash_of(hives.guest, task.path)
        for found in task.keys:
            value = found.hive.find_value(found.key, "Hash")
            if value is not None and value.data == old != new:
                editor = hives.editor(found.file)
                key = editor.find_key(found.path)
                if key is not None:
                    editor.set_value(key, "Hash", value_types.BINARY, new)


def _hash_of(guest: Guest, path: str) -> bytes:
    return hashlib.sha256(guest.read_file(path)).digest()
