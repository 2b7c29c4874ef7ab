"""What lies in no file: free blocks, free inodes and the log's body."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.blocks.patches import ByteRange, Patch, differing_patches
from zeroseal.filesystems.xfs import layout, trees
from zeroseal.filesystems.xfs.allocate import free_inode
from zeroseal.filesystems.xfs.log import EmptyLog, highest_cycle, is_new_log, log_range
from zeroseal.filesystems.xfs.rows import InodeRows, has_rows
from zeroseal.filesystems.xfs.slots import iter_batches, slots_of
from zeroseal.filesystems.xfs.volume import XfsVolume, with_checksum
from zeroseal.messages import xfs as messages

_PIECE_BYTES = 1 << 20


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
                raise volume.damaged(messages.FREE_SPACE_LEAVES_GROUP.format(group=group))
            yield volume.group_offset(group, first), count * volume.block_bytes
    end = volume.superblock.blocks * volume.block_bytes
    if end < volume.store.size_bytes:
        yield end, volume.store.size_bytes - end


def iter_stale_inodes(volume: XfsVolume) -> Iterator[Patch]:
    """Yields what free inodes hold beyond what a free one needs: their numbers, and no more."""
    form = _clean_inode(volume, 0, 0)
    for batch in iter_batches(volume):
        left = batch.is_free
        if has_rows(volume):
            left = left & ~InodeRows(volume, batch).are_but_for_their_own(form)
        for number, _is_free, raw in slots_of(volume, batch, left):
            generation = volume.parse_core(raw).generation
            clean = _clean_inode(volume, number, generation)
            yield from differing_patches(volume.inode_offset(number), raw, clean, "free inodes")


def _clean_inode(volume: XfsVolume, number: int, generation: int) -> bytes:
    core = free_inode(volume, number, generation).build()[: volume.core_bytes]
    raw = core.ljust(volume.superblock.inode_bytes, b"\0")
    return with_checksum(raw, layout.INODE_CRC) if volume.has_crc else raw


def iter_stale_log(volume: XfsVolume) -> Iterator[Patch]:
    """Yields the log, where it holds more than the marks of an empty one and was used.

    An empty one begins a new round: no structure may be younger than it.
    """
    superblock, store = volume.superblock, volume.store
    if is_new_log(store, superblock):
        return
    start, length = log_range(superblock)
    cycle = highest_cycle(store, superblock)
    empty = EmptyLog(superblock, cycle)
    for place in range(0, length, _PIECE_BYTES):
        size = min(_PIECE_BYTES, length - place)
        if store.read(start + place, size) != empty.read(place, size):
            yield Patch(start, length, "log", EmptyLog(superblock, cycle + 1), length)
            return
