"""What a rewrite makes of a text file of the guest: pure functions from text to text.

A finder asks them whether there is anything to change; applying a plan asks them for the result.
"""

from __future__ import annotations

from zeroseal.traces.changes import DropAccounts, DropHostNames, LockPassword

_LOCKED_PREFIXES = ("!", "*")


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
    short = {name.partition(".")[0] for name in change.names}
    lines = []
    for line in text.splitlines(keepends=True):
        body, hash_sign, comment = line.partition("#")
        words = body.split()
        kept = [word for word in words[1:] if word.partition(".")[0] not in short]
        if len(kept) == len(words[1:]):
            lines.append(line)
        elif kept:
            lines.append(" ".join([words[0], *kept]) + f" {hash_sign}{comment}".rstrip() + "\n")
    return "".join(lines)
