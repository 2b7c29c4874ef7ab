"""The inventory of an XFS volume.

Free space becomes zeros. The log and free inodes do not: each block of an empty log bears the
number of a round, and a free inode its own number and generation.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from zeroseal.blocks.patches import Patch, zero_patches
from zeroseal.filesystems.inventory import Inventory, Part
from zeroseal.filesystems.xfs import layout
from zeroseal.filesystems.xfs.forks import read_mapping
from zeroseal.filesystems.xfs.log import log_range
from zeroseal.filesystems.xfs.rows import InodeRows, has_rows
from zeroseal.filesystems.xfs.slack import iter_slack
from zeroseal.filesystems.xfs.slots import SlotBatch, iter_batches, slots_of
from zeroseal.filesystems.xfs.unused import iter_free_space, iter_stale_inodes, iter_stale_log
from zeroseal.filesystems.xfs.volume import XfsVolume

Owned = tuple[int, int, int]  # start and end of a range, in bytes, and the inode that it is of


class XfsInventory(Inventory[XfsVolume]):
    """See ``Inventory``."""

    def _find(self, part: Part) -> Iterable[Patch]:
        volume = self._volume
        match part:
            case Part.JOURNAL:
                return iter_stale_log(volume)
            case Part.FREE_INODES:
                return iter_stale_inodes(volume)
            case Part.FREE_SPACE:
                return zero_patches(volume.store, iter_free_space(volume), "free space")
            case Part.SLACK:
                return iter_slack(volume)

    def _name_places(self) -> XfsPlaceNames:
        return XfsPlaceNames(self._volume)


class XfsPlaceNames:
    """Names the structures of one volume; all inodes are looked at when it is made."""

    def __init__(self, volume: XfsVolume) -> None:
        self._volume = volume
        self._rows: list[Owned] = []
        tables = [self._owned_of(batch) for batch in iter_batches(volume)]
        owned = np.concatenate([*tables, np.array(self._rows, np.int64).reshape(-1, 3)])
        owned = owned[np.argsort(owned[:, 0], kind="stable")]
        self._starts, self._ends, self._owners = owned.T
        self._free = sorted(iter_free_space(volume))

    def _owned_of(self, batch: SlotBatch) -> NDArray[np.int64]:
        """The places of inodes themselves, and of the content of plain files; notes the rest."""
        volume = self._volume
        size = volume.superblock.inode_bytes
        at = [volume.inode_offset(number) for number in batch.numbers.tolist()]
        slots = np.column_stack([at, np.array(at, np.int64) + size, batch.numbers])
        tables, left = [slots.astype(np.int64)], ~batch.is_free
        if has_rows(volume):
            rows = InodeRows(volume, batch)
            plain = left & rows.is_mapped_file & rows.has_no_attributes & rows.is_itself
            there = rows.within & plain[:, None]
            starts = rows.offsets[there]
            owners = np.broadcast_to(rows.numbers[:, None], there.shape)[there]
            ends = starts + rows.blocks[there] * volume.block_bytes
            tables.append(np.column_stack([starts, ends, owners]))
            left &= ~plain
        for number, _is_free, raw in slots_of(volume, batch, left):
            self._add_blocks(number, raw)
        return np.concatenate(tables)

    def _add_blocks(self, number: int, raw: bytes) -> None:
        volume = self._volume
        slot = volume.parse_slot(number, raw)
        for is_attr in (False, True) if slot.inode.fork_offset else (False,):
            mapping = read_mapping(volume, slot, attributes=is_attr)
            runs = [(run.fsblock, run.blocks) for run in mapping.runs]
            for fsblock, count in [*runs, *((block, 1) for block in mapping.tree)]:
                start = volume.offset_of(fsblock)
                self._rows.append((start, start + count * volume.block_bytes, number))

    def owner_of(self, offset_bytes: int) -> int | None:
        """The inode that a byte belongs to: as content, mapping, attributes, or its own slot."""
        at = int(np.searchsorted(self._starts, offset_bytes, side="right")) - 1
        if at >= 0 and offset_bytes < self._ends[at]:
            return int(self._owners[at])
        return None

    def describe(self, offset_bytes: int) -> str:
        """Such as ``free space`` or ``the log``."""
        volume = self._volume
        if offset_bytes >= volume.superblock.blocks * volume.block_bytes:
            return "what lies behind the file system"
        start, length = log_range(volume.superblock)
        if start <= offset_bytes < start + length:
            return "the log"
        at = bisect_right(self._free, offset_bytes, key=lambda item: item[0]) - 1
        if at >= 0 and offset_bytes < sum(self._free[at]):
            return "free space"
        owner = self.owner_of(offset_bytes)
        if owner is not None:
            return f"inode {owner}"
        group_bytes = volume.superblock.group_blocks * volume.block_bytes
        if offset_bytes % group_bytes < 4 * max(layout.SECTOR, volume.superblock.sector_bytes):
            return "the headers of an allocation group"
        return "the trees of an allocation group"
