"""Where on a disk data lies, where content is that a seal zeroes, and where nothing is."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from zeroseal.blocks.pieced import PiecedStore
from zeroseal.blocks.store import SliceStore, Store
from zeroseal.images.image import Image
from zeroseal.progress import Progress, Step, quiet
from zeroseal.sealing.inspection import Inspection
from zeroseal.traces.changes import WritePatches
from zeroseal.traces.finding import Finding

CELLS = 256
_PIECE_BYTES = 64 << 10


@dataclass(frozen=True)
class MapVolume:
    """A volume and its part of the disk, in bytes."""

    name: str
    kind: str
    offset_bytes: int
    size_bytes: int


@dataclass(frozen=True)
class DiskMap:
    """A disk in equal parts.

    Attributes:
        stored: bytes of each part that hold content.
        left: bytes of each part that hold content where none belongs: free space, unused inodes,
            the journal's body, swap, gaps. It is part of ``stored``.
    """

    size_bytes: int
    stored: tuple[int, ...]
    left: tuple[int, ...]
    volumes: tuple[MapVolume, ...]

    @property
    def part_bytes(self) -> int:
        """The size of one part."""
        return max(1, -(-self.size_bytes // len(self.stored)))


def read_disk_map(
    image: Image,
    inspection: Inspection,
    findings: Sequence[Finding],
    cells: int = CELLS,
    progress: Progress = quiet,
) -> DiskMap:
    """Reads what a disk stores, part by part; zeros count as nothing.

    Args:
        image: the disk.
        inspection: what is on it.
        findings: of the whole catalogue on it; those that are ranges are what is left.
        cells: how many parts.
        progress: told how far it is.
    """
    part = max(1, -(-image.size_bytes // cells))
    stored, left = [0] * cells, [0] * cells
    for extent in image.iter_extents(0, image.size_bytes):
        if not extent.is_zero:
            _count(image, extent.offset_bytes, extent.length, part, stored, progress)
    for finding in findings:
        if isinstance(finding.change, WritePatches):
            store = inspection.store_of(finding.change.volume)
            for patch in finding.change.patches:
                for start, size in _on_disk(store, patch.offset_bytes, patch.length, inspection):
                    _count(image, start, size, part, left, progress)
    volumes = tuple(
        MapVolume(volume.name, volume.content.kind, volume.offset_bytes, volume.size_bytes)
        for volume in inspection.disk.volumes
        if not volume.is_logical
    )
    return DiskMap(image.size_bytes, tuple(stored), tuple(left), volumes)


def _count(
    image: Image, offset: int, length: int, part: int, cells: list[int], progress: Progress
) -> None:
    """Counts the pieces of a range that hold anything but zeros."""
    for extent in image.iter_extents(offset, length):
        position, end = extent.offset_bytes, extent.offset_bytes + extent.length
        while position < end and not extent.is_zero:
            stop = min(end, (position // part + 1) * part, position + _PIECE_BYTES)
            if image.read(position, stop - position).strip(b"\0"):
                cells[position // part] += stop - position
            position = stop
        progress(Step("mapping the disk", end, image.size_bytes))


def _on_disk(
    store: Store, offset: int, length: int, inspection: Inspection
) -> Iterator[tuple[int, int]]:
    """Where a range of a volume, or of the disk itself, lies on the disk: (offset, length)."""
    volume = next((item for item in inspection.disk.volumes if item.store is store), None)
    if volume is None or not isinstance(store, PiecedStore):
        yield offset + (volume.offset_bytes if volume else _start_of(store)), length
        return
    yield from _through_pieces(store, offset, length)


def _start_of(store: Store) -> int:
    return store.offset_bytes if isinstance(store, SliceStore) else 0


def _through_pieces(store: PiecedStore, offset: int, length: int) -> Iterator[tuple[int, int]]:
    position = 0
    for piece in store.pieces:
        first, last = max(offset, position), min(offset + length, position + piece.length)
        if first < last and isinstance(piece.store, SliceStore):
            start = piece.store.offset_bytes + piece.offset_bytes + first - position
            yield start, last - first
        position += piece.length
