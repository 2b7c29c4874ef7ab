"""Finding traces on a guest: what the patterns of the catalogue match, and what finders name."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Collection, Iterator
from fnmatch import fnmatchcase as fnmatch
from importlib import import_module
from typing import Any, assert_never

from zeroseal.filesystems.tree import Kind, NodeFacts
from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.services import Services
from zeroseal.guests.ssh_keys import fingerprint
from zeroseal.messages import traces as messages
from zeroseal.sentences import counted
from zeroseal.traces.changes import (
    Change,
    EditKeys,
    EmptyFile,
    PathChange,
    RemovePath,
    ReplaceContent,
    VolumeChange,
)
from zeroseal.traces.finder import FindContext, Finder, Found, defined_finders
from zeroseal.traces.finding import Finding
from zeroseal.traces.key_edits import KeyEdit, edit_keys, edited_values
from zeroseal.traces.model import (
    EventLogs,
    HomeGlobs,
    InCode,
    PathGlobs,
    RegistryKeys,
    RegistryValues,
    Trace,
    Treatment,
    Where,
)

_SMALL_BYTES = 64 << 10
_ROOMS = tuple(f"zeroseal.traces.{name}" for name in ("volumes", "linux", "windows"))  # of finders


def get_finder(name: str) -> Finder[Any]:
    """The finder of that name.

    Raises:
        ValueError: there is none.
    """
    for room in _ROOMS:
        if name not in defined_finders():
            import_module(room)
    found = defined_finders().get(name)
    if found is None:
        raise ValueError(messages.FINDER_NOT_KNOWN.format(name=name))
    return found


def find_trace(trace: Trace, context: FindContext, claimed: set[str]) -> Iterator[Finding]:
    """Yields the findings of one trace.

    ``claimed`` holds the paths that earlier findings remove or empty; theirs are added.
    """
    for where in trace.places:
        if not _is_meant(where, context.guest):
            continue
        for change, evidence in _find_changes(where, context):
            treatment = change.treatment or where.treatment
            if change.claim(claimed):
                yield _finding_of(trace, treatment, change, evidence, context)


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


def _finding_of(
    trace: Trace, treatment: Treatment, change: Change, evidence: str, context: FindContext
) -> Finding:
    files, size = 0, 0
    if isinstance(change, PathChange):
        is_there = context.guest.find(change.path, follow_last=False) is not None
        files, size = context.guest.size_of(change.path) if is_there else (0, 0)
    elif isinstance(change, VolumeChange):
        size = change.stale_bytes
    return Finding(
        trace=trace,
        treatment=treatment,
        change=change,
        files=files,
        size_bytes=size,
        evidence=evidence,
    )


def _find_changes(where: Where, context: FindContext) -> Iterator[Found]:
    match where.locator:
        case PathGlobs(patterns=patterns):
            if where.unless_any_contains and _any_contains(where, patterns, context.guest):
                return
            for pattern in patterns:
                yield from _find_paths(where, context.spell_out(pattern), context)
        case HomeGlobs(patterns=patterns):
            yield from _find_paths(where, context.below_homes(patterns), context)
        case RegistryKeys() | RegistryValues() | EventLogs() as locator:
            from zeroseal.traces.windows.registry import find_in_windows  # no Linux asks for it

            yield from find_in_windows(where, locator, context)
        case InCode(name=name):
            yield from get_finder(name).find(context)
        case _:
            assert_never(where.locator)


def _find_paths(where: Where, patterns: Iterator[str], context: FindContext) -> Iterator[Found]:
    for pattern in patterns:
        for path in context.guest.glob(pattern):
            yield from _change_for(where, path, context.guest, context.host_words)


def _change_for(
    where: Where, path: str, guest: Guest, words: re.Pattern[str] | None
) -> Iterator[Found]:
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
) -> Iterator[Found]:
    """The change for a file that is to be emptied: one named after the host goes as a whole."""
    if words and words.search(path.rpartition("/")[2].lower()):
        yield RemovePath(path), "its name contains the host name"
    elif facts.size_bytes and not _is_clean(where, path, facts, guest):
        other = guest.other_names(path) if facts.link_count > 1 else []
        text = f"also emptied under its other names: {', '.join(other)}" if other else ""
        yield EmptyFile(path), text or _evidence(path, guest)


def _is_excepted(where: Where, path: str) -> bool:
    return any(fnmatch(path.lower(), pattern.lower()) for pattern in where.excepted)


def _removal(where: Where, path: str, guest: Guest) -> Iterator[Found]:
    if guest.is_lost_found(path) or guest.is_untouchable(path):
        return
    yield RemovePath(path), _evidence(path, guest)
    target = guest.find(path) if where.follow else None
    if target and target.path != path and target.kind is Kind.FILE:
        yield RemovePath(target.path), f"{path} refers to it"


def _is_clean(where: Where, path: str, facts: NodeFacts, guest: Guest) -> bool:
    """Whether a file has the content already that it is to get, or one that is as good."""
    if facts.size_bytes > _SMALL_BYTES or not (where.clean or where.content):
        return False
    content = guest.read_text(path)
    return content.strip() in where.clean or content == where.content


def _edited(text: str, edit: KeyEdit) -> str:
    count = len(edited_values(text, edit))
    return counted(count, "line")


def _is_meant(where: Where, guest: Guest) -> bool:
    """Whether a place is for a guest like this."""
    if where.if_present and not any(map(guest.glob, where.if_present)):
        return False
    return not any(map(guest.glob, where.if_absent))


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
