"""A new image file, or a block device that is written over; the source never changes."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path

from zeroseal.blocks.digest import digest_before
from zeroseal.blocks.staged import StagedStore
from zeroseal.blocks.store import CachedStore, PaddedStore
from zeroseal.blocks.workers import watched
from zeroseal.errors import OutputExistsError, UnfinishedError
from zeroseal.images.compression import SMALL
from zeroseal.images.convert import read_back, write_disk
from zeroseal.images.create import ContainerSpec
from zeroseal.images.detect import open_image
from zeroseal.images.facts import read_image_facts
from zeroseal.images.image import Image
from zeroseal.images.output import OutputDevice, OutputFile, open_output, refuse_device
from zeroseal.images.reach import Reach, check_output_name
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
from zeroseal.sealing.record import SealedFile, record_path


@dataclass(frozen=True)
class NewFile(Target[SealResult]):
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
    compress: str = ""
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
            return ContainerSpec("vmdk", compress=self.compress or SMALL)
        name = self.format_name or source.format_name
        if self.path.is_block_device():
            name = self.format_name or "raw"
        return ContainerSpec(name, self.compress, self.fixed, self.preallocate)

    @contextmanager
    def open(self, request: SealRequest[SealResult]) -> Iterator[Bench[SealResult]]:
        """Opens the source, and looks whether the output may be written."""
        _check_free(self.path)
        if self.path.is_block_device() and not self.overwrite_device:
            refuse_device(self.path)
        image = open_image(request.source, self.snapshot, request.policy.reach)
        folder = self.path.parent if self.path.parent.is_dir() else None
        staged = StagedStore(CachedStore(image), folder)
        try:
            container = self.container_for(image)
            check_output_name(self.path, container.format_name)
            yield _NewFileBench(self, container, image, staged)
        finally:
            staged.close()
            image.close()


class _NewFileBench(Bench[SealResult]):
    def __init__(
        self, target: NewFile, container: ContainerSpec, image: Image, staged: StagedStore
    ) -> None:
        self._target, self._container = target, container
        self._image, self._staged = image, staged
        self._before = _fingerprint(image)

    def inspect(self, policy: Policy) -> Inspection:
        return Inspection.read(self._staged, policy.recovers_journal, self._image)

    def deliver(self, applied: AppliedSeal) -> SealResult:
        target, container, staged = self._target, self._container, self._staged
        path = target.path
        with (
            open_output(path, target.overwrite_device, self._image.size_bytes) as output,
            OutputFile(record_path(path)) as record,
            applied.checking(staged) as check,
        ):
            # the result is checked while it is written; nothing gets its name before all holds
            follow = check.follow
            disk = PaddedStore(staged, output.file.size_bytes)  # a device may be larger
            reading = write_disk(disk, output.file, container, path.name, follow, applied.needles)
            digest, name = reading.digest, container.format_name
            file_hash = read_back(output.file, digest, name, follow)
            source_digest = digest_before(self._image, staged, digest, follow)
            proof = applied.prove(check.wait(), reading.hits)
            if _fingerprint(self._image) != self._before:
                raise UnfinishedError(
                    messages.CHANGED_OR_REMOVED_WHILE_SEALED.format(source=applied.request.source)
                )
            file = SealedFile(name, output.file.size_bytes, blake3=file_hash)
            lineage = replace(applied.request.lineage, source_digest=source_digest)
            text = applied.build_record(path.name, digest, proof, lineage, file)
            record.file.write(0, text)
            watched(output.file.flush, applied.progress, "flushing")
            output.commit()
            _commit_record(record, output)
        zeroed, rewritten = count_changes(staged)
        return SealResult(
            planned=applied.planned,
            output=read_image_facts(path, Reach(container.format_name)),
            record=record_path(path),
            digest=digest,
            proof=proof,
            zeroed_bytes=zeroed,
            rewritten_bytes=rewritten,
        )


def _check_free(path: Path) -> None:
    for target in (path, record_path(path)):
        if target.is_block_device():
            continue  # that it may be overwritten is asked when it is opened
        if os.path.lexists(target):
            raise OutputExistsError(
                messages.ALREADY_EXISTS.format(target=target),
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
