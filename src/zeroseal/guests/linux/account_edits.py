"""Adding accounts to a guest, as its own account tools would write them.

Source: passwd(5), shadow(5), group(5), gshadow(5), subuid(5), sudoers(5).
"""

from __future__ import annotations

from dataclasses import dataclass

from zeroseal.filesystems.tree import Kind
from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.accounts import find_account, read_accounts

NO_PASSWORD = "*"  # a lock ("!") would also keep keys out where sshd works without PAM
_FIRST_UID, _END_OF_PEOPLE = 1000, 60_000
_FIRST_SUBORDINATE, _SUBORDINATES = 100_000, 65_536
_SHELLS = ("/bin/bash", "/bin/ash", "/bin/sh")


@dataclass(frozen=True)
class NewAccount:
    """An account to be made, with its hash as shadow(5) has it."""

    name: str
    full_name: str = ""
    public_keys: tuple[str, ...] = ()
    password_hash: str = NO_PASSWORD


def add_account(guest: Guest, account: NewAccount, changed_on: int) -> bool:
    """Adds an account with its group and home; one that is there keeps all but gets the keys.

    Args:
        guest: opened with trees that can be changed.
        account: what is added.
        changed_on: the day of its password, since 1970.

    Returns:
        Whether it is new.
    """
    accounts = read_accounts(guest)
    there = find_account(accounts, account.name)
    if there:
        if account.password_hash != NO_PASSWORD:
            set_password(guest, account.name, account.password_hash)
        _add_keys(guest, there.home, there.uid, there.gid, account.public_keys)
        return False
    taken = [item.uid for item in accounts if item.uid < _END_OF_PEOPLE]
    uid = max([_FIRST_UID - 1, *taken]) + 1
    home = f"/home/{account.name}"
    shell = next((path for path in _SHELLS if guest.exists(path)), _SHELLS[-1])
    subordinate = _FIRST_SUBORDINATE + _SUBORDINATES * (uid - _FIRST_UID)
    for path, line, mode in (
        (
            "/etc/passwd",
            f"{account.name}:x:{uid}:{uid}:{account.full_name}:{home}:{shell}",
            0o644,
        ),
        (
            "/etc/shadow",
            f"{account.name}:{account.password_hash}:{changed_on}:0:99999:7:::",
            0o640,
        ),
        ("/etc/group", f"{account.name}:x:{uid}:", 0o644),
        ("/etc/gshadow", f"{account.name}:!::", 0o640),
        ("/etc/subuid", f"{account.name}:{subordinate}:{_SUBORDINATES}", 0o644),
        ("/etc/subgid", f"{account.name}:{subordinate}:{_SUBORDINATES}", 0o644),
    ):
        _append_line(guest, path, line, mode)
    _make_home(guest, home, uid)
    _add_keys(guest, home, uid, uid, account.public_keys)
    return True


def set_password(guest: Guest, name: str, password_hash: str) -> None:
    """Gives an account another password."""
    lines = []
    for line in guest.read_text("/etc/shadow").splitlines():
        owner, _colon, rest = line.partition(":")
        if owner == name:
            line = f"{name}:{password_hash}:{rest.partition(':')[2]}"
        lines.append(line + "\n")
    guest.put_file("/etc/shadow", "".join(lines).encode("utf-8", "surrogateescape"), 0o640)


def give_all_rights(guest: Guest, names: list[str], path: str) -> None:
    """Lets accounts do everything without a password, by a file for sudo."""
    rights = "".join(f"{name} ALL=(ALL) NOPASSWD:ALL\n" for name in names)
    guest.put_file(path, rights.encode(), 0o440)


def _make_home(guest: Guest, home: str, uid: int) -> None:
    guest.make_folders(home.rpartition("/")[0], 0o755)
    if guest.exists(home):
        return
    guest.create_folder(home, 0o700, uid, uid)
    for path in guest.glob("/etc/skel/*") + guest.glob("/etc/skel/.*"):
        facts = guest.facts(path, follow_last=False)
        if facts.kind is Kind.FILE:
            target = f"{home}/{path.rpartition('/')[2]}"
            guest.create_file(target, guest.read_file(path), facts.mode & 0o777, uid, uid)


def _add_keys(guest: Guest, home: str, uid: int, gid: int, keys: tuple[str, ...]) -> None:
    folder, path = f"{home}/.ssh", f"{home}/.ssh/authorized_keys"
    if not keys:
        return
    if not guest.exists(folder):
        guest.create_folder(folder, 0o700, uid, gid)
    known = guest.read_text(path).splitlines()
    text = "".join(f"{line}\n" for line in (*known, *(key for key in keys if key not in known)))
    if guest.is_file(path):
        guest.replace_content(path, text.encode("utf-8", "surrogateescape"))
    else:
        guest.create_file(path, text.encode(), 0o600, uid, gid)


def _append_line(guest: Guest, path: str, line: str, mode: int) -> None:
    before = guest.read_file(path) if guest.is_file(path) else b""
    if before and not before.endswith(b"\n"):
        before += b"\n"
    guest.put_file(path, before + line.encode() + b"\n", mode)
