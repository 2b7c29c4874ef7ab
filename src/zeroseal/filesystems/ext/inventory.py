"""The inventory of an ext volume: all that is stale becomes zeros."""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Iterable

from zeroseal.blocks.bitmaps import bit_is_set
from zeroseal.blocks.patches import Patch, zero_patches
from zeroseal.filesystems.ext import layout
from zeroseal.filesystems.ext.allocate import Allocator
from zeroseal.filesystems.ext.mapping import read_mapping
from zeroseal.filesystems.ext.owned_blocks import VOLUME_ITSELF, OwnedBlocks
from zeroseal.filesystems.ext.slack import iter_slack
from zeroseal.filesystems.ext.unused import iter_free_inodes, iter_free_space, iter_journal_body
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.filesystems.inventory import Inventory, Part


class ExtInventory(Inventory[ExtVolume]):
    """See ``Inventory``."""

    def _find(self, part: Part) -> Iterable[Patch]:
        volume = self._volume
        match part:
            case Part.JOURNAL:
                return zero_patches(volume.store, iter_journal_body(volume), "journal")
            case Part.FREE_INODES:
                return zero_patches(volume.store, iter_free_inodes(volume), "free inodes")
            case Part.FREE_SPACE:
                return zero_patches(volume.store, iter_free_space(volume), "free space")
            case Part.SLACK:
                return iter_slack(volume)

    def _name_places(self) -> ExtPlaceNames:
        return ExtPlaceNames(self._volume)


_INODE = re.compile(r"\(inode (\d+)\)")


class ExtPlaceNames:
    """Names the structures of one volume."""

    def __init__(self, volume: ExtVolume) -> None:
        self._volume = volume
        self._allocator = Allocator(volume)
        self._owned: OwnedBlocks | None = None
        self._journal: list[tuple[int, int]] = []
        if volume.superblock.compat & layout.COMPAT_HAS_JOURNAL:
            number = volume.superblock.journal_inode
            runs = read_mapping(volume, number, volume.read_inode(number)).runs
            self._journal = sorted((run.physical, run.physical + run.blocks) for run in runs)

    def owner_of(self, offset_bytes: int) -> int | None:
        """The inode that a byte belongs to: as content, mapping, attributes, or its own slot.

        Raises:
            DamagedError: the volume cannot be read.
        """
        volume = self._volume
        if self._owned is None:
            self._owned = OwnedBlocks(volume)
        owner = self._owned.owner_of(offset_bytes // volume.block_bytes)
        if owner == VOLUME_ITSELF:
            inside = _INODE.search(self.describe(offset_bytes))
            return int(inside[1]) if inside else None
        return owner

    def describe(self, offset_bytes: int) -> str:
        """Such as ``free space`` or ``the inode table (inode 12)``."""
        volume = self._volume
        block_no = offset_bytes // volume.block_bytes
        if not volume.has_block(block_no):
            before = block_no < volume.superblock.first_data_block
            return "the boot block" if before else "what lies behind the file system"
        at = bisect_right(self._journal, block_no, key=lambda run: run[0]) - 1
        if at >= 0 and block_no < self._journal[at][1]:
            return "the journal"
        group = volume.group_of_block(block_no)
        index = (block_no - volume.group_blocks(group)[0]) // volume.cluster_blocks
        if not bit_is_set(self._allocator.get_bitmap("block", group), index):
            return "free space"
        if any(first <= block_no < first + n for first, n in volume.group_heads(group)):
            return "the superblock and group descriptors, or copies of them"
        return self._describe_tables(offset_bytes, block_no, group)

    def _describe_tables(self, offset_bytes: int, block_no: int, group: int) -> str:
        """Bitmaps and inode tables; those of a group may lie in the first of its flexible group."""
        volume = self._volume
        per_group = volume.superblock.inodes_per_group
        table_blocks = per_group * volume.inode_bytes // volume.block_bytes
        flex = 1 << min(volume.superblock.log_groups_per_flex, 31)
        first = group // flex * flex
        for other in range(first, min(first + flex, volume.group_count)):
            descriptor = volume.get_group(other)
            if block_no in (descriptor.block_bitmap, descriptor.inode_bitmap):
                return "a bitmap"
            start = descriptor.inode_table
            if start <= block_no < start + table_blocks:
                inside = offset_bytes - start * volume.block_bytes
                number = other * per_group + inside // volume.inode_bytes + 1
                return f"the inode table (inode {number})"
        return "a file's mapping or attributes"
