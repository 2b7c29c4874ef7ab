"""Taking an account out of a Windows: its entries in the account database and in local groups.

Profiles, files and per-user keys are found and removed as traces of their own.
"""

from __future__ import annotations

from zeroseal.guests.registry import value_types
from zeroseal.guests.registry.edit import HiveEditor
from zeroseal.guests.registry.paths import CONFIG_FOLDER
from zeroseal.guests.windows.accounts import (
    DISABLED,
    DOMAINS,
    FLAGS_AT,
    GROUP_ENTRIES_AT,
    GROUP_MEMBERS_AT,
    account_value,
    members_of,
)
from zeroseal.guests.windows.hives import HiveSet
from zeroseal.guests.windows.sids import MachineSid

SAM_FILE = f"{CONFIG_FOLDER}/SAM"
_USERS = "SAM\\Domains\\Account\\Users"
_RID_BYTES = 4


def drop_account(hives: HiveSet, sid: MachineSid, name: str, rid: int) -> None:
    """Removes an account and its memberships; what groups keep stays in its place."""
    editor = hives.editor(SAM_FILE)
    for path in (account_value(rid), f"{_USERS}\\Names\\{name}"):
        key = editor.find_key(path)
        if key is not None:
            editor.delete_key(key)
    for domain in DOMAINS:
        for kind in ("Aliases", "Groups"):
            member = sid.raw_account(rid) if kind == "Aliases" else rid.to_bytes(4, "little")
            _leave_groups(editor, f"SAM\\Domains\\{domain}\\{kind}", member)
        _drop_membership(editor, f"SAM\\Domains\\{domain}\\Aliases\\Members\\{sid.text}", rid)


def _leave_groups(editor: HiveEditor, path: str, member: bytes) -> None:
    top = editor.find_key(path)
    for name in editor.subkey_names(top) if top is not None else ():
        key = editor.find_key(f"{path}\\{name}")
        found = editor.get_value(key, "C") if key is not None else None
        if key is None or found is None or len(found[1]) < GROUP_ENTRIES_AT:
            continue
        content = without_member(found[1], member)
        if content != found[1]:
            editor.set_value(key, "C", found[0], content)


def disable_account(hives: HiveSet, rid: int) -> None:
    """Sets the flag by which nobody can log in to an account."""
    editor = hives.editor(SAM_FILE)
    key = editor.find_key(account_value(rid))
    found = editor.get_value(key, "F") if key is not None else None
    if key is None or found is None:
        return
    content = bytearray(found[1])
    content[FLAGS_AT] |= DISABLED
    editor.set_value(key, "F", found[0], bytes(content))


def without_member(content: bytes, member: bytes) -> bytes:
    """A group's ``C`` value without a member: the others move up, zeros follow them.

    Members of local groups are identifiers, those of global ones are numbers of four bytes.
    """
    at = GROUP_MEMBERS_AT
    start, length, count = (
        int.from_bytes(content[place : place + 4], "little") for place in range(at, at + 12, 4)
    )
    first = GROUP_ENTRIES_AT + start
    if first + length > len(content) or not count:
        return content
    if len(member) == _RID_BYTES:
        places = [first + at for at in range(0, length, 4)] if length == 4 * count else []
        found = [place for place in places if content[place : place + 4] == member]
    else:
        found = [place for place, own in members_of(content) if own == member]
    if not found:
        return content
    end = first + length
    listed = content[first : found[0]] + content[found[0] + len(member) : end]
    made = bytearray(content)
    made[first:end] = listed.ljust(length, b"\0")
    made[at + 4 : at + 8] = (length - len(member)).to_bytes(4, "little")
    made[at + 8 : at + 12] = (count - 1).to_bytes(4, "little")
    return bytes(made)


def _drop_membership(editor: HiveEditor, path: str, rid: int) -> None:
    """Removes the list of an account's groups; the type of the key's value counts such lists."""
    key = editor.find_key(f"{path}\\{rid:08X}")
    if key is None:
        return
    editor.delete_key(key)
    above = editor.find_key(path)
    assert above is not None  # it held the key
    for name, kind in list(editor.values(above)):
        if not name and kind:
            editor.set_value(above, "", kind - 1, value_types.pack(value_types.BINARY, b""))
