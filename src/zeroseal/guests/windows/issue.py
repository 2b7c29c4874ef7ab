"""Giving a Windows what is to be its own: a name, a machine GUID, a security identifier."""

from __future__ import annotations

import uuid

from zeroseal.guests.registry import value_types
from zeroseal.guests.registry.paths import Registry
from zeroseal.guests.windows.hives import GuestRegistry, HiveSet
from zeroseal.guests.windows.identity import COMPUTER_NAME, TCPIP
from zeroseal.guests.windows.reissue import reissue_sid
from zeroseal.guests.windows.template_mark import SOFTWARE_FILE, unmark

_GUID_KEY, _GUID = "Microsoft\\Cryptography", "MachineGuid"
_PLACES = ((COMPUTER_NAME, "ComputerName"), (TCPIP, "NV Hostname"), (TCPIP, "Hostname"))
MOST_NAME = 15  # of NetBIOS


def issue_identity(registry: GuestRegistry, name: str, sid: str, now: int) -> None:
    """Gives a machine that starts plainly a name and identifiers of its own.

    Args:
        registry: of a guest that is opened for editing.
        name: of the computer.
        sid: the security identifier that it has; empty to leave it.
        now: the moment that changed keys are given, seconds since 1970.

    Raises:
        RefusedError: as ``reissue_sid``.
    """
    hives = HiveSet(registry, now)
    name_computer(registry, hives, name)
    new_machine_guid(hives)
    if sid:
        reissue_sid(hives, sid, marks=False)
    hives.finish()


def name_computer(registry: Registry, hives: HiveSet, name: str) -> None:
    """Writes a computer's name where its next start reads it."""
    for pattern, value in _PLACES:
        for found in registry.find(pattern):
            editor = hives.editor(found.file)
            key = editor.find_key(found.path)
            if key is not None:
                editor.set_value(key, value, value_types.SZ, value_types.pack(value_types.SZ, name))
    for found, own in registry.values(POLICY_NAME, ""):
        editor = hives.editor(found.file)
        key = editor.find_key(found.path)
        if key is not None:
            editor.set_value(key, "", own.kind, with_policy_text(own.data, name))


def new_machine_guid(hives: HiveSet) -> str:
    """Gives the machine a random GUID; nobody takes it for a template's any more."""
    editor, made = hives.editor(SOFTWARE_FILE), str(uuid.uuid4())
    above = editor.add_key(editor.root, _GUID_KEY.split("\\")[0])
    key = editor.add_key(above, _GUID_KEY.split("\\")[1])
    editor.set_value(key, _GUID, value_types.SZ, value_types.pack(value_types.SZ, made))
    unmark(editor)
    return made


POLICY_NAME = "SECURITY\\Policy\\PolAcDmN"  # the computer's, as the domain of its accounts
_HEAD_BYTES = 8


def policy_text(data: bytes) -> str:
    """What a policy's value says; empty where it is none."""
    length, place = int.from_bytes(data[:2], "little"), int.from_bytes(data[4:8], "little")
    if not _HEAD_BYTES <= place <= len(data) - length:
        place = _HEAD_BYTES
    return data[place : place + length].decode("utf-16-le", "replace")


def with_policy_text(data: bytes, new: str) -> bytes:
    """A policy's value with another text."""
    old = policy_text(data).encode("utf-16-le", "replace")
    place = data.find(old, _HEAD_BYTES) if old else -1
    if place < 0:
        return data
    text = new.encode("utf-16-le")
    room = len(text) + int.from_bytes(data[2:4], "little") - len(old)
    head = len(text).to_bytes(2, "little") + room.to_bytes(2, "little") + data[4:place]
    return head + text + data[place + len(old) :]
