"""Finding traces on a guest: what the patterns of the catalogue match, and what finders name."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Collection, Iterator
from typing import assert_never

from zeroseal.filesystems.tree import Kind
from zeroseal.guests.guest import Guest
from zeroseal.guests.services import Services
from zeroseal.guests.ssh_keys import fingerprint
from zeroseal.traces.account_finders import (
    find_accounts,
    find_root_password,
    is_kept_login,
    iter_homes,
)
from zeroseal.traces.changes import (
    Change,
    DropAccounts,
    DropHostNames,
    EmptyFile,
    LockPassword,
    RemovePath,
    ReplaceContent,
    RewriteInitramfs,
    VolumeChange,
)
from zeroseal.traces.context import FindContext
from zeroseal.traces.finding import Finding
from zeroseal.traces.host_name_finder import find_host_name
from zeroseal.traces.initramfs_finder import find_initramfs
from zeroseal.traces.model import (
    Finder,
    FinderName,
    HomeGlobs,
    PathGlobs,
    Trace,
    Treatment,
    Where,
)
from zeroseal.traces.volume_finders import (
    find_free_inodes,
    find_free_space,
    find_gaps,
    find_journals,
    find_slack,
    find_swaps,
    stored_bytes,
)

_SMALL_BYTES = 64 << 10

_FINDERS: dict[FinderName, Callable[[FindContext], Iterator[tuple[Change, str]]]] = {
    FinderName.ACCOUNTS: find_accounts,
    FinderName.INITRAMFS: find_initramfs,
    FinderName.ROOT_PASSWORD: find_root_password,
    FinderName.HOST_NAME: find_host_name,
    FinderName.SWAP: find_swaps,
    FinderName.JOURNAL: find_journals,
    FinderName.FREE_INODES: find_free_inodes,
    FinderName.FREE_SPACE: find_free_space,
    FinderName.SLACK: find_slack,
    FinderName.GAPS: find_gaps,
}


def find_trace(trace: Trace, context: FindContext, claimed: set[str]) -> Iterator[Finding]:
    """Yields the findings of one trace.

    ``claimed`` holds the paths that earlier findings remove or empty; theirs are added.
    """
    for where in trace.places:
        for change, evidence in _find_changes(where, context):
            if isinstance(change, VolumeChange):
                size = stored_bytes(change, context)
                if size:
                    yield Finding(trace, where.treatment, change, 0, size, evidence)
                continue
            if _is_claimed(change.path, claimed):
                continue
            if isinstance(change, RemovePath | EmptyFile):
                claimed.add(change.path)
            files, size = context.guest.size_of(change.path)
            treatment = where.treatment
            if isinstance(change, DropAccounts | LockPassword | DropHostNames | RewriteInitramfs):
                treatment = Treatment.REWRITE
            yield Finding(trace, treatment, change, files, size, evidence)


def regrower(trace: Trace, guest: Guest, services: Services, gone: Collection[str] = ()) -> str:
    """The service or program in the guest that regrows a trace; empty where none was found.

    Args:
        trace: what is to regrow.
        guest: where.
        services: what its boot starts.
        gone: paths that will not be there then.
    """
    grown = trace.regrowth
    return (
        services.first_enabled(grown.services, gone)
        or (services.find_caller(grown.commands, gone) if grown.commands else "")
        or next((path for path in grown.programs if guest.exists(path)), "")
    )


def regrower_with_seed(trace: Trace, services: Services, gone: Collection[str] = ()) -> str:
    """The unit that regrows a trace on a clone that is given a seed; empty where none was found."""
    return services.first_enabled(trace.regrowth.services_with_seed, gone)


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
            for account in iter_homes(context):
                for pattern in patterns:
                    if is_kept_login(pattern, account, context):
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
    if where.files_only and facts.kind is not Kind.FILE:
        return
    match where.treatment:
        case Treatment.REMOVE:
            if guest.is_lost_found(path):
                return
            yield RemovePath(path), _evidence(path, guest)
            target = guest.find(path) if where.follow and facts.kind is Kind.LINK else None
            if target and target.kind is Kind.FILE:
                yield RemovePath(target.path), f"{path} leads to it"
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
        return fingerprint(guest.read_text(path))
    if path.endswith("/machine-id") and guest.is_file(path):
        return f"hash {hashlib.sha256(guest.read_file(path)).hexdigest()[:8]}"
    return ""
