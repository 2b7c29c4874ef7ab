"""The image itself, where it lies: staged, proven, then committed whole or not at all."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass, replace
from pathlib import Path

from zeroseal.blocks.digest import digest_before
from zeroseal.blocks.pipeline import read_disk_once
from zeroseal.blocks.staged import StagedStore
from zeroseal.blocks.store import CachedStore, TwinStore
from zeroseal.errors import RefusedError
from zeroseal.images.children import find_children
from zeroseal.images.facts import read_image_facts
from zeroseal.images.image import Image
from zeroseal.images.in_place import InPlaceChange
from zeroseal.images.reach import Reach
from zeroseal.messages import sealing as messages
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.job import (
    AppliedSeal,
    Bench,
    SealRequest,
    SealResult,
    Target,
    count_changes,
)
from zeroseal.sealing.policy import Policy
from zeroseal.sealing.record import record_path


@dataclass(frozen=True)
class InPlace(Target[SealResult]):
    """An image where it lies; what it held is gone afterwards.

    Attributes:
        also_unjudged: whether a file system is changed too whose own checker judged no change here
            (NTFS).
        journal_to: the folder of the journal and the record, where the image is a block device.
    """

    also_unjudged: bool = False
    journal_to: Path | None = None

    @contextmanager
    def open(self, request: SealRequest[SealResult]) -> Iterator[Bench[SealResult]]:
        """Opens the image for a change, where nothing else keeps the old bytes."""
        with InPlaceChange(request.source, request.policy.reach, self.journal_to) as change:
            _check_alone(request.source, change.image)
            staged = StagedStore(CachedStore(change.image), change.folder)
            try:
                yield _InPlaceBench(self, request.source, change, staged)
            finally:
                staged.close()


class _InPlaceBench(Bench[SealResult]):
    def __init__(
        self, target: InPlace, source: Path, change: InPlaceChange, staged: StagedStore
    ) -> None:
        self._target, self._source = target, source
        self._change, self._staged = change, staged

    def inspect(self, policy: Policy) -> Inspection:
        inspection = Inspection.read(self._staged, policy.recovers_journal, self._change.image)
        if not self._target.also_unjudged:
            _check_judged(self._source, inspection)
        return inspection

    def deliver(self, applied: AppliedSeal) -> SealResult:
        change, staged, source = self._change, self._staged, self._source
        progress, planned = applied.progress, applied.planned
        zeroed, rewritten = count_changes(staged)
        change.take(staged)
        before, after = change.reopen_before(), change.reopen()
        with (
            closing(before),
            closing(after),
            applied.checking(CachedStore(after)) as check,
        ):
            both = TwinStore(staged.over(before), after, f"the container of {source}")
            reading = read_disk_once(both, "reading the disk", check.follow, applied.needles)
            digest = reading.digest
            source_digest = digest_before(before, staged, digest, check.follow)
            proof = applied.prove(check.wait(), reading.hits)
        lineage = replace(applied.request.lineage, source_digest=source_digest)
        text = applied.build_record(source.name, digest, proof, lineage)
        name = record_path(source).name
        change.commit(name, text.decode(), progress)
        change.close()  # its lock would keep the result from being read
        return SealResult(
            planned=planned,
            output=read_image_facts(source, Reach(planned.source.format_name)),
            record=change.folder / name,
            digest=digest,
            proof=proof,
            zeroed_bytes=zeroed,
            rewritten_bytes=rewritten,
        )


def _check_judged(path: Path, inspection: Inspection) -> None:
    """NTFS is changed in place only where that was asked for by name: no chkdsk judged it here."""
    for mount in inspection.guest.volume_mounts:
        if not mount.driver.is_sealed_in_place:
            raise RefusedError(
                messages.NTFS_NOT_SEALED_IN_PLACE.format(
                    path=path, volume=mount.volume.name, kind=mount.driver.name
                )
            )


def _check_alone(path: Path, image: Image) -> None:
    """In place only where nothing else keeps the old bytes."""
    reason = ""
    if not path.stat().st_mode & 0o222:
        reason = "it is read-only, like a template that clones may depend on"
    elif path.stat().st_nlink > 1:
        reason = "it has other hard links, which would then show the sealed disk too"
    elif image.snapshots:
        reason = f"its internal snapshots ({', '.join(image.snapshots)}) would keep the old bytes"
    elif image.has_parent:
        reason = f"its backing file {image.chain[1]} would keep the old bytes"
    else:
        children = find_children(path)
        if children:
            reason = f"{', '.join(map(str, children[:3]))} is based on it and would break"
    if reason:
        raise RefusedError(messages.NOT_SEALED_IN_PLACE.format(path=path, reason=reason))
