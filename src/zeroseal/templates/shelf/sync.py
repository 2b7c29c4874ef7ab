"""Bringing one shelf to another: what is missing there is copied, what changed of an entry follows.

A disk is believed only as far as its record proves it: the copy is digested and compared with
record and entry before it gets its name. Nothing on the other shelf is overwritten or removed.
"""

from __future__ import annotations

import shutil
from dataclasses import dataclass, replace
from enum import Enum
from pathlib import Path

from zeroseal.errors import (
    OutputExistsError,
    RefusedError,
    UsageError,
    ZeroSealError,
    environment_error,
)
from zeroseal.images.output_folder import OutputFolder, sweep_unfinished
from zeroseal.images.resumed_copy import copy_resumed
from zeroseal.messages import templates as messages
from zeroseal.progress import Progress, quiet
from zeroseal.sealing.check import CheckResult, check_record
from zeroseal.sealing.record import record_path
from zeroseal.sealing.signing import TrustedKey
from zeroseal.sealing.trust import require_signature
from zeroseal.sealing.verdict import Verdict
from zeroseal.templates.shelf.contents_file import CONTENTS_FILE
from zeroseal.templates.shelf.entry import ShelfEntry, Template, read_entry, write_entry
from zeroseal.templates.shelf.shelf import Shelf, check_lets_go

_PENDING = ".sync-{digest}"
_MORE_FILES = (CONTENTS_FILE, "patches.txt")


class Move(Enum):
    """What becomes of one template of the first shelf."""

    COPY = "copied"
    CHANGE = "changed"
    SAME = "the same"
    CONFLICT = "CONFLICT"


@dataclass(frozen=True)
class Synced:
    """One template of the first shelf.

    Attributes:
        reason: what changed, or why nothing could be done; empty where there is nothing to say.
    """

    template: Template
    move: Move
    reason: str = ""


def plan_sync(source: Shelf, target: Shelf) -> list[Synced]:
    """What would be done, by reading entries only.

    Raises:
        UsageError: both are one shelf.
    """
    if source.folder.resolve() == target.folder.resolve():
        raise UsageError(messages.ONE_SHELF_TWICE.format(folder=source.folder))
    there = target.templates()
    by_title = {item.entry.title: item for item in there}
    by_digest = {item.entry.digest: item for item in there}
    return [_plan(item, by_title, by_digest) for item in source.templates()]


def sync_shelves(
    source: Shelf,
    target: Shelf,
    trusted: tuple[TrustedKey, ...] = (),
    progress: Progress = quiet,
) -> list[Synced]:
    """Copies what is missing, and lets notes, tags and retirements follow.

    Cut off, it goes on where it ended when it is called again.

    Args:
        source: whose templates; only read.
        target: where they go.
        trusted: whose signatures count; none for no signature at all.
        progress: told of the bytes of each disk.

    Raises:
        UsageError: both are one shelf.
        UnfinishedError: no space, or another failure of the host.
    """
    done = []
    for item in plan_sync(source, target):
        if item.move is Move.COPY:
            item = _copied(item, target, trusted, progress)
        elif item.move is Move.CHANGE:
            item = _changed(item, target)
        done.append(item)
    return done


# -- inside


def _plan(
    template: Template, by_title: dict[str, Template], by_digest: dict[str, Template]
) -> Synced:
    entry = template.entry
    there = by_title.get(entry.title)
    if there is None:
        other = by_digest.get(entry.digest)
        if other:
            reason = f"the same disk is there as {other.entry.title}"
            return Synced(template, Move.CONFLICT, reason)
        return Synced(template, Move.COPY)
    if there.entry.digest != entry.digest:
        reason = "another disk has this name and version there: rename or remove one of them"
        return Synced(template, Move.CONFLICT, reason)
    changes = _differences(there.entry, entry)
    if changes:
        return Synced(template, Move.CHANGE, ", ".join(changes))
    return Synced(template, Move.SAME)


def _differences(old: ShelfEntry, new: ShelfEntry) -> list[str]:
    changes = []
    if bool(old.retired_at) != bool(new.retired_at):
        changes.append("retired" if new.retired_at else "brought back into use")
    changes += ["note"] if old.notes != new.notes else []
    changes += ["tags"] if old.tags != new.tags else []
    return changes


def _changed(item: Synced, target: Shelf) -> Synced:
    entry = item.template.entry
    there = target.get(entry.title)
    retires = bool(entry.retired_at) and not there.entry.retired_at
    try:
        if retires:
            check_lets_go(there, ())
    except RefusedError as error:
        return Synced(item.template, Move.CONFLICT, f"it is not retired there: {error.message}")
    target.change(there, notes=entry.notes, tags=entry.tags, retired_at=entry.retired_at)
    return item


def _copied(
    item: Synced, target: Shelf, trusted: tuple[TrustedKey, ...], progress: Progress
) -> Synced:
    template, entry = item.template, item.template.entry
    pending = target.folder / _PENDING.format(digest=entry.digest[:16])
    try:
        disk = copy_resumed(template.disk, pending, entry.disk, progress)
        _copy_small(template, pending)
        problem = _problem_of(disk, entry, trusted, progress)
        if problem:
            shutil.rmtree(pending)
            return Synced(template, Move.CONFLICT, problem)
        _put(template, pending, target)
        shutil.rmtree(pending)
    except OSError as error:
        raise environment_error(error, pending, "writing") from error
    return item


def _copy_small(template: Template, pending: Path) -> None:
    record = record_path(template.disk)
    names = (record.name, *_MORE_FILES)
    for path in (template.folder / name for name in names):
        if path.is_file():
            (pending / path.name).unlink(missing_ok=True)
            shutil.copyfile(path, pending / path.name)


def _problem_of(
    disk: Path, entry: ShelfEntry, trusted: tuple[TrustedKey, ...], progress: Progress
) -> str:
    """Why a copy cannot be taken in; empty where it can."""
    try:
        checked: CheckResult = check_record(disk, progress)
    except ZeroSealError as error:
        return f"its copy cannot be read: {error.message}"
    if trusted:
        checked = require_signature(checked, trusted)
    if checked.verdict is not Verdict.SEALED or checked.record is None:
        return f"its copy is {checked.verdict.value}: {checked.reason}"
    if checked.record.root != entry.digest:
        return "its seal record is of another disk than its entry: run zeroseal shelf verify"
    return ""


def _put(template: Template, pending: Path, target: Shelf) -> None:
    """Gives a copy that is whole and proven its place; the index is locked for that moment."""
    entry = template.entry
    final = target.folder / entry.name / entry.version
    for parent in target.folder.glob("[!.]*/"):
        sweep_unfinished(parent)
    with OutputFolder(final) as output:
        for name in (entry.disk, record_path(template.disk).name, *_MORE_FILES):
            path = pending / name
            if path.is_file():
                path.chmod(0o444)
                path.rename(output.path / name)
        with target.index.locked() as rows:
            same = [row.entry for row in rows if row.entry and row.entry.digest == entry.digest]
            if same:
                raise OutputExistsError(messages.SAME_DISK_ON_SHELF.format(title=same[0].title))
            write_entry(output.path, replace(read_entry(template.folder), disk=entry.disk))
            output.commit()
