"""Which blocks of an ext volume are whose, for the inventory; the checker works out its own.

Plain files (a few extents in the inode) are taken from the tables as they are; all others, and the
blocks of the volume itself, one by one.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import DTypeLike, NDArray

from zeroseal.blocks.row_types import row_type
from zeroseal.filesystems.ext import layout
from zeroseal.filesystems.ext.layout import Inode
from zeroseal.filesystems.ext.mapping import read_mapping
from zeroseal.filesystems.ext.read import owns_blocks
from zeroseal.filesystems.ext.rows import EXTENT, read_inode_table
from zeroseal.filesystems.ext.volume import ExtVolume, parse_inode

VOLUME_ITSELF = 0
_FIELDS: dict[str, tuple[int, DTypeLike]] = {
    "mode": (0x0, "<u2"),
    "links": (0x1A, "<u2"),
    "flags": (0x20, "<u4"),
    "magic": (0x28, "<u2"),
    "entries": (0x2A, "<u2"),
    "depth": (0x2E, "<u2"),
    "extents": (0x34, (EXTENT, (4,))),
    "xattr_lo": (0x68, "<u4"),
    "xattr_hi": (0x76, "<u2"),
}


class OwnedBlocks:
    """Runs of blocks with their owners, sorted; read once.

    Raises:
        DamagedError: a structure contradicts itself.
    """

    def __init__(self, volume: ExtVolume) -> None:
        self._volume = volume
        rows = [np.array(list(_structures(volume)), np.int64).reshape(-1, 3)]
        for group in range(volume.group_count):
            rows += _of_group(volume, group)
        every = np.concatenate(rows)
        every = every[np.argsort(every[:, 0], kind="stable")]
        self._starts: NDArray[np.int64] = every[:, 0]
        self._ends: NDArray[np.int64] = np.maximum.accumulate(every[:, 0] + every[:, 1])
        self._owners: NDArray[np.int64] = every[:, 2]

    def owner_of(self, block_no: int) -> int | None:
        """The inode that a block belongs to, ``VOLUME_ITSELF``, or None for nobody."""
        index = int(np.searchsorted(self._starts, block_no, side="right")) - 1
        if index < 0 or block_no >= self._ends[index]:
            return None
        return int(self._owners[index])

    def iter_unowned(self) -> Iterator[tuple[int, int]]:
        """Yields (first block, count) of what nobody owns."""
        following = self._volume.superblock.first_data_block
        for start, end in zip(self._starts.tolist(), self._ends.tolist(), strict=True):
            if start > following:
                yield following, start - following
            following = max(following, end)
        if following < self._volume.block_count:
            yield following, self._volume.block_count - following


def _structures(volume: ExtVolume) -> Iterator[tuple[int, int, int]]:
    superblock = volume.superblock
    table_blocks = superblock.inodes_per_group * volume.inode_bytes // volume.block_bytes
    if superblock.incompat & layout.INCOMPAT_MMP:
        yield superblock.mmp_block, 1, VOLUME_ITSELF
    if superblock.first_data_block < volume.superblock_block:
        yield 0, volume.superblock_block, VOLUME_ITSELF  # kept for a boot loader
    for group in range(volume.group_count):
        for first, count in volume.group_heads(group):
            yield first, count, VOLUME_ITSELF
        descriptor = volume.get_group(group)
        yield descriptor.block_bitmap, 1, VOLUME_ITSELF
        yield descriptor.inode_bitmap, 1, VOLUME_ITSELF
        yield descriptor.inode_table, table_blocks, VOLUME_ITSELF


def _of_group(volume: ExtVolume, group: int) -> Iterator[NDArray[np.int64]]:
    """Yields (first block, count, inode) rows of a group's inodes."""
    table = read_inode_table(volume, group)
    if not table:
        return
    rows = np.frombuffer(table, dtype=row_type(_FIELDS, volume.inode_bytes))
    numbers = np.arange(len(rows)) + group * volume.superblock.inodes_per_group + 1
    used = rows["links"] > 0
    kinds = rows["mode"] & layout.MODE_TYPE_MASK
    plain = (
        used
        & np.isin(kinds, (layout.MODE_FILE, layout.MODE_FOLDER))
        & (rows["flags"] & layout.INODE_EXTENTS != 0)
        & (rows["magic"] == layout.EXTENT_MAGIC)
        & (rows["depth"] == 0)
        & (rows["entries"] <= 4)
        & (numbers != layout.RESIZE_INODE)
    )
    for index in range(4):
        there = plain & (rows["entries"] > index)
        extent = rows["extents"][there, index]
        length = extent["length"].astype(np.int64)
        limit = layout.MAX_EXTENT_BLOCKS
        count = np.where(length > limit, length - limit, length)
        first = extent["high"].astype(np.int64) << 32 | extent["low"]
        yield np.stack((first, count, numbers[there]), axis=1)
    size = volume.inode_bytes
    found: list[tuple[int, int, int]] = []
    for index in np.flatnonzero(used & ~plain).tolist():
        inode = parse_inode(table[index * size : (index + 1) * size])
        found += _of_inode(volume, int(numbers[index]), inode)
    if found:
        yield np.array(found, np.int64)
    shared = rows["xattr_hi"].astype(np.int64) << 32 | rows["xattr_lo"]
    with_attributes = np.flatnonzero(used & (shared != 0))
    ones = np.ones(len(with_attributes), np.int64)
    yield np.stack((shared[with_attributes], ones, numbers[with_attributes]), axis=1)


def _of_inode(volume: ExtVolume, number: int, inode: Inode) -> Iterator[tuple[int, int, int]]:
    if number == layout.RESIZE_INODE:  # the blocks that it keeps are the volume's own
        list_block = int.from_bytes(inode.block[52:56], "little")
        if list_block:
            yield list_block, 1, number
        return
    if owns_blocks(volume, inode) or number == layout.BAD_BLOCKS_INODE:
        mapping = read_mapping(volume, number, inode)
        for run in mapping.runs:
            yield run.physical, run.blocks, number
        for block_no in mapping.tree_blocks:
            yield block_no, 1, number
