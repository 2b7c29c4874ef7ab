"""What a rewrite makes of a text file of the guest: pure functions from text to text.

A finder asks them whether there is anything to change; applying a plan asks them for the result.
"""

from __future__ import annotations

import re
from typing import assert_never

from zeroseal.guests.static_addresses import to_dhcp
from zeroseal.traces.changes import (
    AskDhcp,
    DropAccounts,
    DropHostNames,
    DropLines,
    EditKeys,
    LockPassword,
    SwapBootToken,
    TextChange,
)
from zeroseal.traces.key_edits import edit_keys

_GRUB_BLOCK = "# GRUB Environment Block\n"
_LOCKED_PREFIXES = ("!", "*")


def rewrite_text(text: str, change: TextChange) -> str:
    """What a change makes of a text; the same text where there is nothing to do."""
    match change:
        case DropAccounts():
            return drop_accounts(text, change)
        case LockPassword():
            return lock_password(text, change)
        case DropHostNames():
            return drop_host_names(text, change)
        case EditKeys(edit=edit):
            return edit_keys(text, edit)
        case DropLines():
            return drop_lines(text, change)
        case SwapBootToken(old=old, new=new):
            return swap_boot_token(text, old, new)
        case AskDhcp(path=path):
            return to_dhcp(path, text)
        case _:
            assert_never(change)


def drop_accounts(text: str, change: DropAccounts) -> str:
    """The account file's text without the accounts of ``change``."""
    is_group_file = change.path.endswith(("group", "gshadow"))
    doomed = set(change.own_groups if is_group_file else change.accounts)
    kept = []
    for line in text.splitlines(keepends=True):
        fields = line.rstrip("\n").split(":")
        if fields[0] in doomed:
            continue
        if is_group_file and len(fields) == 4:
            lists = (2, 3) if change.path.endswith("gshadow") else (3,)
            for index in lists:
                members = fields[index].split(",")
                fields[index] = ",".join(
                    member for member in members if member not in change.accounts
                )
            line = ":".join(fields) + ("\n" if line.endswith("\n") else "")
        kept.append(line)
    return "".join(kept)


def lock_password(text: str, change: LockPassword) -> str:
    """The shadow file's text with the account locked and its hash gone."""
    lines = []
    for line in text.splitlines(keepends=True):
        fields = line.split(":")
        is_clean = len(fields) > 1 and fields[1].startswith(_LOCKED_PREFIXES) and len(fields[1]) < 3
        if fields[0] == change.account and len(fields) > 2 and not is_clean:
            fields[1] = "!"
            line = ":".join(fields)
        lines.append(line)
    return "".join(lines)


def drop_host_names(text: str, change: DropHostNames) -> str:
    """The hosts file's text without the names, alone or as first part of a longer one."""
    short = {name.partition(".")[0].lower() for name in change.names}
    lines = []
    for line in text.splitlines(keepends=True):
        body, hash_sign, comment = line.partition("#")
        words = body.split()
        kept = [word for word in words[1:] if word.partition(".")[0].lower() not in short]
        if len(kept) == len(words[1:]):
            lines.append(line)
        elif kept:
            lines.append(" ".join([words[0], *kept]) + f" {hash_sign}{comment}".rstrip() + "\n")
    return "".join(lines)


def drop_lines(text: str, change: DropLines) -> str:
    """The text without the lines whose first word is one of those named."""
    return "".join(
        line
        for line in text.splitlines(keepends=True)
        if (line.replace(":", " ").split() or [""])[0] not in change.words
    )


def swap_boot_token(text: str, old: str, new: str) -> str:
    """The text with a neutral token for the machine ID; a block of GRUB keeps its size.

    What would give each clone the old ID again goes: ``systemd.machine_id=`` on the kernel's
    command line, and the ``machine-id`` line of an entry.
    """
    changed = text.replace(f" systemd.machine_id={old}", "")
    changed = re.sub(rf"(?m)^machine-id\s+{re.escape(old)}\n", "", changed).replace(old, new)
    if text.startswith(_GRUB_BLOCK) and len(changed) < len(text):
        changed += "#" * (len(text) - len(changed))
    return changed
