"""Growing a volume to the size of its store, as xfs_growfs does.

The last allocation group gets the blocks that it lacks, and further groups of the same size follow.
A new group has nothing but its headers and empty trees.
"""

from __future__ import annotations

from zeroseal.blocks.store import Store
from zeroseal.filesystems.xfs.allocate import write_copy, write_superblock
from zeroseal.filesystems.xfs.group import Group
from zeroseal.filesystems.xfs.layout import Superblock
from zeroseal.filesystems.xfs.volume import XfsVolume

_LEAST_GROUP_BLOCKS = 64  # XFS_MIN_AG_BLOCKS


def grow_volume(store: Store, where: str) -> int:
    """Lets a volume use all of its store; returns its new size in bytes.

    Raises:
        ImageError: it cannot be read.
        NoSpaceError: the last group has no room for its own trees.
    """
    volume = XfsVolume(store, where)
    superblock = volume.superblock
    size = superblock.group_blocks
    blocks = store.size_bytes // volume.block_bytes
    if 0 < blocks % size < _LEAST_GROUP_BLOCKS:
        blocks -= blocks % size
    if blocks <= superblock.blocks:
        return superblock.blocks * volume.block_bytes
    last = Group(volume, superblock.group_count - 1)
    before, old_count = volume.blocks_in(last.number), superblock.group_count
    superblock.blocks, superblock.group_count = blocks, -(-blocks // size)
    if volume.blocks_in(last.number) > before:
        last.free.add(before, volume.blocks_in(last.number))
        last.agf.blocks = last.agi.blocks = volume.blocks_in(last.number)
        last.write()
    groups = [last]
    for number in range(old_count, superblock.group_count):
        groups.append(Group.blank(volume, number))
        groups[-1].write()
    free = last.totals().free_blocks - last.before.free_blocks
    superblock.free_blocks += free + sum(group.totals().free_blocks for group in groups[1:])
    _write_superblocks(volume, old_count)
    return blocks * volume.block_bytes


def _write_superblocks(volume: XfsVolume, old_count: int) -> None:
    """The first one; of the copies that are there the sizes, of new ones all."""
    own = volume.superblock
    write_superblock(volume, own)
    for number in range(1, own.group_count):
        raw, superblock = volume.raw_superblock, own
        if number < old_count:
            raw = volume.store.read(volume.header_offset(number, 0), own.sector_bytes)
            superblock = Superblock.parse(raw[: Superblock.SIZE])
            superblock.blocks, superblock.group_count = own.blocks, own.group_count
        write_copy(volume, number, superblock, raw)
