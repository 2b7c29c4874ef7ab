"""Sealing an image into a new file: survey, plan, staged apply, verify, write out, record."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

from zeroseal.blocks.sizes import size_text
from zeroseal.blocks.staged import StagedStore
from zeroseal.blocks.store import Store
from zeroseal.errors import NoSpaceError, NotProvenError, OutputExistsError, UnfinishedError
from zeroseal.guests.facts import SystemFacts
from zeroseal.guests.open import opener_for_editing
from zeroseal.images.create import create_image
from zeroseal.images.detect import open_image
from zeroseal.images.host_file import HostFile
from zeroseal.images.image import Image
from zeroseal.images.output import OutputFile
from zeroseal.progress import Progress, Step, quiet
from zeroseal.sealing.apply import apply_plan
from zeroseal.sealing.choices import SealChoices
from zeroseal.sealing.digest import (
    CHUNK_BYTES,
    DigestBuilder,
    DiskDigest,
    digest_store,
    iter_windows,
)
from zeroseal.sealing.plan import Plan, check_allowed, plan_seal
from zeroseal.sealing.readiness import assess
from zeroseal.sealing.record import build_record, record_path
from zeroseal.sealing.subject import Subject
from zeroseal.sealing.survey import ImageFacts, facts_of, opened, read_image_facts
from zeroseal.sealing.verify import verify_result


@dataclass(frozen=True)
class OutputSpec:
    """Where a sealed disk goes.

    Attributes:
        path: the new file; ``NAME.seal.json`` comes beside it.
        format_name: ``raw`` or ``qcow2``; empty for the source's own.
        compress: store compressed clusters (qcow2).
    """

    path: Path
    format_name: str = ""
    compress: bool = False


@dataclass(frozen=True)
class PlannedSeal:
    """A plan and what it is for."""

    source: ImageFacts
    system: SystemFacts
    plan: Plan


@dataclass(frozen=True)
class SealResult:
    """A finished seal.

    Attributes:
        output: the new image, ``record`` the file beside it.
        zeroed_bytes: how much of the disk was zeroed as ranges.
        rewritten_bytes: how much of it was written anew.
    """

    planned: PlannedSeal
    output: ImageFacts
    record: Path
    digest: DiskDigest
    checked_volumes: tuple[str, ...]
    zeroed_bytes: int
    rewritten_bytes: int


def plan_image(source: Path, choices: SealChoices, progress: Progress = quiet) -> PlannedSeal:
    """Surveys and plans; writes nothing.

    Raises:
        ZeroSealError: as ``seal_image``, but blockers and lock-outs are in the plan.
    """
    with opened(source) as image:
        return _plan(image, Subject.read(image), choices, progress)


def seal_image(
    source: Path, output: OutputSpec, choices: SealChoices, now: int, progress: Progress = quiet
) -> SealResult:
    """Seals ``source`` into a new file; the source never changes.

    Args:
        source: an image file.
        output: where the sealed disk goes.
        choices: what to treat and to keep.
        now: the one moment that everything changed is given, seconds since 1970.
        progress: told of each stage.

    Raises:
        ImageError: the source cannot be read or is not supported.
        RefusedError: a blocker, a lock-out, or an output that exists.
        UnfinishedError: no space, or a proof that did not hold. Nothing is left behind.
    """
    _check_output_free(output.path)
    image = open_image(source)
    try:
        before = _fingerprint(image)
        staged = StagedStore(image)
        subject = Subject.read(staged, opener_for_editing(now))
        planned = _plan(image, subject, choices, progress)
        check_allowed(planned.plan)
        apply_plan(planned.plan, subject, progress)
        with (
            ThreadPoolExecutor(1) as pool,
            OutputFile(output.path) as target,
            OutputFile(record_path(output.path)) as record,
        ):
            # the proof runs while the file is written; nothing gets its name before it holds
            proof = pool.submit(verify_result, staged, planned.plan)
            format_name = output.format_name or image.format_name
            digest = _write_image(staged, target.file, format_name, output, progress)
            progress(Step("checking the result", 0, 0))
            checked = proof.result()
            _read_back(target.file.path, digest, progress)
            if _fingerprint(image) != before:
                raise UnfinishedError(
                    f"{source} was changed or removed while it was sealed: shut the machine down, "
                    "then try again"
                )
            text = build_record(
                output.path.name, digest, planned.plan, planned.system, planned.source, checked, now
            )
            record.file.write(0, text)
            target.commit()
            _commit_record(record, target)
    finally:
        image.close()
    return SealResult(
        planned=planned,
        output=read_image_facts(output.path),
        record=record_path(output.path),
        digest=digest,
        checked_volumes=tuple(checked),
        zeroed_bytes=sum(extent.length for extent in staged.iter_changes() if extent.is_zero),
        rewritten_bytes=staged.written_bytes,
    )


def _plan(image: Image, subject: Subject, choices: SealChoices, progress: Progress) -> PlannedSeal:
    findings = subject.find_all(choices, progress)
    plan = plan_seal(subject, findings, choices, assess(image, subject))
    return PlannedSeal(facts_of(image), subject.facts, plan)


def _check_output_free(path: Path) -> None:
    for target in (path, record_path(path)):
        if os.path.lexists(target):
            raise OutputExistsError(
                f"{target} exists already: choose another name with -o, or remove it first",
                path=str(target),
            )


def _fingerprint(image: Image) -> list[tuple[int, int]]:
    """Size and time of every file that the disk's contents come from; none for one that is gone."""
    try:
        facts = [path.stat() for path in image.chain]
    except OSError:
        return []
    return [(item.st_size, item.st_mtime_ns) for item in facts]


def _write_image(
    staged: Store, file: HostFile, format_name: str, output: OutputSpec, progress: Progress
) -> DiskDigest:
    """Writes the staged disk into a container, hashing it on the way."""
    _check_space(staged, output)
    writer = create_image(file, format_name, staged.size_bytes, output.compress)
    with DigestBuilder(staged.size_bytes) as builder:
        for number, window in iter_windows(staged):
            builder.add(number, window)
            for start, piece in _iter_stored(window, writer.granule_bytes):
                writer.write(number * CHUNK_BYTES + start, piece)
            progress(Step("writing", number * CHUNK_BYTES, staged.size_bytes))
        writer.finish()
        progress(Step("writing", staged.size_bytes, staged.size_bytes))
        return builder.finish()


def _iter_stored(window: bytes, granule: int) -> Iterator[tuple[int, memoryview]]:
    """Yields (start, content) of the stretches that are not zeros, cut at granules."""
    zeros, view = bytes(granule), memoryview(window)
    begin = -1
    for start in range(0, len(window), granule):
        piece = window[start : start + granule]
        if piece == zeros[: len(piece)]:
            if begin >= 0:
                yield begin, view[begin:start]
            begin = -1
        elif begin < 0:
            begin = start
    if begin >= 0:
        yield begin, view[begin:]


def _check_space(staged: Store, output: OutputSpec) -> None:
    """Refuses before the work what cannot end well; a compressed result may need less than this."""
    needed = sum(
        extent.length for extent in staged.iter_extents(0, staged.size_bytes) if not extent.is_zero
    )
    free = shutil.disk_usage(output.path.parent).free
    if needed > free and not output.compress:
        raise NoSpaceError(
            f"{output.path.parent} has {size_text(free)} free, and the sealed disk needs about "
            f"{size_text(needed)}: free some, or choose another folder with -o",
            expected=needed,
            got=free,
        )


def _read_back(path: Path, digest: DiskDigest, progress: Progress) -> None:
    """Opens what was written, by its bytes alone, and compares its contents."""
    with opened(path) as image:
        if digest_store(image, "reading back", progress).root != digest.root:
            raise NotProvenError(
                "what was written does not read back as it should: the target's disk may be failing"
            )


def _commit_record(record: OutputFile, target: OutputFile) -> None:
    """An image without its record is no result: take the image's name away again."""
    try:
        record.commit()
    except BaseException:
        target.target.unlink(missing_ok=True)
        raise
