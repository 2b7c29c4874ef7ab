"""Is this image sealed? One verdict, the level it was reached at, and its evidence."""

from __future__ import annotations

import hashlib
import os
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from blake3 import blake3

from zeroseal.blocks.digest import DiskDigest
from zeroseal.blocks.pipeline import digest_store, read_disk_once
from zeroseal.blocks.search import Hit
from zeroseal.blocks.store import CachedStore, CancellableStore, Store
from zeroseal.blocks.workers import wait_for
from zeroseal.errors import DamagedError, ZeroSealError
from zeroseal.images.detect import opened_image
from zeroseal.images.host_file import hash_file
from zeroseal.images.image import Image
from zeroseal.messages import sealing as messages
from zeroseal.progress import CancelToken, Progress, quiet
from zeroseal.sealing.broken_seal import BrokenSeal, explain_changes
from zeroseal.sealing.inspection import Inspection, recoverable
from zeroseal.sealing.judge import find_what_stays
from zeroseal.sealing.policy import DEFAULT_POLICY, Policy
from zeroseal.sealing.quick_look import look_quickly
from zeroseal.sealing.record import SealRecord, find_record, record_path
from zeroseal.sealing.residue import (
    Residue,
    find_residue,
    needles_of,
    not_allowed,
    place_without_offset,
    search_files,
)
from zeroseal.sealing.searched_value import ValueSet
from zeroseal.sealing.tree_image import digest_file, inspected_tree
from zeroseal.sealing.value_collection import collect_values, house_values
from zeroseal.sealing.verdict import FileAnswer, Level, Verdict
from zeroseal.sealing.what_stays import NOTHING_LOOKED_FOR, WhatStays
from zeroseal.sentences import counted
from zeroseal.traces.finding import Finding

if TYPE_CHECKING:
    from zeroseal.sealing.gate import GateAnswer


@dataclass(frozen=True)
class BackingState:
    """The template that a linked clone hangs on."""

    path: Path
    verdict: Verdict
    reason: str


@dataclass(frozen=True)
class CheckResult:
    """A verdict and what it rests on.

    Attributes:
        reason: one sentence.
        findings: traces that are there, none at level ``quick``.
        changed_chunks: chunks that differ from the sealed disk, by number.
        broken: what became of a disk whose seal is broken.
        chunks: (read, stored) chunks of 1 MiB at level ``quick``; None where all were read.
        other_container: how the file differs from the one that was sealed, though its disk does
            not; empty where that is not seen without reading the file.
        file_answer: whether it is the very file that was sealed; None where that was not asked.
        backing: what the disk hangs on, with its own verdict; None where it hangs on nothing.
        skipped: ids of traces that the record says were left on purpose.
        error: what kept the check from an answer, for UNKNOWN.
        values_searched: how many values of the original were searched for, with ``not_searched``
            saying which could not be.
        residue: values, or secrets by their look, that should be gone, and where.
        secrets: secrets by their look in files that stay.
        stays: what else is there and may be identity or a secret, for SEALED and CLEAN.
        is_tree: whether it is no disk but a folder or an archive.
        signer: whose signature of the record was verified; empty where none was.
        gate: what a site's gate says; None where there is none.
    """

    path: Path
    verdict: Verdict
    level: Level
    reason: str
    findings: tuple[Finding, ...] = ()
    record: SealRecord | None = None
    changed_chunks: tuple[int, ...] = ()
    broken: BrokenSeal | None = None
    chunks: tuple[int, int] | None = None
    other_container: str = ""
    file_answer: FileAnswer | None = None
    backing: BackingState | None = None
    skipped: tuple[str, ...] = ()
    error: ZeroSealError | None = None
    values_searched: int = 0
    not_searched: tuple[str, ...] = ()
    residue: tuple[Residue, ...] = ()
    secrets: tuple[Residue, ...] = ()
    stays: WhatStays = NOTHING_LOOKED_FOR
    is_tree: bool = False
    signer: str = ""
    gate: GateAnswer | None = None

    @property
    def accepted(self) -> tuple[tuple[str, str], ...]:
        """(value, place) of what the seal found and accepted, and what is on the disk since."""
        is_as_sealed = self.verdict in (Verdict.SEALED, Verdict.UNSEALED)
        return self.record.accepted if self.record and is_as_sealed else ()


def check_image(
    path: Path,
    level: Level,
    progress: Progress = quiet,
    original: Path | None = None,
    policy: Policy = DEFAULT_POLICY,
) -> CheckResult:
    """Checks an image; nothing is written.

    Args:
        path: the image.
        level: how far to look.
        progress: told of each stage.
        original: for level ``deep``, the unsealed image whose values are searched for.
        policy: the site's: its own traces, its texts, and where residue is allowed.

    Raises:
        ImageError: the container itself cannot be read.
    """
    with opened_image(path, reach=policy.reach) as image:
        try:
            record = find_record(path)
        except DamagedError as error:
            return CheckResult(path, Verdict.UNKNOWN, level, error.message, error=error)
        backing = _backing_of(image, progress)
        if backing and backing.verdict is Verdict.BROKEN_SEAL:
            reason = f"the disk that it depends on, {backing.path}, was changed after it was sealed"
            return CheckResult(path, Verdict.UNKNOWN, level, reason, record=record, backing=backing)
        result = _check_opened(path, image, record, level, progress, original, policy)
        return replace(result, backing=backing)


def check_tree(
    path: Path, progress: Progress = quiet, policy: Policy = DEFAULT_POLICY
) -> CheckResult:
    """Checks a folder or a tar archive; nothing is written.

    Raises:
        ImageError: it cannot be read.
    """
    level = Level.FULL
    try:
        record = find_record(path) if path.is_file() else None
    except DamagedError as error:
        return CheckResult(path, Verdict.UNKNOWN, level, error.message, error=error, is_tree=True)
    if record and digest_file(path, progress).root != record.root:
        reason = "the archive was changed after it was sealed"
        return CheckResult(path, Verdict.BROKEN_SEAL, level, reason, record=record, is_tree=True)
    with inspected_tree(path) as inspection:
        found = inspection.find_all(_policy_for(record, inspection, policy), progress)
        result = replace(_judge(path, record, level, found, is_tree=True), is_tree=True)
        return _with_what_stays(result, inspection, policy)


def check_record(path: Path, progress: Progress = quiet) -> CheckResult:
    """Compares every byte of an image with its record, and looks for nothing else.

    Raises:
        ImageError: the container itself cannot be read.
    """
    with opened_image(path) as image:
        try:
            record = find_record(path)
        except DamagedError as error:
            return CheckResult(path, Verdict.UNKNOWN, Level.FULL, error.message, error=error)
        if record is None:
            reason = "the image has no seal record beside it"
            return CheckResult(path, Verdict.UNKNOWN, Level.FULL, reason)
        digest = digest_store(image, "reading the disk", progress)
        broken = _compare(path, image, record, Level.FULL, digest)
        return broken or _as_recorded(path, Level.FULL, record)


def _check_opened(
    path: Path,
    image: Image,
    record: SealRecord | None,
    level: Level,
    progress: Progress,
    original: Path | None,
    policy: Policy,
) -> CheckResult:
    if level is Level.QUICK:
        return _quick(path, image, record)
    values = _values_of(original, record, policy) if level is Level.DEEP else None
    needles = needles_of(values) if values else []
    hits: list[Hit] = []
    if record is None and not needles:
        found = _ask_catalogue(image, CachedStore(image), record, policy, progress)
    else:
        # the bytes are read once, for the digest and the search, while the catalogue is asked
        token = CancelToken()
        watched = CancellableStore(CachedStore(image), token)
        with ThreadPoolExecutor(1) as pool:
            asking = pool.submit(_ask_catalogue, image, watched, record, policy, token.progress)
            try:
                reading = read_disk_once(image, "reading the disk", progress, needles)
                hits = reading.hits
                broken = _compare(path, image, record, level, reading.digest) if record else None
                if broken:
                    token.cancel()  # what the catalogue finds there is of no use
                    return broken
                found = wait_for(asking, progress, "looking for traces")
            except BaseException:
                token.cancel()
                raise
    if isinstance(found, ZeroSealError):
        return CheckResult(path, Verdict.UNKNOWN, level, found.message, record=record, error=found)
    inspection, findings = found
    result = _judge(path, record, level, findings)
    if record:
        result = replace(result, other_container=_other_container(image, record))
    result = _with_what_stays(result, inspection, policy)
    return _deep(result, inspection, values, hits, policy, progress) if values else result


def _ask_catalogue(
    image: Image, store: Store, record: SealRecord | None, policy: Policy, progress: Progress
) -> tuple[Inspection, list[Finding]] | ZeroSealError:
    """What the catalogue finds; or why that cannot be told, which a broken seal may explain."""
    try:
        inspection = Inspection.read(store, image=image)
        fitted = _policy_for(record, inspection, policy)
        return inspection, inspection.find_all(fitted, progress)
    except ZeroSealError as error:
        return error


def _compare(
    path: Path, image: Image, record: SealRecord, level: Level, digest: DiskDigest
) -> CheckResult | None:
    """None where a disk is what its record says."""
    if digest.root == record.root and digest.size_bytes == record.size_bytes:
        return None
    changed = tuple(record.changed_chunks(digest))
    if record.is_of_another_disk(len(record.leaf_hints), changed):
        return _of_another_disk(path, level, record)
    return _broken(path, image, level, record, changed)


def _with_what_stays(result: CheckResult, inspection: Inspection, policy: Policy) -> CheckResult:
    """Adds what no catalogue knows to a good verdict, which is none where that must not be."""
    if result.verdict not in (Verdict.SEALED, Verdict.CLEAN):
        return result
    stays = find_what_stays(inspection, _policy_for(result.record, inspection, policy))
    result = replace(result, stays=stays)
    if policy.is_strict and not stays.is_empty:
        reason = messages.STRICT_CHECK.format(counts=stays.counts)
        return replace(result, verdict=Verdict.UNSEALED, reason=reason)
    return result


def _other_container(image: Image, record: SealRecord) -> str:
    """How a file differs from the one that was sealed, as far as that is seen without reading."""
    file = record.file
    if file is None or file.format_name == image.format_name:
        return ""
    return f"it was sealed as {file.format_name} but is {image.format_name} now"


def compare_file(result: CheckResult, progress: Progress = quiet) -> FileAnswer:
    """Whether the file of an image is the very one that was sealed; reads all of it.

    Args:
        result: of a check that read the whole disk.
        progress: told how far the reading is.
    """
    record, path = result.record, result.path
    if record is None or record.file is None:
        return FileAnswer.NOT_KNOWN
    if result.verdict is Verdict.BROKEN_SEAL or result.error:
        return FileAnswer.ANOTHER_DISK
    file, size = record.file, path.stat().st_size
    if result.other_container or size != file.size_bytes:
        return FileAnswer.WRITTEN_ANEW
    if not file.blake3 and not file.sha256:  # a raw file, which is its disk
        return FileAnswer.THIS_VERY_FILE
    hasher = blake3(max_threads=blake3.AUTO) if file.blake3 else hashlib.sha256()
    got = hash_file(path, hasher, "reading the file", progress)
    is_same = got == (file.blake3 or file.sha256)
    return FileAnswer.THIS_VERY_FILE if is_same else FileAnswer.WRITTEN_ANEW


def _backing_of(image: Image, progress: Progress) -> BackingState | None:
    """The state of what a disk hangs on, by a quick look."""
    if not image.has_parent:
        return None
    path = image.chain[1]
    with opened_image(path) as parent:
        try:
            record = find_record(path)
        except DamagedError as error:
            return BackingState(Path(os.path.normpath(path)), Verdict.UNKNOWN, error.message)
        checked = _quick(path, parent, record)
    return BackingState(Path(os.path.normpath(path)), checked.verdict, checked.reason)


def _values_of(original: Path | None, record: SealRecord | None, policy: Policy) -> ValueSet:
    """The values of the machine that an image was made from, but for what it kept on purpose."""
    if original is None:
        return house_values(policy)
    with (
        opened_image(original, reach=policy.reach) as source,
        recoverable(source, recover=True) as store,
    ):
        inspection = Inspection.read(store, recover=True)
        if record:
            known = set(inspection.account_names)
            retained = [name for name in record.retained_accounts if name in known]
            policy = policy.with_more_skips(record.skipped).as_sealed(
                retained, record.keep_root_login
            )
            reissued = any(item.trace == "identity.machine-sid" for item in record.treated)
            policy = replace(policy, reissues_sid=policy.reissues_sid or reissued)
        return collect_values(inspection, policy)


def _deep(
    result: CheckResult,
    inspection: Inspection,
    values: ValueSet,
    hits: list[Hit],
    policy: Policy,
    progress: Progress,
) -> CheckResult:
    """Tells where values lie, and secrets by their look."""
    files = search_files(inspection, values, progress)
    searched = find_residue(inspection, values, hits, files)
    residue = searched.residue
    result = replace(
        result,
        values_searched=values.count,
        not_searched=searched.not_searched,
        residue=residue,
        secrets=searched.secrets,
    )
    accepted = result.record.accepted if result.record else ()
    known = {(value, place_without_offset(place)) for value, place in accepted}
    left_over = [
        item
        for item in not_allowed(residue, policy)
        if (item.label, place_without_offset(item.place)) not in known
    ]
    if not left_over or any(name.startswith("disk.") for name in result.skipped):
        return result
    count = len({item.label for item in left_over})
    reason = f"{counted(count, 'thing')} that should have been removed are still on the disk"
    return replace(result, verdict=Verdict.UNSEALED, reason=reason)


def _quick(path: Path, image: Image, record: SealRecord | None) -> CheckResult:
    level = Level.QUICK
    if record is None:
        reason = "the image has no seal record beside it, and a quick check does not look further"
        return CheckResult(path, Verdict.UNKNOWN, level, reason)
    seen = look_quickly(image, record)
    if record.is_of_another_disk(seen.recorded, seen.changed):
        result = _of_another_disk(path, level, record)
    elif image.size_bytes != record.size_bytes or seen.changed:
        result = _broken(path, image, level, record, seen.changed)
    else:
        result = _as_recorded(path, level, record)
    if seen.read == seen.stored:
        return result
    if result.verdict is Verdict.SEALED:
        reason = (
            f"{seen.read:,} of {seen.stored:,} chunks with data were read, and they "
            "match the seal record"
        )
        result = replace(result, reason=reason)
    return replace(result, chunks=(seen.read, seen.stored))


def _of_another_disk(path: Path, level: Level, record: SealRecord) -> CheckResult:
    reason = (
        f"the record beside it, {record_path(path).name}, belongs to another "
        "disk: put the right record there, or remove it"
    )
    return CheckResult(path, Verdict.UNKNOWN, level, reason, record=record)


def _as_recorded(path: Path, level: Level, record: SealRecord) -> CheckResult:
    if not record.is_complete:
        return _partial(path, level, record)
    reason = "the disk matches the seal record byte for byte"
    return CheckResult(path, Verdict.SEALED, level, reason, record=record, skipped=record.skipped)


def _partial(
    path: Path, level: Level, record: SealRecord, findings: tuple[Finding, ...] = ()
) -> CheckResult:
    left = ", ".join(record.skipped)
    reason = f"it was sealed only in part: {left} were kept on purpose"
    return CheckResult(
        path, Verdict.UNSEALED, level, reason, findings, record=record, skipped=record.skipped
    )


def _judge(
    path: Path,
    record: SealRecord | None,
    level: Level,
    found: list[Finding],
    is_tree: bool = False,
) -> CheckResult:
    """The verdict on what is as its record says, where there is one, by what it holds."""
    skipped = record.skipped if record else ()
    findings = tuple(item for item in found if item.trace.id not in skipped)
    if record and not record.is_complete:
        return _partial(path, level, record, tuple(found))
    if findings:
        traces = len({item.trace.id for item in findings})
        where = "in it" if is_tree else "on it"
        reason = f"{len(findings)} findings of {traces} traces are {where}"
        return CheckResult(
            path=path,
            verdict=Verdict.UNSEALED,
            level=level,
            reason=reason,
            findings=findings,
            record=record,
            skipped=skipped,
        )
    if record is None:
        reason = "no trace was found, but there is no seal record to compare the disk with"
        return CheckResult(path, Verdict.CLEAN, level, reason)
    aside = ", apart from what the seal accepted," if record.accepted else ","
    thing = "archive" if is_tree else "disk"
    is_same = f"and the {thing} matches the seal record byte for byte"
    reason = f"no trace was found{aside} {is_same}"
    return CheckResult(path, Verdict.SEALED, level, reason, record=record, skipped=skipped)


def _policy_for(record: SealRecord | None, inspection: Inspection, policy: Policy) -> Policy:
    """What the seal was told to keep is no finding; accounts that have gone since are no error.

    Snapshots that are there are looked into.
    """
    policy = replace(policy, seals_snapshots=not policy.drops_snapshots)
    if record is None:
        return inspection.fit_policy(policy)
    known = set(inspection.account_names)
    retained = [name for name in record.retained_accounts if name in known]
    return policy.as_sealed(retained, record.keep_root_login)


def _broken(
    path: Path, image: Image, level: Level, record: SealRecord, changed: tuple[int, ...]
) -> CheckResult:
    """Tells where a sealed disk was changed, as far as it can still be read."""
    if image.size_bytes != record.size_bytes:
        reason = "the size of the disk differs from its size when it was sealed"
    else:
        were = "was" if len(changed) == 1 else "were"
        reason = (
            f"{counted(len(changed), 'chunk')} of 1 MiB {were} changed after the disk was sealed"
        )
    broken = explain_changes(image, record, changed)
    return CheckResult(
        path,
        Verdict.BROKEN_SEAL,
        level,
        reason,
        record=record,
        changed_chunks=changed,
        broken=broken,
        error=broken.error,
    )
