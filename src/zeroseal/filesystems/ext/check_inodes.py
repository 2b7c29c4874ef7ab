"""The checker's pass over all inode tables: checksums, mappings, sizes.

Most inodes of a used system keep at most four extents in themselves. Those are looked at a whole
table at a time, with numpy; the others (deep trees, lists of block numbers) one by one.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import DTypeLike, NDArray

from zeroseal.blocks.checksums import crc32c
from zeroseal.blocks.row_types import row_type
from zeroseal.filesystems.ext import layout
from zeroseal.filesystems.ext.check_claims import Claims
from zeroseal.filesystems.ext.layout import Inode
from zeroseal.filesystems.ext.mapping import Mapping, count_clusters, read_mapping
from zeroseal.filesystems.ext.read import owns_blocks
from zeroseal.filesystems.ext.rows import EXTENT, read_inode_table
from zeroseal.filesystems.ext.volume import ExtVolume, parse_inode
from zeroseal.filesystems.ext.xattrs import block_attributes, count_values, inode_attributes
from zeroseal.messages import ext as messages

Report = Callable[[str, str], None]

_TREE = np.dtype(
    [
        ("magic", "<u2"),
        ("entries", "<u2"),
        ("max", "<u2"),
        ("depth", "<u2"),
        ("generation", "<u4"),
        ("extents", EXTENT, (4,)),
    ]
)
_FIELDS: dict[str, tuple[int, DTypeLike]] = {
    "mode": (0x0, "<u2"),
    "size_lo": (0x4, "<u4"),
    "links": (0x1A, "<u2"),
    "sectors_lo": (0x1C, "<u4"),
    "flags": (0x20, "<u4"),
    "tree": (0x28, _TREE),
    "generation": (0x64, "<u4"),
    "xattr_lo": (0x68, "<u4"),
    "size_hi": (0x6C, "<u4"),
    "sectors_hi": (0x74, "<u2"),
    "xattr_hi": (0x76, "<u2"),
    "checksum_lo": (0x7C, "<u2"),
}


class InodePass:
    """What the pass found.

    Attributes:
        types: type bits of the mode, by inode number, of every inode in use.
        links: their link counts.
        claims: the blocks they own.
        xattr_users: how many inodes use a block of extended attributes.
        value_users: how many attributes use an inode that holds a value.
        value_references: how many such an inode counts.
    """

    def __init__(self, volume: ExtVolume, claims: Claims, report: Report) -> None:
        self.types: dict[int, int] = {}
        self.links: dict[int, int] = {}
        self.claims = claims
        self.xattr_users: dict[int, int] = {}
        self.value_users: dict[int, int] = {}
        self.value_references: dict[int, int] = {}
        self._has_values = bool(volume.superblock.incompat & layout.INCOMPAT_EA_INODE)
        self._volume = volume
        self._report = report
        self._row = row_type(_FIELDS, volume.inode_bytes)

    def run(self) -> None:
        """Looks at the tables of all groups."""
        volume = self._volume
        for group in range(volume.group_count):
            table = read_inode_table(volume, group)
            if not table:
                continue
            rows = np.frombuffer(table, dtype=self._row)
            used = np.flatnonzero(rows["links"])
            first_no = group * volume.superblock.inodes_per_group + 1
            self._look_at_group(table, rows[used], used, used + first_no)

    def _look_at_group(
        self,
        table: bytes,
        rows: NDArray[np.void],
        used: NDArray[np.int64],
        numbers: NDArray[np.int64],
    ) -> None:
        kinds = rows["mode"] & layout.MODE_TYPE_MASK
        self.types.update(zip(numbers.tolist(), kinds.tolist(), strict=True))
        self.links.update(zip(numbers.tolist(), rows["links"].tolist(), strict=True))
        if self._volume.has_checksums:
            self._check_sums(table, rows, used, numbers)
        tree = rows["tree"]
        has_extras = self._has_values or self._volume.cluster_blocks > 1
        plain = (
            np.isin(kinds, (layout.MODE_FILE, layout.MODE_FOLDER))
            & (rows["flags"] & layout.INODE_EXTENTS != 0)
            & (rows["flags"] & layout.INODE_HUGE_FILE == 0)
            & (tree["magic"] == layout.EXTENT_MAGIC)
            & (tree["depth"] == 0)
            & (tree["entries"] <= 4)
            & (numbers != layout.RESIZE_INODE)
            & (not has_extras)
        )
        self._look_at_plain(rows[plain], numbers[plain])
        size = self._volume.inode_bytes
        for index, number in zip(used[~plain].tolist(), numbers[~plain].tolist(), strict=True):
            self._look_at_one(number, parse_inode(table[index * size : (index + 1) * size]))

    def _check_sums(
        self,
        table: bytes,
        rows: NDArray[np.void],
        used: NDArray[np.int64],
        numbers: NDArray[np.int64],
    ) -> None:
        """Compares every stored sum with one worked out over the slot without it."""
        size = self._volume.inode_bytes
        slots = np.frombuffer(table, np.uint8).reshape(-1, size)[used].copy()
        stored = rows["checksum_lo"].astype(np.int64)
        slots[:, 0x7C:0x7E] = 0
        masks = np.full(len(used), 0xFFFF, np.int64)
        if size > layout.INODE_BASE_BYTES:
            extra = slots[:, 0x80].astype(np.int64) | slots[:, 0x81].astype(np.int64) << 8
            wide = extra >= 4
            high = slots[:, 0x82].astype(np.int64) | slots[:, 0x83].astype(np.int64) << 8
            stored = np.where(wide, stored | high << 16, stored)
            masks = np.where(wide, 0xFFFFFFFF, masks)
            slots[wide, 0x82:0x84] = 0
        heads = (
            np.stack((numbers.astype("<u4"), rows["generation"]), axis=1).astype("<u4").tobytes()
        )
        content, seed = slots.tobytes(), self._volume.checksum_seed
        for index, (number, expected, mask) in enumerate(
            zip(numbers.tolist(), stored.tolist(), masks.tolist(), strict=True)
        ):
            own_seed = crc32c(seed, heads[index * 8 : index * 8 + 8])
            value = crc32c(own_seed, content[index * size : (index + 1) * size])
            if value & mask != expected:
                self._report(f"inode {number}", messages.CHECKSUM_WRONG)

    def _look_at_plain(self, rows: NDArray[np.void], numbers: NDArray[np.int64]) -> None:
        """Inodes whose whole mapping is up to four extents in the inode."""
        tree = rows["tree"]
        blocks = np.zeros(len(rows), np.int64)
        following = np.zeros(len(rows), np.int64)
        for index in range(4):
            extent = tree["extents"][:, index]
            length = extent["length"].astype(np.int64)
            count = np.where(
                length > layout.MAX_EXTENT_BLOCKS, length - layout.MAX_EXTENT_BLOCKS, length
            )
            there = tree["entries"] > index
            logical = extent["logical"].astype(np.int64)
            for number in numbers[there & ((logical < following) | (count == 0))].tolist():
                self._report(f"inode {number}", messages.EXTENTS_EMPTY_OR_OUT_OF_ORDER)
            first = extent["high"].astype(np.int64) << 32 | extent["low"]
            self.claims.add_many(numbers[there], first[there], count[there])
            blocks += np.where(there, count, 0)
            following = np.where(there, logical + count, following)
        xattr = rows["xattr_hi"].astype(np.int64) << 32 | rows["xattr_lo"]
        for number, block_no in zip(
            numbers[xattr != 0].tolist(), xattr[xattr != 0].tolist(), strict=True
        ):
            self._claim_xattr(number, block_no)
        blocks += xattr != 0
        sectors = rows["sectors_hi"].astype(np.int64) << 32 | rows["sectors_lo"]
        per_block = self._volume.block_bytes // 512
        for number in numbers[sectors != blocks * per_block].tolist():
            self._report(f"inode {number}", messages.COUNT_OF_SECTORS_WRONG)

    def _look_at_one(self, number: int, inode: Inode) -> None:
        if number == layout.RESIZE_INODE:
            self._look_at_resize_inode(inode)
            return
        mapping = Mapping()
        if owns_blocks(self._volume, inode) or number == layout.BAD_BLOCKS_INODE:
            mapping = read_mapping(self._volume, number, inode)
        for run in mapping.runs:
            self.claims.add(number, run.physical, run.blocks)
        for block_no in mapping.tree_blocks:
            self.claims.add(number, block_no, 1)
        clusters = count_clusters(self._volume, mapping.runs) + len(mapping.tree_blocks)
        if inode.xattr_block:
            clusters += 1
            self._claim_xattr(number, inode.xattr_block)
        if self._has_values:
            self._look_at_values(number, inode)
        blocks = clusters * self._volume.cluster_blocks
        blocks += count_values(self._volume, number, inode)[1]
        per_block = self._volume.block_bytes // 512
        taken = inode.sectors * (per_block if inode.flags & layout.INODE_HUGE_FILE else 1)
        if taken != blocks * per_block:
            self._report(
                f"inode {number}",
                messages.BLOCKS_DO_NOT_MATCH_SECTORS.format(blocks=blocks, taken=taken),
            )

    def _look_at_values(self, number: int, inode: Inode) -> None:
        """Attributes whose value lies in another inode, and what such an inode counts."""
        if inode.flags & layout.INODE_EA_INODE:
            self.value_references[number] = inode.value_references
            self.value_users.setdefault(number, 0)
        found = inode_attributes(self._volume, number, inode)
        if inode.xattr_block and self.xattr_users[inode.xattr_block] == 1:
            found = found + block_attributes(self._volume, number, inode.xattr_block)
        for item in found:
            if item.value_inode:
                self.value_users[item.value_inode] = self.value_users.get(item.value_inode, 0) + 1

    def _look_at_resize_inode(self, inode: Inode) -> None:
        """The resize inode lists the blocks kept for descriptors, and their copies in other groups.

        Those blocks are claimed with the volume's structures already; here only its own list is.
        Its one list of two levels names the kept blocks behind the descriptor table; each of those
        names its copies, group by group (Linux 6.1 ``fs/ext4/resize.c``, ``reserve_backup_gdb``).
        """
        volume = self._volume
        list_block = int.from_bytes(inode.block[52:56], "little")
        kept = volume.superblock.reserved_gdt_blocks
        if not list_block:
            return
        self.claims.add(layout.RESIZE_INODE, list_block, 1)
        table_blocks = volume.descriptor_blocks
        first_kept = volume.superblock_block + 1 + table_blocks
        per_block = volume.block_bytes // 4
        expected = [0] * per_block
        for number in range(kept):
            expected[(table_blocks + number) % per_block] = first_kept + number
        found = np.frombuffer(volume.read_block(list_block), "<u4")
        sound = found.tolist() == expected
        copies = [
            first_kept + group * volume.superblock.blocks_per_group
            for group in range(1, volume.group_count)
            if volume.has_superblock_copy(group)
        ]
        for number in range(kept if sound else 0):
            names = np.frombuffer(volume.read_block(first_kept + number), "<u4").tolist()
            sound = sound and names[: len(copies)] == [first + number for first in copies]
            sound = sound and not any(names[len(copies) :])
        blocks = 1 + kept * (1 + len(copies))
        blocks *= volume.cluster_blocks
        if not sound or inode.sectors != blocks * (volume.block_bytes // 512):
            self._report(f"inode {layout.RESIZE_INODE}", messages.LISTS_OF_RESERVED_BLOCKS_WRONG)

    def _claim_xattr(self, number: int, block_no: int) -> None:
        users = self.xattr_users.get(block_no, 0)
        if not users:
            self.claims.add(number, block_no, 1)
        self.xattr_users[block_no] = users + 1
