"""What lies in no file: free blocks, free inodes and the log's body."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.blocks.store import Store
from zeroseal.filesystems.xfs import layout, trees
from zeroseal.filesystems.xfs.allocate import free_inode, write_free_inode
from zeroseal.filesystems.xfs.group import chunks_of
from zeroseal.filesystems.xfs.log import empty_log, highest_cycle, is_new_log, log_range
from zeroseal.filesystems.xfs.volume import XfsVolume, with_checksum

ByteRange = tuple[int, int]  # (offset, length)


def iter_free_space(volume: XfsVolume) -> Iterator[ByteRange]:
    """Yields the ranges of all free blocks, of those kept for trees, and what lies behind the end.

    Extents that were set aside for copies on write and never used count as free too: the next mount
    gives them back.
    """
    for group in range(volume.superblock.group_count):
        agf = volume.read_agf(group)
        rows, _blocks = trees.read_tree(volume, group, trees.BNO, agf.bno_root, agf.bno_levels)
        runs = [(row[0], row[1]) for row in rows]
        runs += [(block, 1) for block in volume.read_list(group, agf)]
        if volume.has_feature(layout.RO_REFLINK):
            shared, _blocks = trees.read_tree(
                volume, group, trees.REFCOUNT, agf.refcount_root, agf.refcount_levels
            )
            runs += [
                (row[0] & ~layout.REFCOUNT_COW, row[1])
                for row in shared
                if row[0] & layout.REFCOUNT_COW
            ]
        for first, count in runs:
            if first + count > volume.blocks_in(group):
                raise volume.damaged(f"the free space of group {group} leaves it")
            yield volume.group_offset(group, first), count * volume.block_bytes
    end = volume.superblock.blocks * volume.block_bytes
    if end < volume.store.size_bytes:
        yield end, volume.store.size_bytes - end


def iter_stale_inodes(volume: XfsVolume) -> Iterator[tuple[int, int, bytes]]:
    """Yields (number, generation, bytes) of free inodes that hold more than a free one needs."""
    for group, number, is_free, raw in iter_slots(volume):
        del group
        if not is_free:
            continue
        generation = volume.parse_core(raw).generation
        if raw != _clean_inode(volume, number, generation):
            yield number, generation, raw


def clean_free_inodes(volume: XfsVolume) -> None:
    """Leaves of free inodes what a free one needs: their numbers, and no more."""
    for number, generation, _raw in list(iter_stale_inodes(volume)):
        write_free_inode(volume, number, generation)


def _clean_inode(volume: XfsVolume, number: int, generation: int) -> bytes:
    core = free_inode(volume, number, generation).build()[: volume.core_bytes]
    raw = core.ljust(volume.superblock.inode_bytes, b"\0")
    return with_checksum(raw, layout.INODE_CRC) if volume.has_crc else raw


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


def is_empty_log(store: Store, volume: XfsVolume) -> bool:
    """Whether the log's body holds nothing but the marks of an empty one, or was never used."""
    start, length = log_range(volume.superblock)
    cycle = highest_cycle(store, volume.superblock)
    if is_new_log(store, volume.superblock):
        return True
    return store.read(start, length) == empty_log(volume.superblock, cycle)


def clear_log(volume: XfsVolume) -> None:
    """Writes an empty log, in a new round: no structure may be younger than it."""
    start, _length = log_range(volume.superblock)
    cycle = highest_cycle(volume.store, volume.superblock) + 1
    volume.store.write(start, empty_log(volume.superblock, cycle))
