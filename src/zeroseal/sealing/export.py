"""Writing a disk into another container format, for the hypervisor that comes next."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from zeroseal.blocks.store import Store
from zeroseal.images.convert import read_back, write_disk
from zeroseal.images.create import ContainerSpec
from zeroseal.images.detect import opened_image
from zeroseal.images.facts import ImageFacts, facts_of, read_image_facts
from zeroseal.images.output import open_output, write_small_file
from zeroseal.images.reach import OWN_FOLDER, Reach, check_output_name
from zeroseal.progress import Progress, quiet
from zeroseal.sealing.record import find_record, record_path
from zeroseal.volumes.grow import grow_disk


@dataclass(frozen=True)
class ExportRequest:
    """What is wanted.

    Attributes:
        output: the new file.
        container: what it is to be.
        snapshot: name of the source's snapshot to write; empty for its present state.
        disk_bytes: size of the new disk; 0 for the source's.
        verify: read the new file back and compare.
        reach: what the source is, and what may be read for it.
        overwrite_device: whether ``output`` may be a block device, whose contents are lost.
    """

    output: Path
    container: ContainerSpec
    snapshot: str = ""
    disk_bytes: int = 0
    verify: bool = True
    reach: Reach = OWN_FOLDER
    overwrite_device: bool = False


@dataclass(frozen=True)
class ExportResult:
    """A finished export.

    Attributes:
        digest: of the disk's contents, as a seal record has it.
        verified: whether the new file was read back.
        record: the copy of the source's seal record, where it is of exactly this disk;
            ``left_record`` says that there is one which is not.
        table_moved: whether the partition table's backup went to the end of a larger disk.
    """

    source: ImageFacts
    output: ImageFacts
    digest: str
    verified: bool
    record: Path | None
    left_record: bool
    table_moved: bool


def export_image(source: Path, request: ExportRequest, progress: Progress = quiet) -> ExportResult:
    """Writes a disk into a new file; the source never changes.

    Raises:
        UsageError: wishes that do not go together.
        ImageError, RefusedError: the source cannot be read, or the output exists.
        UnfinishedError: no space, or the new file does not read back. Nothing is left behind.
    """
    moved = False
    check_output_name(request.output, request.container.format_name)
    with (
        opened_image(source, request.snapshot, request.reach) as image,
        open_output(request.output, request.overwrite_device, image.size_bytes) as target,
    ):
        disk: Store = image
        wanted = request.disk_bytes or (target.file.size_bytes if target.file.is_device else 0)
        if wanted and wanted != image.size_bytes:
            disk, moved = grow_disk(image, wanted)
        name = request.output.name
        digest = write_disk(disk, target.file, request.container, name, progress).digest
        if request.verify:
            read_back(target.file, digest, request.container.format_name, progress)
        target.commit()
        facts = facts_of(image)
    record = _carry_record(source, request.output, digest.root)
    return ExportResult(
        source=facts,
        output=read_image_facts(request.output, Reach(request.container.format_name)),
        digest=digest.root,
        verified=request.verify,
        record=record,
        left_record=record is None and record_path(source).is_file(),
        table_moved=moved,
    )


def _carry_record(source: Path, output: Path, root: str) -> Path | None:
    """A seal record is about the disk's contents, whatever container they lie in."""
    record = find_record(source)
    if record is None or record.root != root:
        return None
    write_small_file(record_path(output), record_path(source).read_bytes())
    return record_path(output)
