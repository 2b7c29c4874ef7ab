"""Sealing an image where it lies: staged, proven, then committed whole or not at all."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from zeroseal.blocks.digest import digest_before, digest_store
from zeroseal.blocks.staged import StagedStore
from zeroseal.errors import NotProvenError, RefusedError
from zeroseal.images.children import find_children
from zeroseal.images.image import Image
from zeroseal.images.in_place import InPlaceChange
from zeroseal.progress import Progress, Step, quiet
from zeroseal.sealing.apply import apply_plan
from zeroseal.sealing.choices import SealChoices
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.plan import check_allowed
from zeroseal.sealing.record import NO_LINEAGE, Lineage, RecordExtras, build_record, record_path
from zeroseal.sealing.seal import SealResult, count_changes, plan_opened, result_of, values_of
from zeroseal.sealing.verify import verify_result

if TYPE_CHECKING:
    from zeroseal.sealing.signing import RecordSigner


def seal_in_place(
    source: Path,
    choices: SealChoices,
    now: int,
    progress: Progress = quiet,
    signer: RecordSigner | None = None,
    lineage: Lineage = NO_LINEAGE,
    also_ntfs: bool = False,
    journal_to: Path | None = None,
) -> SealResult:
    """Seals an image where it lies; what it held is gone afterwards.

    Args:
        source: an image file that nothing else keeps the old bytes of.
        choices: what to treat and to keep.
        now: the one moment that everything changed is given, seconds since 1970.
        progress: told of each stage.
        signer: who signs the record; None for nobody.
        lineage: where the disk comes from, as far as the caller knows.
        also_ntfs: whether a guest with a volume of NTFS is sealed in place too.
        journal_to: the folder of the journal and the record, where the image is a block device.

    Raises:
        ImageError: the image cannot be read or is not supported.
        RefusedError: a blocker, a lock-out, or something that keeps the old bytes.
        UnfinishedError: no space, or a proof that did not hold.
    """
    with InPlaceChange(source, choices.rules.reach, journal_to) as change:
        _check_alone(source, change.image)
        staged = StagedStore(change.image, change.folder)
        try:
            inspection = Inspection.read(staged, choices.recover_journal)
            inspection.guest.check_editable()
            if not also_ntfs:
                _check_no_ntfs(source, inspection)
            choices = inspection.settle(choices)
            planned = plan_opened(change.image, inspection, choices, progress)
            check_allowed(planned.plan)
            values = values_of(inspection, choices)
            apply_plan(planned.plan, inspection, progress, now)
            progress(Step("checking the result", 0, 0))
            proof = verify_result(staged, planned.plan, values)
            digest = digest_store(staged, "reading the disk", progress)
            changed = count_changes(staged)
            lineage = replace(lineage, source_digest=digest_before(change.image, staged, digest))
            change.take(staged)
            container = change.reopen()
            if digest_store(container, "reading back", progress).root != digest.root:
                raise NotProvenError(
                    f"the container of {source} would not hold the sealed disk: nothing was "
                    "written; seal into a new file with -o"
                )
            container.close()
            plan, system = planned.plan, planned.system
            text = build_record(
                source.name,
                digest,
                plan,
                system,
                planned.source,
                proof,
                now,
                RecordExtras(signer, lineage),
            )
            progress(Step("committing", 0, 0))
            change.commit(record_path(source).name, text.decode())
        finally:
            staged.close()
    result = result_of(planned, source, digest, proof, changed, planned.source.format_name)
    return replace(result, record=change.folder / record_path(source).name)


def _check_no_ntfs(path: Path, inspection: Inspection) -> None:
    """NTFS is changed in place only where that was asked for by name: no chkdsk judged it here."""
    for mount in inspection.guest.mounts:
        if not mount.driver.is_sealed_in_place:
            raise RefusedError(
                f"{path} is not sealed in place: {mount.volume.name} is {mount.driver.name}; "
                "seal into a new file with -o, which leaves the old one as it is, or say "
                "--ntfs-in-place as well"
            )


def _check_alone(path: Path, image: Image) -> None:
    """In place only where nothing else keeps the old bytes."""
    reason = ""
    if not path.stat().st_mode & 0o222:
        reason = "it is marked read-only, as a template is that clones may hang on"
    elif path.stat().st_nlink > 1:
        reason = "it has other hard links, whose owners would find another disk in it"
    elif image.snapshots:
        reason = f"its internal snapshots ({', '.join(image.snapshots)}) would keep the old bytes"
    elif image.has_parent:
        reason = f"its backing file {image.chain[1]} would keep the old bytes"
    else:
        children = find_children(path)
        if children:
            reason = f"{', '.join(map(str, children[:3]))} is made over it and would break"
    if reason:
        raise RefusedError(
            f"{path} is not sealed in place: {reason}; seal into a new file with -o, which is "
            "whole and has no snapshots"
        )
