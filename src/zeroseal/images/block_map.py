"""Disks cut into equally large blocks, each of which lies somewhere in the file, or nowhere.

VHD, VHDX, VDI and sparse VMDK extents differ in their tables only; what they share is here.
"""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Callable, Iterator
from typing import NamedTuple

from zeroseal.blocks.store import Extent, Store
from zeroseal.images.container_file import ContainerFile

ZERO, ABSENT = -1, -2


class Stretch(NamedTuple):
    """A stretch of the disk; ``place`` is its offset in the file, ``ZERO`` or ``ABSENT``."""

    offset_bytes: int
    length: int
    place: int


class BlockMap(Store):
    """Reads through a table of blocks; what is absent is the parent's, or zeros.

    Attributes:
        block_bytes: the size of a block.
        parent: the disk beneath, if any.
    """

    block_bytes: int
    parent: Store | None = None
    _file: ContainerFile

    @abstractmethod
    def iter_runs(self, first_block: int, end_block: int) -> Iterator[tuple[int, int]]:
        """Yields (number of blocks, place) over ``[first_block, end_block)``, in order.

        The blocks of a run with a place follow each other in the file.
        """

    def read(self, offset_bytes: int, length: int) -> bytes:  # noqa: D102 - as in Store
        self.check_range(offset_bytes, length)
        pieces = [self.read_stretch(piece) for piece in self.iter_stretches(offset_bytes, length)]
        return pieces[0] if len(pieces) == 1 else b"".join(pieces)

    def iter_extents(self, offset_bytes: int, length: int) -> Iterator[Extent]:  # noqa: D102
        self.check_range(offset_bytes, length)
        pending: Extent | None = None
        for stretch in self.iter_stretches(offset_bytes, length):
            for extent in self.extents_of(stretch):
                if pending and pending.is_zero == extent.is_zero:
                    pending = pending._replace(length=pending.length + extent.length)
                    continue
                if pending:
                    yield pending
                pending = extent
        if pending:
            yield pending

    def iter_stretches(self, offset_bytes: int, length: int) -> Iterator[Stretch]:
        """Yields stretches that cover the range, in order."""
        if not length:
            return
        end = offset_bytes + length
        block_no = offset_bytes // self.block_bytes
        for count, place in self.iter_runs(block_no, -(-end // self.block_bytes)):
            run_start = block_no * self.block_bytes
            start, stop = (
                max(offset_bytes, run_start),
                min(end, run_start + count * self.block_bytes),
            )
            yield Stretch(start, stop - start, place if place < 0 else place + start - run_start)
            block_no += count

    def read_stretch(self, stretch: Stretch) -> bytes:
        """The content of one stretch."""
        if stretch.place >= 0:
            return self._file.read(stretch.place, stretch.length)
        if stretch.place == ABSENT and self.parent:
            start = stretch.offset_bytes
            stored = max(0, min(stretch.length, self.parent.size_bytes - start))
            return (self.parent.read(start, stored) if stored else b"").ljust(stretch.length, b"\0")
        return bytes(stretch.length)

    def extents_of(self, stretch: Stretch) -> Iterator[Extent]:
        """What is known of a stretch without reading it; holes of the file are zeros."""
        start, length, place = stretch
        if place >= 0:
            for extent in self._file.iter_extents(place, length):
                yield extent._replace(offset_bytes=extent.offset_bytes - place + start)
            return
        stored = 0
        if place == ABSENT and self.parent:
            stored = max(0, min(length, self.parent.size_bytes - start))
            if stored:
                yield from self.parent.iter_extents(start, stored)
        if stored < length:
            yield Extent(start + stored, length - stored, is_zero=True)


def split_by_sectors(
    stretch: Stretch, start: int, sector_bytes: int, is_here: Callable[[int], bool]
) -> Iterator[Stretch]:
    """Cuts a stretch of one block where its sectors are, by turns, here and in the parent.

    Args:
        stretch: a part of a block that has a place.
        start: where it begins in the block, in bytes.
        sector_bytes: what the block's bitmap has a bit for.
        is_here: whether the n-th sector of the block is in this file.
    """
    position, end = start, start + stretch.length
    while position < end:
        here = is_here(position // sector_bytes)
        stop = (position // sector_bytes + 1) * sector_bytes
        while stop < end and is_here(stop // sector_bytes) == here:
            stop += sector_bytes
        stop = min(stop, end)
        moved = position - start
        place = stretch.place + moved if here else ABSENT
        yield Stretch(stretch.offset_bytes + moved, stop - position, place)
        position = stop


class WritableBlockMap(BlockMap):
    """Changes blocks in the file, and gives room to those that have none; without a parent."""

    _changed = False  # whether anything was, so that ``flush`` has something to do

    @abstractmethod
    def allocate(self, block_no: int) -> int:
        """Gives a block room that reads as zeros; returns its place in the file."""

    @abstractmethod
    def release(self, block_no: int, place: int) -> None:
        """Makes a whole block read as zeros, and its bytes in the file zeros."""

    def write(self, offset_bytes: int, data: bytes | memoryview) -> None:  # noqa: D102
        self.check_range(offset_bytes, len(data))
        view, position = memoryview(data), offset_bytes
        self._changed = True
        while view:
            block_no, start = divmod(position, self.block_bytes)
            piece = view[: self.block_bytes - start]
            _count, place = next(self.iter_runs(block_no, block_no + 1))
            if place < 0:
                place = self.allocate(block_no)
            self._file.write(place + start, piece)
            position += len(piece)
            view = view[len(piece) :]

    def zero(self, offset_bytes: int, length: int) -> None:  # noqa: D102
        self.check_range(offset_bytes, length)
        self._changed = True
        for stretch in list(self.iter_stretches(offset_bytes, length)):
            if stretch.place < 0:
                continue
            end = stretch.offset_bytes + stretch.length
            position = stretch.offset_bytes
            while position < end:
                block_no, start = divmod(position, self.block_bytes)
                stop = min(end, (block_no + 1) * self.block_bytes)
                place = stretch.place + position - stretch.offset_bytes
                if start == 0 and (stop % self.block_bytes == 0 or stop == self.size_bytes):
                    self.release(block_no, place)
                else:
                    self._file.zero(place, stop - position)
                position = stop
