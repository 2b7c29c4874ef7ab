"""Sealing an image into a new file: survey, plan, staged apply, verify, write out, record."""

from __future__ import annotations

import os
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from zeroseal.blocks.digest import DiskDigest, digest_before
from zeroseal.blocks.staged import StagedStore
from zeroseal.blocks.store import CancellableStore, PaddedStore
from zeroseal.errors import OutputExistsError, UnfinishedError
from zeroseal.guests.facts import SystemFacts
from zeroseal.images.convert import read_back, write_disk
from zeroseal.images.create import ContainerSpec
from zeroseal.images.detect import open_image, opened_image
from zeroseal.images.facts import ImageFacts, facts_of, read_image_facts
from zeroseal.images.host_file import HostFile, sha256_of
from zeroseal.images.image import Image
from zeroseal.images.output import OutputDevice, OutputFile, open_output, refuse_device
from zeroseal.images.reach import Reach, check_output_name
from zeroseal.progress import CancelToken, Progress, Step, quiet
from zeroseal.sealing.apply import apply_plan
from zeroseal.sealing.choices import SealChoices
from zeroseal.sealing.inspection import Inspection, recoverable
from zeroseal.sealing.plan import Plan, check_allowed, plan_seal
from zeroseal.sealing.readiness import assess
from zeroseal.sealing.record import (
    NO_LINEAGE,
    Lineage,
    RecordExtras,
    SealedFile,
    build_record,
    record_path,
)
from zeroseal.sealing.searched_value import ValueSet
from zeroseal.sealing.values import collect_values
from zeroseal.sealing.verify import Proof, verify_result

if TYPE_CHECKING:
    from zeroseal.sealing.signing import RecordSigner


@dataclass(frozen=True)
class OutputSpec:
    """Where a sealed disk goes.

    Attributes:
        path: the new file; ``NAME.seal.json`` comes beside it.
        format_name: one of ``images.create.FORMATS`` but ``ova``; empty for the source's own.
        compress, fixed, preallocate: as in ``ContainerSpec``.
        snapshot: the name of the source's snapshot that is sealed; empty for its present state.
        overwrite_device: whether ``path`` may be a block device, whose contents are lost.
    """

    path: Path
    format_name: str = ""
    compress: bool = False
    fixed: bool = False
    preallocate: bool = False
    snapshot: str = ""
    overwrite_device: bool = False

    def container_for(self, source: Image) -> ContainerSpec:
        """The container of the output.

        Raises:
            UsageError: the wishes do not go together.
        """
        if not self.format_name and source.format_name == "ova":
            return ContainerSpec("vmdk", compress=True)
        name = self.format_name or source.format_name
        if self.path.is_block_device():
            name = self.format_name or "raw"
        return ContainerSpec(name, self.compress, self.fixed, self.preallocate)


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
        output: the sealed image, ``record`` the file beside it.
        zeroed_bytes: how much of the disk was zeroed as ranges.
        rewritten_bytes: how much of it was written anew.
    """

    planned: PlannedSeal
    output: ImageFacts
    record: Path
    digest: DiskDigest
    proof: Proof
    zeroed_bytes: int
    rewritten_bytes: int


def plan_image(
    source: Path, choices: SealChoices, progress: Progress = quiet, snapshot: str = ""
) -> PlannedSeal:
    """Surveys and plans; writes nothing.

    Raises:
        ZeroSealError: as ``seal_image``, but blockers and lock-outs are in the plan.
    """
    recover = choices.recover_journal
    with (
        opened_image(source, snapshot, choices.rules.reach) as image,
        recoverable(image, recover) as store,
    ):
        inspection = Inspection.read(store, recover=recover)
        return plan_opened(image, inspection, inspection.settle(choices), progress)


def seal_image(
    source: Path,
    output: OutputSpec,
    choices: SealChoices,
    now: int,
    progress: Progress = quiet,
    signer: RecordSigner | None = None,
    lineage: Lineage = NO_LINEAGE,
) -> SealResult:
    """Seals ``source`` into a new file; the source never changes.

    Args:
        source: an image file.
        output: where the sealed disk goes.
        choices: what to treat and to keep.
        now: the one moment that everything changed is given, seconds since 1970.
        progress: told of each stage.
        signer: who signs the record; None for nobody.
        lineage: where the disk comes from, as far as the caller knows.

    Raises:
        ImageError: the source cannot be read or is not supported.
        RefusedError: a blocker, a lock-out, or an output that exists.
        UnfinishedError: no space, or a proof that did not hold. Nothing is left behind.
    """
    _check_output_free(output.path)
    if output.path.is_block_device() and not output.overwrite_device:
        refuse_device(output.path)
    image = open_image(source, output.snapshot, choices.rules.reach)
    staged = StagedStore(image, output.path.parent if output.path.parent.is_dir() else None)
    try:
        container = output.container_for(image)
        check_output_name(output.path, container.format_name)
        before = _fingerprint(image)
        inspection = Inspection.read(staged, choices.recover_journal)
        inspection.guest.check_editable()
        choices = inspection.settle(choices)
        planned = plan_opened(image, inspection, choices, progress)
        check_allowed(planned.plan)
        values = values_of(inspection, choices)
        apply_plan(planned.plan, inspection, progress, now)
        with (
            ThreadPoolExecutor(1) as pool,
            open_output(output.path, output.overwrite_device, image.size_bytes) as target,
            OutputFile(record_path(output.path)) as record,
            CancelToken() as token,  # the first to be left: whatever ends this ends the proof too
        ):
            # the proof runs while the file is written; nothing gets its name before it holds
            watched = CancellableStore(staged, token)
            proving = pool.submit(verify_result, watched, planned.plan, values, token.progress)
            disk = PaddedStore(staged, target.file.size_bytes)  # a device may be larger
            digest = write_disk(disk, target.file, container, output.path.name, progress)
            progress(Step("checking the result", 0, 0))
            proof = proving.result()
            hashing = pool.submit(_file_of, container, target.file, token)
            read_back(target.file, digest, container.format_name, progress)
            if _fingerprint(image) != before:
                raise UnfinishedError(
                    f"{source} was changed or removed while it was sealed: shut the machine down, "
                    "then try again"
                )
            lineage = replace(lineage, source_digest=digest_before(image, staged, digest))
            extras = RecordExtras(signer, lineage, hashing.result())
            plan, system = planned.plan, planned.system
            text = build_record(
                output.path.name, digest, plan, system, planned.source, proof, now, extras
            )
            record.file.write(0, text)
            target.commit()
            _commit_record(record, target)
        changed = count_changes(staged)
    finally:
        staged.close()
        image.close()
    return result_of(planned, output.path, digest, proof, changed, container.format_name)


def _file_of(container: ContainerSpec, file: HostFile, token: CancelToken) -> SealedFile:
    """The facts of a new file; a raw one's bytes are the disk's, which has its own digest."""
    if container.format_name == "raw":
        return SealedFile("raw", file.size_bytes)
    return SealedFile(container.format_name, file.size_bytes, sha256_of(file.path, token.check))


def values_of(inspection: Inspection, choices: SealChoices) -> ValueSet:
    """The values to search for afterwards; none where that is not wanted."""
    return collect_values(inspection, choices) if choices.search_values else ValueSet((), ())


def count_changes(staged: StagedStore) -> tuple[int, int]:
    """(bytes that became zeroed ranges, bytes that were written anew) of a staged disk."""
    zeroed = sum(extent.length for extent in staged.iter_changes() if extent.is_zero)
    return zeroed, staged.written_bytes


def result_of(
    planned: PlannedSeal,
    output: Path,
    digest: DiskDigest,
    proof: Proof,
    changed: tuple[int, int],
    format_name: str,
) -> SealResult:
    """The facts of a finished seal, read from what lies there now, in a container by its name."""
    return SealResult(
        planned=planned,
        output=read_image_facts(output, Reach(format_name)),
        record=record_path(output),
        digest=digest,
        proof=proof,
        zeroed_bytes=changed[0],
        rewritten_bytes=changed[1],
    )


def plan_opened(
    image: Image, inspection: Inspection, choices: SealChoices, progress: Progress
) -> PlannedSeal:
    """Surveys and plans an image that is open."""
    findings = inspection.find_all(choices, progress)
    plan = plan_seal(inspection, findings, choices, assess(image, inspection, findings, choices))
    return PlannedSeal(facts_of(image), inspection.facts, plan)


def _check_output_free(path: Path) -> None:
    for target in (path, record_path(path)):
        if target.is_block_device():
            continue  # that it may be overwritten is asked when it is opened
        if os.path.lexists(target):
            raise OutputExistsError(
                f"{target} exists already: choose another name with -o, or remove it first",
                path=str(target),
            )


def _fingerprint(image: Image) -> list[tuple[int, int]]:
    """Size and time of every file that the disk's contents come from; none for one that is gone."""
    try:
        paths = [*(file.path for file in image.files), *image.chain]
        facts = [path.stat() for path in paths]
    except OSError:
        return []
    return [(item.st_size, item.st_mtime_ns) for item in facts]


def _commit_record(record: OutputFile, target: OutputFile | OutputDevice) -> None:
    """An image without its record is no result: take the image's name away again."""
    try:
        record.commit()
    except BaseException:
        if isinstance(target, OutputFile):
            target.target.unlink(missing_ok=True)
        raise
