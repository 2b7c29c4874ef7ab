"""All inodes there are, free and used, chunk by chunk of the inode trees."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from zeroseal.filesystems.xfs import layout, trees
from zeroseal.filesystems.xfs.trees import Row
from zeroseal.filesystems.xfs.volume import XfsVolume


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


def iter_slots(volume: XfsVolume) -> Iterator[tuple[int, int, bool, bytes]]:
    """Yields (group, inode number, whether it is free, bytes) of all inodes there are."""
    superblock = volume.superblock
    size, per_block = superblock.inode_bytes, superblock.inodes_per_block
    for group in range(superblock.group_count):
        agi = volume.read_agi(group)
        rows, _blocks = trees.read_tree(volume, group, trees.INOBT, agi.root, agi.levels)
        for chunk in chunks_of(volume, rows):
            present = chunk.present
            bit = 0
            while bit < layout.CHUNK_INODES:
                if not present >> bit & 1:
                    bit += 1
                    continue
                agblock, index = divmod(chunk.first + bit, per_block)
                count = min(per_block - index, layout.CHUNK_INODES - bit)
                if agblock >= volume.blocks_in(group):
                    raise volume.damaged(f"a chunk of inodes of group {group} leaves it")
                start = volume.group_offset(group, agblock) + index * size
                raw = volume.store.read(start, count * size)
                for number in range(count):
                    if present >> bit + number & 1:
                        yield (
                            group,
                            volume.inode_number(group, chunk.first + bit + number),
                            bool(chunk.free >> bit + number & 1),
                            raw[number * size : (number + 1) * size],
                        )
                bit += count
