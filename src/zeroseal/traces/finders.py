"""Finding traces on a guest: what the patterns of the catalogue match, and what code must look for."""

from __future__ import annotations

import base64
import hashlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import assert_never

from zeroseal.blocks.store import Extent, Store
from zeroseal.filesystems.ext.unused import iter_free_inodes, iter_free_space, iter_journal_body
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.filesystems.tree import Kind
from zeroseal.guests.accounts import Account, find_account, read_accounts
from zeroseal.guests.facts import read_host_name
from zeroseal.guests.guest import Guest
from zeroseal.guests.services import is_unit_enabled
from zeroseal.traces.changes import (
    BlankFreeInodes,
    BlankFreeSpace,
    BlankJournal,
    BlankSwap,
    Change,
    DropAccounts,
    DropHostNames,
    EmptyFile,
    LockPassword,
    RemovePath,
    ReplaceContent,
    VolumeChange,
)
from zeroseal.traces.finding import Finding
from zeroseal.traces.model import (
    Finder,
    FinderName,
    HomeGlobs,
    PathGlobs,
    Trace,
    Treatment,
    Where,
)
from zeroseal.volumes.swap import data_range, find_swap
from zeroseal.volumes.volume import Volume

NEUTRAL_HOST_NAME = "localhost"
_ACCOUNT_FILES = ("passwd", "shadow", "group", "gshadow", "subuid", "subgid")
_SPOOLS = ("/var/mail", "/var/spool/mail", "/var/spool/cron/crontabs", "/var/spool/cron")
_SYSTEM_FOLDERS = frozenset(
    "bin boot dev etc home lib lib64 media mnt opt proc root run sbin srv sys tmp usr var".split()
)
_LOCKED_PREFIXES = ("!", "*")
_SMALL_BYTES = 64 << 10


@dataclass(frozen=True)
class FindContext:
    """What finders look at, and what the administrator chose to keep.

    Attributes:
        swaps: swap volumes of the disk.
        retained: names of human accounts that stay.
        keep_root_login: whether root's password and keys stay.
        accounts_stay: whether the removal of human accounts is skipped as a whole.
    """

    guest: Guest
    swaps: list[Volume]
    retained: frozenset[str] = frozenset()
    keep_root_login: bool = False
    accounts_stay: bool = False
    accounts: list[Account] = field(init=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "accounts", read_accounts(self.guest))

    @property
    def doomed(self) -> list[Account]:
        """Human accounts that would be removed."""
        return [
            account
            for account in self.accounts
            if account.is_human and account.name not in self.retained
        ]


def find_trace(trace: Trace, context: FindContext, claimed: set[str]) -> Iterator[Finding]:
    """Yields the findings of one trace.

    ``claimed`` holds the paths that earlier findings remove or empty; theirs are added.
    """
    for where in trace.places:
        for change, evidence in _find_changes(where, context):
            if isinstance(change, VolumeChange):
                size = _stored_bytes(change, context)
                if size:
                    yield Finding(trace, where.treatment, change, 0, size, evidence)
                continue
            if _is_claimed(change.path, claimed):
                continue
            if isinstance(change, RemovePath | EmptyFile):
                claimed.add(change.path)
            files, size = context.guest.size_of(change.path)
            treatment = where.treatment
            if isinstance(change, DropAccounts | LockPassword | DropHostNames):
                treatment = Treatment.REWRITE
            yield Finding(trace, treatment, change, files, size, evidence)


def regrower(trace: Trace, guest: Guest) -> str:
    """The service or program in the guest that regrows a trace; empty where none was found."""
    for unit in trace.regrowth.services:
        if is_unit_enabled(guest, unit):
            return unit
    for path in trace.regrowth.programs:
        if guest.exists(path):
            return path
    return ""


def _is_claimed(path: str, claimed: set[str]) -> bool:
    while path:
        if path in claimed:
            return True
        path = path.rpartition("/")[0]
    return False


def _find_changes(where: Where, context: FindContext) -> Iterator[tuple[Change, str]]:
    match where.locator:
        case PathGlobs(patterns=patterns):
            for pattern in patterns:
                for path in context.guest.glob(pattern):
                    yield from _change_for(where, path, context.guest)
        case HomeGlobs(patterns=patterns):
            for account in _homes(context):
                for pattern in patterns:
                    if _is_kept_login(pattern, account, context):
                        continue
                    for path in context.guest.glob(f"{account.home}/{pattern}"):
                        yield from _change_for(where, path, context.guest)
        case Finder(name=name):
            yield from _FINDERS[name](context)
        case _:
            assert_never(where.locator)


def _change_for(where: Where, path: str, guest: Guest) -> Iterator[tuple[Change, str]]:
    """The change for a matched path, if there is anything to change."""
    facts = guest.facts(path, follow_last=False)
    match where.treatment:
        case Treatment.REMOVE:
            yield RemovePath(path), _evidence(path, guest)
        case Treatment.EMPTY | Treatment.REPLACE:
            if facts.kind is not Kind.FILE or (
                where.treatment is Treatment.EMPTY and not facts.size_bytes
            ):
                return
            if facts.size_bytes <= _SMALL_BYTES and (where.clean or where.content):
                content = guest.read_text(path)
                if content.strip() in where.clean or content == where.content:
                    return
            if where.treatment is Treatment.EMPTY:
                yield EmptyFile(path), _evidence(path, guest)
            else:
                yield ReplaceContent(path, where.content), _evidence(path, guest)
        case Treatment.KEEP:
            return
        case Treatment.REWRITE | Treatment.BLANK:
            raise TypeError(f"{where.treatment} needs a finder")
        case _:
            assert_never(where.treatment)


def _evidence(path: str, guest: Guest) -> str:
    """A public fingerprint, or a short hash of a small identity file."""
    if path.endswith(".pub") and guest.is_file(path):
        fields = guest.read_text(path).split()
        try:
            blob = base64.b64decode(fields[1], validate=True)
        except (IndexError, ValueError):
            return ""
        digest = base64.b64encode(hashlib.sha256(blob).digest()).decode().rstrip("=")
        return f"SHA256:{digest}"
    if path.endswith("/machine-id") and guest.is_file(path):
        return f"hash {hashlib.sha256(guest.read_file(path)).hexdigest()[:8]}"
    return ""


# -- accounts


def _homes(context: FindContext) -> Iterator[Account]:
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
    if len(parts) < 2 or (parts[0] in ("usr", "etc", "dev", "proc", "sys", "bin", "sbin")):
        return False
    return guest.is_folder(home)


def _is_kept_login(pattern: str, account: Account, context: FindContext) -> bool:
    if not pattern.startswith(".ssh/authorized_keys"):
        return False
    return account.name in context.retained or (account.uid == 0 and context.keep_root_login)


def _find_accounts(context: FindContext) -> Iterator[tuple[Change, str]]:
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
                yield RemovePath(found.path), evidence
        for spool in _SPOOLS:
            found = guest.find(f"{spool}/{account.name}", follow_last=False)
            if found:
                yield RemovePath(found.path), evidence
    own_groups = _own_groups(doomed, context)
    for name in _ACCOUNT_FILES:
        path = f"/etc/{name}"
        change = DropAccounts(path, names, own_groups)
        if drop_accounts(guest.read_text(path), change) != guest.read_text(path):
            yield change, f"{len(names)} account{'s' if len(names) != 1 else ''}"


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


def _find_root_password(context: FindContext) -> Iterator[tuple[Change, str]]:
    root = find_account(context.accounts, "root")
    if context.keep_root_login or root is None:
        return
    change = LockPassword("/etc/shadow", "root")
    text = context.guest.read_text(change.path)
    if lock_password(text, change) != text:
        yield change, "a password is set" if root.has_password else "a locked password's hash"


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


# -- host name


def _find_host_name(context: FindContext) -> Iterator[tuple[Change, str]]:
    guest = context.guest
    name = read_host_name(guest)
    if not name or name == NEUTRAL_HOST_NAME:
        return
    for path in ("/etc/hostname", "/etc/HOSTNAME", "/etc/mailname"):
        if name.partition(".")[0] in guest.read_text(path):
            yield ReplaceContent(path, NEUTRAL_HOST_NAME + "\n"), f"the name {name}"
    change = DropHostNames("/etc/hosts", (name,))
    text = guest.read_text(change.path)
    if drop_host_names(text, change) != text:
        yield change, f"the name {name}"


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
            lines.append(" ".join([words[0], *kept]) + (f" {hash_sign}{comment}" or "").rstrip() + "\n")
    return "".join(lines)


# -- what lies beside the files


def _find_swaps(context: FindContext) -> Iterator[tuple[Change, str]]:
    for volume in context.swaps:
        yield BlankSwap(volume.name), ""


def _find_journals(context: FindContext) -> Iterator[tuple[Change, str]]:
    for mount in context.guest.mounts:
        yield BlankJournal(mount.volume.name), f"mounted on {mount.path}"


def _find_free_inodes(context: FindContext) -> Iterator[tuple[Change, str]]:
    for mount in context.guest.mounts:
        yield BlankFreeInodes(mount.volume.name), f"mounted on {mount.path}"


def _find_free_space(context: FindContext) -> Iterator[tuple[Change, str]]:
    for mount in context.guest.mounts:
        yield BlankFreeSpace(mount.volume.name), f"mounted on {mount.path}"


_FINDERS: dict[FinderName, Callable[[FindContext], Iterator[tuple[Change, str]]]] = {
    FinderName.ACCOUNTS: _find_accounts,
    FinderName.ROOT_PASSWORD: _find_root_password,
    FinderName.HOST_NAME: _find_host_name,
    FinderName.SWAP: _find_swaps,
    FinderName.JOURNAL: _find_journals,
    FinderName.FREE_INODES: _find_free_inodes,
    FinderName.FREE_SPACE: _find_free_space,
}


def ranges_of(change: VolumeChange, volume: Volume) -> Iterator[tuple[int, int]]:
    """The (offset, length) ranges of a volume that a change zeroes."""
    match change:
        case BlankSwap():
            area = find_swap(volume.store)
            if area:
                yield data_range(volume.store, area)
        case BlankJournal():
            yield from iter_journal_body(ExtVolume(volume.store, volume.name))
        case BlankFreeInodes():
            yield from iter_free_inodes(ExtVolume(volume.store, volume.name))
        case BlankFreeSpace():
            yield from iter_free_space(ExtVolume(volume.store, volume.name))
        case _:
            assert_never(change)


def get_volume(context: FindContext, name: str) -> Volume:
    """The guest's volume of that name."""
    volumes = [mount.volume for mount in context.guest.mounts] + context.swaps
    return next(volume for volume in volumes if volume.name == name)


def _stored_bytes(change: VolumeChange, context: FindContext) -> int:
    """How much of the ranges is stored, 0 where all of that reads as zeros.

    Reading stops at the first byte that is not zero, so a used disk costs no more than a sealed one.
    """
    volume = get_volume(context, change.volume)
    stored, dirty = 0, False
    for offset, length in ranges_of(change, volume):
        for extent in volume.store.iter_extents(offset, length):
            if not extent.is_zero:
                stored += extent.length
                dirty = dirty or has_content(volume.store, extent)
    return stored if dirty else 0


def has_content(store: Store, extent: Extent, piece_bytes: int = 1 << 16) -> bool:
    """Whether a range holds anything but zeros."""
    end = extent.offset_bytes + extent.length
    for start in range(extent.offset_bytes, end, piece_bytes):
        content = store.read(start, min(piece_bytes, end - start))
        if content != bytes(len(content)):
            return True
    return False
