"""Finding human accounts, the homes of those that stay, and root's password."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.guests.accounts import Account, find_account
from zeroseal.guests.guest import Guest
from zeroseal.traces.changes import Change, DropAccounts, DropLines, LockPassword, RemovePath
from zeroseal.traces.context import FindContext
from zeroseal.traces.text_edits import drop_accounts, drop_lines, lock_password

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
_NO_HOMES = ("usr", "etc", "dev", "proc", "sys", "bin", "sbin")


def iter_homes(context: FindContext) -> Iterator[Account]:
    """Accounts that stay and have a home folder of their own."""
    doomed = set() if context.accounts_stay else {account.name for account in context.doomed}
    seen: set[str] = set()
    for account in context.accounts:
        home = account.home.rstrip("/")
        if account.name in doomed or home in seen or not _is_own_home(home, context.guest):
            continue
        seen.add(home)
        yield account


def _is_own_home(home: str, guest: Guest) -> bool:
    """Whether a home folder belongs to one account, and is no folder of the system."""
    parts = home.strip("/").split("/")
    if home == "/root":
        return True
    if len(parts) < 2 or parts[0] in _NO_HOMES:
        return False
    return guest.is_folder(home)


def is_kept_login(pattern: str, account: Account, context: FindContext) -> bool:
    """Whether a pattern means login keys that were chosen to be kept."""
    if not pattern.startswith(".ssh/authorized_keys"):
        return False
    return account.name in context.retained or (account.uid == 0 and context.keep_root_login)


def find_accounts(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields homes, spools and account files of the accounts that are to go."""
    doomed = context.doomed
    if not doomed:
        return
    guest = context.guest
    names = tuple(account.name for account in doomed)
    for account in doomed:
        evidence = f"account {account.name}, uid {account.uid}"
        if _is_own_home(account.home.rstrip("/"), guest) and not _is_shared(account, context):
            found = guest.find(account.home)
            if found:
                yield RemovePath(found.path), evidence + _settings_in(guest, found.path)
        for spool in _SPOOLS:
            found = guest.find(f"{spool}/{account.name}", follow_last=False)
            if found:
                yield RemovePath(found.path), evidence
    yield from _find_rights(names, guest)
    own_groups = _own_groups(doomed, context)
    for name in _ACCOUNT_FILES:
        path = f"/etc/{name}"
        change = DropAccounts(path, names, own_groups)
        if drop_accounts(guest.read_text(path), change) != guest.read_text(path):
            yield change, f"{len(names)} account{'s' if len(names) != 1 else ''}"


def _find_rights(names: tuple[str, ...], guest: Guest) -> Iterator[tuple[Change, str]]:
    """Yields the lines that give removed accounts rights; a file of nothing else goes."""
    for path in [path for pattern in _TABLES_OF_NAMES for path in guest.glob(pattern)]:
        if path == "/etc/sudoers.d/90-cloud-init-users" or not guest.is_file(path):
            continue
        change = DropLines(path, names)
        text = guest.read_text(path)
        rest = drop_lines(text, change)
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
    told = ", ".join(names[:_NAMED_SETTINGS])
    rest = len(names) - _NAMED_SETTINGS
    return f"; holds {told}" + (f" and {rest} more" if rest > 0 else "")


def _is_shared(account: Account, context: FindContext) -> bool:
    """Whether an account that stays lives in the same folder."""
    doomed = {item.name for item in context.doomed}
    home = account.home.rstrip("/")
    return any(
        other.name not in doomed and (other.home.rstrip("/") + "/").startswith(home + "/")
        for other in context.accounts
    )


def _own_groups(doomed: list[Account], context: FindContext) -> tuple[str, ...]:
    """Groups named like a removed account whose number no account that stays uses."""
    names = {account.name for account in doomed}
    used = {account.gid for account in context.accounts if account.name not in names}
    groups = []
    for line in context.guest.read_text("/etc/group").splitlines():
        fields = line.split(":")
        if len(fields) == 4 and fields[0] in names and fields[2].isdigit():
            members = {member for member in fields[3].split(",") if member} - names
            if int(fields[2]) not in used and not members:
                groups.append(fields[0])
    return tuple(groups)


def find_root_password(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields root's password field, unless it is locked and empty already."""
    root = find_account(context.accounts, "root")
    if context.keep_root_login or root is None:
        return
    change = LockPassword("/etc/shadow", "root")
    text = context.guest.read_text(change.path)
    if lock_password(text, change) != text:
        yield change, "a password is set" if root.has_password else "a locked password's hash"
