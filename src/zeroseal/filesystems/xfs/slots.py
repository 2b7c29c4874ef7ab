"""All inodes there are, free and used, chunk by chunk of the inode trees."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from zeroseal.filesystems.xfs import layout, trees
from zeroseal.filesystems.xfs.trees import Row
from zeroseal.filesystems.xfs.volume import XfsVolume
from zeroseal.messages import xfs as messages

_CHUNKS_AT_ONCE = 64


@dataclass
class Chunk:
    """64 inodes; of a sparse chunk ``holes`` says which four are not there, bit by bit."""

    first: int
    holes: int
    count: int
    free: int

    @property
    def free_count(self) -> int:
        """How many inodes of it are free."""
        return (self.free & self.present).bit_count()

    @property
    def present(self) -> int:
        """The mask of inodes that are there."""
        mask = 0
        for bit in range(layout.CHUNK_INODES // layout.INODES_PER_HOLE):
            if not self.holes >> bit & 1:
                mask |= 0xF << bit * layout.INODES_PER_HOLE
        return mask


def chunks_of(volume: XfsVolume, rows: Iterable[Row]) -> Iterator[Chunk]:
    """The chunks of an inode tree's records."""
    is_sparse = volume.has_crc and volume.superblock.incompat & layout.INCOMPAT_SPINODES
    for first, middle, free in rows:
        if is_sparse:
            yield Chunk(first, middle >> 16, middle >> 8 & 0xFF, free)
        else:
            yield Chunk(first, 0, layout.CHUNK_INODES, free)


class SlotBatch(NamedTuple):
    """Some thousand inodes: their numbers, whether each is free, and the bytes of all."""

    numbers: NDArray[np.int64]
    is_free: NDArray[np.bool_]
    raw: bytes


def iter_slots(volume: XfsVolume) -> Iterator[tuple[int, bool, bytes]]:
    """Yields (inode number, whether it is free, bytes) of all inodes there are."""
    for batch in iter_batches(volume):
        yield from slots_of(volume, batch)


def slots_of(
    volume: XfsVolume, batch: SlotBatch, wanted: NDArray[np.bool_] | None = None
) -> Iterator[tuple[int, bool, bytes]]:
    """The same of one batch; of those that are wanted only, where that is said."""
    size = volume.superblock.inode_bytes
    indexes = np.arange(len(batch.numbers)) if wanted is None else np.flatnonzero(wanted)
    numbers, is_free = batch.numbers[indexes].tolist(), batch.is_free[indexes].tolist()
    for index, number, free in zip(indexes.tolist(), numbers, is_free, strict=True):
        yield number, free, batch.raw[index * size : (index + 1) * size]


def iter_batches(volume: XfsVolume) -> Iterator[SlotBatch]:
    """Yields all inodes there are, group by group."""
    bits = np.arange(layout.CHUNK_INODES, dtype=np.int64)
    numbers: list[NDArray[np.int64]] = []
    is_free: list[list[bool]] = []
    pieces: list[bytes] = []
    for group in range(volume.superblock.group_count):
        agi = volume.read_agi(group)
        rows, _blocks = trees.read_tree(volume, group, trees.INOBT, agi.root, agi.levels)
        for chunk in chunks_of(volume, rows):
            there = chunk.present
            present = bits[[bool(there >> bit & 1) for bit in range(layout.CHUNK_INODES)]]
            numbers.append(volume.inode_number(group, chunk.first) + present)
            is_free.append([bool(chunk.free >> bit & 1) for bit in present.tolist()])
            pieces.extend(_read_chunk(volume, group, chunk))
            if len(numbers) >= _CHUNKS_AT_ONCE:
                yield _batch(numbers, is_free, pieces)
                numbers, is_free, pieces = [], [], []
    if numbers:
        yield _batch(numbers, is_free, pieces)


def _batch(
    numbers: list[NDArray[np.int64]], is_free: list[list[bool]], pieces: list[bytes]
) -> SlotBatch:
    free = np.array([one for part in is_free for one in part], bool)
    return SlotBatch(np.concatenate(numbers), free, b"".join(pieces))


def _read_chunk(volume: XfsVolume, group: int, chunk: Chunk) -> Iterator[bytes]:
    """The bytes of those inodes of a chunk that are there."""
    superblock, present = volume.superblock, chunk.present
    size, per_block = superblock.inode_bytes, superblock.inodes_per_block
    bit = 0
    while bit < layout.CHUNK_INODES:
        if not present >> bit & 1:
            bit += 1
            continue
        end = bit
        while end < layout.CHUNK_INODES and present >> end & 1:
            end += 1
        agblock, index = divmod(chunk.first + bit, per_block)
        if (chunk.first + end - 1) // per_block >= volume.blocks_in(group):
            raise volume.damaged(messages.INODE_CHUNK_LEAVES_GROUP.format(group=group))
        start = volume.group_offset(group, agblock) + index * size
        yield volume.store.read(start, (end - bit) * size)
        bit = end
