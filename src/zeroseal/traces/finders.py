"""Finding traces on a guest: what the patterns of the catalogue match, and what finders name."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable, Collection, Iterator
from fnmatch import fnmatchcase as fnmatch
from typing import assert_never

from zeroseal.filesystems.tree import Kind, NodeFacts
from zeroseal.guests.guest import Guest
from zeroseal.guests.services import Services
from zeroseal.guests.ssh_keys import fingerprint
from zeroseal.traces.account_finders import (
    find_accounts,
    find_root_password,
    is_kept_login,
    iter_homes,
)
from zeroseal.traces.boot_entry_finder import find_boot_entries
from zeroseal.traces.changes import (
    Change,
    EditKeys,
    EmptyFile,
    ForgetFileChanges,
    PathChange,
    RegistryChange,
    ReissueSid,
    RemoveKey,
    RemovePath,
    RemoveValue,
    ReplaceContent,
    RewriteInitramfs,
    TextChange,
    VolumeChange,
    registry_path,
)
from zeroseal.traces.context import FindContext
from zeroseal.traces.finding import Finding
from zeroseal.traces.history_finder import find_restarted_histories
from zeroseal.traces.host_name_finder import find_host_name
from zeroseal.traces.initramfs_finder import find_initramfs
from zeroseal.traces.key_edits import KeyEdit, edit_keys, edited_values
from zeroseal.traces.key_finders import find_host_key_paths, find_self_made_pair
from zeroseal.traces.model import (
    EventLogs,
    Finder,
    FinderName,
    HomeGlobs,
    PathGlobs,
    RegistryKeys,
    RegistryValues,
    Trace,
    Treatment,
    Where,
)
from zeroseal.traces.network_finder import find_static_files
from zeroseal.traces.registry_finders import find_event_logs, find_keys, find_values
from zeroseal.traces.swap_file_finder import find_swap_files
from zeroseal.traces.volume_finders import (
    find_free_inodes,
    find_free_space,
    find_gaps,
    find_journals,
    find_lvm_hosts,
    find_shadow_headers,
    find_slack,
    find_swaps,
)
from zeroseal.traces.windows_account_finders import (
    find_windows_accounts,
    find_windows_administrator,
    find_windows_profiles,
    find_windows_tasks,
)
from zeroseal.traces.windows_finders import (
    find_answer_files,
    find_card_addresses,
    find_computer_name,
    find_hive_remains,
    find_machine_guid,
    find_machine_sid,
    find_registered_owner,
    find_user_services,
)

_SMALL_BYTES = 64 << 10

_FINDERS: dict[FinderName, Callable[[FindContext], Iterator[tuple[Change, str]]]] = {
    FinderName.ACCOUNTS: find_accounts,
    FinderName.INITRAMFS: find_initramfs,
    FinderName.ROOT_PASSWORD: find_root_password,
    FinderName.HOST_NAME: find_host_name,
    FinderName.HOST_KEY_PATHS: find_host_key_paths,
    FinderName.BOOT_ENTRIES: find_boot_entries,
    FinderName.SELF_MADE_PAIR: find_self_made_pair,
    FinderName.SWAP_FILES: find_swap_files,
    FinderName.STATIC_ADDRESSES: find_static_files,
    FinderName.SWAP: find_swaps,
    FinderName.JOURNAL: find_journals,
    FinderName.FREE_INODES: find_free_inodes,
    FinderName.FREE_SPACE: find_free_space,
    FinderName.SLACK: find_slack,
    FinderName.GAPS: find_gaps,
    FinderName.WINDOWS_ACCOUNTS: find_windows_accounts,
    FinderName.WINDOWS_PROFILES: find_windows_profiles,
    FinderName.WINDOWS_ADMINISTRATOR: find_windows_administrator,
    FinderName.WINDOWS_TASKS: find_windows_tasks,
    FinderName.COMPUTER_NAME: find_computer_name,
    FinderName.REGISTERED_OWNER: find_registered_owner,
    FinderName.MACHINE_SID: find_machine_sid,
    FinderName.MACHINE_GUID: find_machine_guid,
    FinderName.ANSWER_FILES: find_answer_files,
    FinderName.USER_SERVICES: find_user_services,
    FinderName.CARD_ADDRESSES: find_card_addresses,
    FinderName.HIVE_REMAINS: find_hive_remains,
    FinderName.SHADOW_HEADERS: find_shadow_headers,
    FinderName.LVM_HOSTS: find_lvm_hosts,
    FinderName.VERSION_HISTORY: find_restarted_histories,
}


def find_trace(trace: Trace, context: FindContext, claimed: set[str]) -> Iterator[Finding]:
    """Yields the findings of one trace.

    ``claimed`` holds the paths that earlier findings remove or empty; theirs are added.
    """
    for where in trace.places:
        if not _is_meant(where, context.guest):
            continue
        for change, evidence in _find_changes(where, context):
            if isinstance(change, VolumeChange):
                yield Finding(trace, where.treatment, change, 0, _stale_bytes(change), evidence)
            elif isinstance(change, ReissueSid):
                yield Finding(trace, where.treatment, change, 0, 0, evidence)
            elif isinstance(change, RegistryChange):
                if _is_new(change, claimed):
                    yield Finding(trace, where.treatment, change, 0, 0, evidence)
            elif not _is_claimed(change.path, claimed):
                yield _of_path(trace, where, change, evidence, context, claimed)


def _stale_bytes(change: VolumeChange) -> int:
    if isinstance(change, ForgetFileChanges):
        return change.size_bytes
    return sum(patch.stale_bytes for patch in change.patches)


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


def _of_path(
    trace: Trace,
    where: Where,
    change: PathChange,
    evidence: str,
    context: FindContext,
    claimed: set[str],
) -> Finding:
    if isinstance(change, RemovePath | EmptyFile):
        claimed.add(change.path)
    is_there = context.guest.find(change.path, follow_last=False) is not None
    files, size = context.guest.size_of(change.path) if is_there else (0, 0)
    treatment = where.treatment
    if isinstance(change, RemovePath):
        treatment = Treatment.REMOVE
    if isinstance(change, TextChange | RewriteInitramfs):
        treatment = Treatment.REWRITE
    return Finding(trace, treatment, change, files, size, evidence)


def _is_new(change: RegistryChange, claimed: set[str]) -> bool:
    """Whether no earlier finding removes that place of the registry, which is claimed then."""
    path = registry_path(change)
    if _is_claimed(path, claimed) or _is_claimed(change.file, claimed):
        return False
    if isinstance(change, RemoveKey | RemoveValue):
        claimed.add(path)
    return True


def _find_changes(where: Where, context: FindContext) -> Iterator[tuple[Change, str]]:
    match where.locator:
        case PathGlobs(patterns=patterns):
            if where.unless_any_contains and _any_contains(where, patterns, context.guest):
                return
            for pattern in _spelled_out(patterns, context):
                for path in context.guest.glob(pattern):
                    yield from _change_for(where, path, context.guest, context.host_words)
        case HomeGlobs(patterns=patterns):
            for pattern in _below_homes(patterns, context):
                for path in context.guest.glob(pattern):
                    yield from _change_for(where, path, context.guest, context.host_words)
        case RegistryKeys() as locator:
            yield from find_keys(where, locator, context)
        case RegistryValues() as locator:
            yield from find_values(where, locator, context)
        case EventLogs() as locator:
            yield from find_event_logs(locator, context)
        case Finder(name=name):
            yield from _FINDERS[name](context)
        case _:
            assert_never(where.locator)


def _spelled_out(patterns: tuple[str, ...], context: FindContext) -> Iterator[str]:
    """Patterns with the folders of a Windows filled in."""
    for pattern in patterns:
        yield from context.windows.patterns_of(pattern) if context.windows else (pattern,)


def _below_homes(patterns: tuple[str, ...], context: FindContext) -> Iterator[str]:
    """Patterns below the homes of accounts, or the profiles of a Windows, that stay."""
    if context.windows:
        for folder in context.windows.staying_profiles:
            yield from (f"{folder}/{pattern}" for pattern in patterns)
        return
    for account in iter_homes(context):
        for pattern in patterns:
            if not is_kept_login(pattern, account, context):
                yield f"{account.home}/{pattern}"


def _change_for(
    where: Where, path: str, guest: Guest, words: re.Pattern[str] | None
) -> Iterator[tuple[Change, str]]:
    """The change for a matched path, if there is anything to change."""
    facts = guest.facts(path, follow_last=False)
    is_file = facts.kind is Kind.FILE
    if (where.files_only and not is_file) or _is_excepted(where, path):
        return
    if where.contains and not (is_file and re.search(where.contains, guest.read_text(path))):
        return
    match where.treatment:
        case Treatment.REMOVE:
            yield from _removal(where, path, guest)
        case Treatment.EMPTY:
            if is_file:
                yield from _emptying(where, path, facts, guest, words)
        case Treatment.REPLACE:
            if is_file and not _is_clean(where, path, facts, guest):
                yield ReplaceContent(path, where.content), _evidence(path, guest)
        case Treatment.REWRITE:
            assert where.edit is not None  # the catalogue's reader sees to it
            text = guest.read_text(path) if is_file else ""
            if edit_keys(text, where.edit) != text:
                yield EditKeys(path, where.edit), _edited(text, where.edit)
        case Treatment.KEEP:
            return
        case Treatment.BLANK | Treatment.RENAME:
            raise TypeError(f"{where.treatment} needs a finder")
        case _:
            assert_never(where.treatment)


def _emptying(
    where: Where, path: str, facts: NodeFacts, guest: Guest, words: re.Pattern[str] | None
) -> Iterator[tuple[Change, str]]:
    """The change for a file that is to be emptied: one named after the host goes as a whole."""
    if words and words.search(path.rpartition("/")[2].lower()):
        yield RemovePath(path), "its name holds the host's"
    elif facts.size_bytes and not _is_clean(where, path, facts, guest):
        other = guest.other_names(path) if facts.link_count > 1 else []
        told = f"emptied under its other names too: {', '.join(other)}" if other else ""
        yield EmptyFile(path), told or _evidence(path, guest)


def _is_excepted(where: Where, path: str) -> bool:
    return any(fnmatch(path.lower(), pattern.lower()) for pattern in where.excepted)


def _removal(where: Where, path: str, guest: Guest) -> Iterator[tuple[Change, str]]:
    if guest.is_lost_found(path) or guest.is_untouchable(path):
        return
    yield RemovePath(path), _evidence(path, guest)
    target = guest.find(path) if where.follow else None
    if target and target.path != path and target.kind is Kind.FILE:
        yield RemovePath(target.path), f"{path} leads to it"


def _is_clean(where: Where, path: str, facts: NodeFacts, guest: Guest) -> bool:
    """Whether a file has the content already that it is to get, or one that is as good."""
    if facts.size_bytes > _SMALL_BYTES or not (where.clean or where.content):
        return False
    content = guest.read_text(path)
    return content.strip() in where.clean or content == where.content


def _edited(text: str, edit: KeyEdit) -> str:
    count = len(edited_values(text, edit))
    return f"{count} line{'' if count == 1 else 's'}"


def _is_meant(where: Where, guest: Guest) -> bool:
    """Whether a place is for a guest like this."""
    if where.if_present and not any(guest.exists(path) for path in where.if_present):
        return False
    return not any(guest.exists(path) for path in where.if_absent)


def _any_contains(where: Where, patterns: tuple[str, ...], guest: Guest) -> bool:
    return any(
        re.search(where.unless_any_contains, guest.read_text(path))
        for pattern in patterns
        for path in guest.glob(pattern)
    )


def _evidence(path: str, guest: Guest) -> str:
    """A public fingerprint, or a short hash of a small identity file."""
    if path.endswith(".pub") and guest.is_file(path):
        return fingerprint(guest.read_text(path))
    if path.endswith("/machine-id") and guest.is_file(path):
        return f"hash {hashlib.sha256(guest.read_file(path)).hexdigest()[:8]}"
    return ""
