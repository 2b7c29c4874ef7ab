"""The guest's accounts, from passwd(5), shadow(5), group(5) and login.defs(5)."""

from __future__ import annotations

import time
from dataclasses import dataclass

from zeroseal.guests.guest import Guest

_DAY = 86400
_NO_LOGIN_SHELLS = ("nologin", "false", "sync", "shutdown", "halt")
_DEFAULT_UID_MIN, _DEFAULT_UID_MAX = 1000, 60000


@dataclass(frozen=True)
class Account:
    """One account.

    Attributes:
        has_password: whether some password opens it (set, or empty).
        is_human: in the human range of login.defs, with a login shell.
        is_expired: whether shadow(5) gives it an end that has passed, or one that is day 0.
    """

    name: str
    uid: int
    gid: int
    home: str
    shell: str
    has_password: bool
    is_human: bool
    is_expired: bool = False

    @property
    def has_login_shell(self) -> bool:
        """Whether its shell lets anybody in."""
        return bool(self.shell) and self.shell.rsplit("/", 1)[-1] not in _NO_LOGIN_SHELLS


def read_accounts(guest: Guest) -> list[Account]:
    """Reads all accounts; lines that make no sense are left out."""
    hashes = {
        fields[0]: fields[1]
        for fields in _colon_lines(guest.read_text("/etc/shadow"))
        if len(fields) > 1
    }
    ends = {
        fields[0]: int(fields[7])
        for fields in _colon_lines(guest.read_text("/etc/shadow"))
        if len(fields) > 7 and fields[7].isdigit()
    }
    today = int(time.time() // _DAY)
    lowest, highest = _human_range(guest)
    accounts = []
    for fields in _colon_lines(guest.read_text("/etc/passwd")):
        if len(fields) != 7 or not fields[2].isdigit() or not fields[3].isdigit():
            continue
        name, in_passwd, uid, gid = fields[0], fields[1], int(fields[2]), int(fields[3])
        shell = fields[6].rsplit("/", 1)[-1]
        accounts.append(
            Account(
                name=name,
                uid=uid,
                gid=gid,
                home=fields[5],
                shell=fields[6],
                has_password=_opens(hashes.get(name, "*") if in_passwd == "x" else in_passwd),
                is_human=lowest <= uid <= highest and shell not in _NO_LOGIN_SHELLS,
                is_expired=ends.get(name, today + 1) <= today,
            )
        )
    return accounts


def read_password_hash(guest: Guest, name: str) -> str:
    """What shadow(5) has for an account's password: a hash, or what lets nobody in."""
    for fields in _colon_lines(guest.read_text("/etc/shadow")):
        if len(fields) > 1 and fields[0] == name:
            return fields[1]
    return ""


def find_account(accounts: list[Account], name: str) -> Account | None:
    """The account of that name."""
    return next((account for account in accounts if account.name == name), None)


def has_login_key(guest: Guest, account: Account) -> bool:
    """Whether a public key opens the account."""
    path = f"{account.home}/.ssh/authorized_keys"
    lines = guest.read_text(path).splitlines()
    return any(line.strip() and not line.lstrip().startswith("#") for line in lines)


def _opens(field: str) -> bool:
    """Whether a password field lets anybody in; ``!`` and ``*`` lock it."""
    return not field.startswith(("!", "*"))


def _human_range(guest: Guest) -> tuple[int, int]:
    found = {"UID_MIN": _DEFAULT_UID_MIN, "UID_MAX": _DEFAULT_UID_MAX}
    for line in guest.read_text("/etc/login.defs").splitlines():
        words = line.split()
        if len(words) >= 2 and words[0] in found and words[1].isdigit():
            found[words[0]] = int(words[1])
    return found["UID_MIN"], found["UID_MAX"]


def _colon_lines(text: str) -> list[list[str]]:
    return [line.split(":") for line in text.splitlines() if line and not line.startswith("#")]
