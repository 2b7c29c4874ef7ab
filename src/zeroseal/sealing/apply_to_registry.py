"""Applying one change of a plan to the hives of a Windows."""

from __future__ import annotations

import uuid
from typing import assert_never

from zeroseal.guests.registry import values
from zeroseal.guests.registry.edit import HiveEditor
from zeroseal.guests.windows.account_edits import disable_account, drop_account
from zeroseal.guests.windows.hives import HiveSet
from zeroseal.guests.windows.policy import with_policy_text
from zeroseal.guests.windows.sids import MachineSid
from zeroseal.guests.windows.template_mark import SOFTWARE_FILE, mark
from zeroseal.traces.changes import (
    BlankValue,
    CleanHive,
    DisableAccount,
    DropWindowsAccount,
    EmptyKey,
    NewGuid,
    RegistryChange,
    RemoveKey,
    RemoveValue,
    SetNumber,
    SetPolicyName,
    SetText,
)

ValueChange = RemoveValue | BlankValue | SetText | SetNumber | SetPolicyName | NewGuid


def apply_to_registry(change: RegistryChange, hives: HiveSet) -> None:
    """Treats one place in the registry; what is gone already is none."""
    editor = hives.editor(change.file)
    if isinstance(change, DropWindowsAccount):
        sid = MachineSid.parse_text(change.sid)
        if sid is not None:
            drop_account(hives, sid, change.account, change.rid)
        return
    if isinstance(change, DisableAccount):
        disable_account(hives, change.rid)
        return
    if isinstance(change, CleanHive):
        return  # every hive that was opened is written back clean
    key = editor.find_key(change.key)
    if key is None:
        return
    if isinstance(change, RemoveKey):
        if key != editor.root:
            editor.delete_key(key)
    elif isinstance(change, EmptyKey):
        _empty(editor, key, change.key)
    else:
        _change_value(change, key, editor, hives)


def _change_value(change: ValueChange, key: int, editor: HiveEditor, hives: HiveSet) -> None:
    match change:
        case RemoveValue():
            editor.delete_value(key, change.name)
        case BlankValue():
            kind, data = editor.get_value(key, change.name) or (values.BINARY, b"")
            editor.set_value(key, change.name, kind, bytes(len(data)))
        case SetText():
            kind, _data = editor.get_value(key, change.name) or (values.SZ, b"")
            kind = kind if kind in (values.SZ, values.EXPAND_SZ) else values.SZ
            editor.set_value(key, change.name, kind, values.pack(kind, change.text))
        case SetNumber():
            content = values.pack(values.DWORD, change.number)
            editor.set_value(key, change.name, values.DWORD, content)
        case SetPolicyName():
            kind, data = editor.get_value(key, change.name) or (values.BINARY, b"")
            made = with_policy_text(data, change.text)
            editor.set_value(key, change.name, kind, made)
        case NewGuid():
            made_guid = str(uuid.uuid4())
            editor.set_value(key, change.name, values.SZ, values.pack(values.SZ, made_guid))
            mark(hives.editor(SOFTWARE_FILE), made_guid)
        case _:
            assert_never(change)


def _empty(editor: HiveEditor, key: int, path: str) -> None:
    editor.delete_values(key)
    for name in editor.subkey_names(key):
        child = editor.find_key(f"{path}\\{name}")
        if child is not None:
            editor.delete_key(child)
