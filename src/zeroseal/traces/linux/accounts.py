"""Human accounts with their homes and rights, and root's password."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.accounts import Account, find_account
from zeroseal.sentences import counted, some_of
from zeroseal.traces.changes import RemovePath, TextChange
from zeroseal.traces.finder import Finder, Found
from zeroseal.traces.linux.context import LinuxContext, is_own_home

_ACCOUNT_FILES = ("passwd", "shadow", "group", "gshadow", "subuid", "subgid")
_SPOOLS = (
    "/var/mail",
    "/var/spool/mail",
    "/var/spool/cron/crontabs",
    "/var/spool/cron/tabs",
    "/var/spool/cron",
    "/var/lib/systemd/linger",
    "/var/lib/sudo/lectured",
    "/var/lib/sudo/ts",
    "/var/db/sudo/lectured",
    "/var/db/sudo/ts",
    "/var/lib/faillock",
)
_TABLES_OF_NAMES = (
    "/etc/sudoers",
    "/etc/sudoers.d/*",
    "/etc/cron.allow",
    "/etc/at.allow",
    "/etc/cron.deny",
    "/etc/at.deny",
    "/etc/ftpusers",
)
_NAMED_SETTINGS = 8
_LOCKED_PREFIXES = ("!", "*")


@dataclass(frozen=True)
class DropAccounts(TextChange):
    """Takes accounts out of an account file: their lines, and their places in groups.

    ``own_groups`` are groups that go with them.
    """

    accounts: tuple[str, ...]
    own_groups: tuple[str, ...]

    def edited(self, text: str) -> str:
        """The account file's text without the accounts."""
        is_group_file = self.path.endswith(("group", "gshadow"))
        removed = set(self.own_groups if is_group_file else self.accounts)
        kept = []
        for line in text.splitlines(keepends=True):
            fields = line.rstrip("\n").split(":")
            if fields[0] in removed:
                continue
            if is_group_file and len(fields) == 4:
                lists = (2, 3) if self.path.endswith("gshadow") else (3,)
                for index in lists:
                    members = fields[index].split(",")
                    fields[index] = ",".join(
                        member for member in members if member not in self.accounts
                    )
                line = ":".join(fields) + ("\n" if line.endswith("\n") else "")
            kept.append(line)
        return "".join(kept)


@dataclass(frozen=True)
class LockPassword(TextChange):
    """Makes an account's password field match no password, and drops its hash."""

    account: str

    def edited(self, text: str) -> str:
        """The shadow file's text with the account locked and its hash gone."""
        lines = []
        for line in text.splitlines(keepends=True):
            fields = line.split(":")
            is_clean = (
                len(fields) > 1 and fields[1].startswith(_LOCKED_PREFIXES) and len(fields[1]) < 3
            )
            if fields[0] == self.account and len(fields) > 2 and not is_clean:
                fields[1] = "!"
                line = ":".join(fields)
            lines.append(line)
        return "".join(lines)


@dataclass(frozen=True)
class DropLines(TextChange):
    """Takes lines out of a text file that begin with one of some words."""

    words: tuple[str, ...]

    def edited(self, text: str) -> str:
        """The text without the lines whose first word is one of those named."""
        return "".join(
            line
            for line in text.splitlines(keepends=True)
            if (line.replace(":", " ").split() or [""])[0] not in self.words
        )


class Accounts(Finder[LinuxContext]):
    """Finds homes, spools and account files of the accounts that are to go."""

    name = "accounts"

    def find(self, context: LinuxContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        removed = context.accounts_to_remove
        if not removed:
            return
        guest = context.guest
        names = tuple(account.name for account in removed)
        for account in removed:
            evidence = f"account {account.name}, uid {account.uid}"
            if is_own_home(account.home.rstrip("/"), guest) and not _is_shared(account, context):
                found = guest.find(account.home)
                if found:
                    yield RemovePath(found.path), evidence + _settings_in(guest, found.path)
            for spool in _SPOOLS:
                found = guest.find(f"{spool}/{account.name}", follow_last=False)
                if found:
                    yield RemovePath(found.path), evidence
        yield from _find_rights(names, guest)
        own_groups = _own_groups(removed, context)
        for name in _ACCOUNT_FILES:
            path = f"/etc/{name}"
            change = DropAccounts(path, names, own_groups)
            if change.applies_to(guest):
                yield change, counted(len(names), "account")


def _find_rights(names: tuple[str, ...], guest: Guest) -> Iterator[Found]:
    """Yields the lines that give removed accounts rights; a file of nothing else goes."""
    for path in [path for pattern in _TABLES_OF_NAMES for path in guest.glob(pattern)]:
        if path == "/etc/sudoers.d/90-cloud-init-users" or not guest.is_file(path):
            continue
        change = DropLines(path, names)
        text = guest.read_text(path)
        rest = change.edited(text)
        if rest == text:
            continue
        is_empty = not any(line and not line.startswith("#") for line in rest.splitlines())
        if is_empty and path.startswith("/etc/sudoers.d/"):
            yield RemovePath(path), "rights of removed accounts"
        else:
            yield change, "lines of removed accounts"


def _settings_in(guest: Guest, home: str) -> str:
    """Which personal files and settings go with a home folder, by the names in it."""
    names = guest.list_names(home)
    if not names:
        return "; empty"
    return f"; contains {some_of(names, _NAMED_SETTINGS)}"


def _is_shared(account: Account, context: LinuxContext) -> bool:
    """Whether an account that stays lives in the same folder."""
    removed = {item.name for item in context.accounts_to_remove}
    home = account.home.rstrip("/")
    return any(
        other.name not in removed and (other.home.rstrip("/") + "/").startswith(home + "/")
        for other in context.accounts
    )


def _own_groups(removed: list[Account], context: LinuxContext) -> tuple[str, ...]:
    """Groups named like a removed account whose number no account that stays uses."""
    names = {account.name for account in removed}
    used = {account.gid for account in context.accounts if account.name not in names}
    groups = []
    for line in context.guest.read_text("/etc/group").splitlines():
        fields = line.split(":")
        if len(fields) == 4 and fields[0] in names and fields[2].isdigit():
            members = {member for member in fields[3].split(",") if member} - names
            if int(fields[2]) not in used and not members:
                groups.append(fields[0])
    return tuple(groups)


class RootPassword(Finder[LinuxContext]):
    """Finds root's password field, unless it is locked and empty already."""

    name = "root-password"

    def find(self, context: LinuxContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        root = find_account(context.accounts, "root")
        if context.keeps_root_login or root is None:
            return
        change = LockPassword("/etc/shadow", "root")
        if change.applies_to(context.guest):
            yield change, "a password is set" if root.has_password else "a locked password's hash"
