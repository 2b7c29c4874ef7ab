"""Where the structures of an ext volume lie: what follows from the superblock alone.

Source: Linux 6.1 ``Documentation/filesystems/ext4/blockgroup.rst`` and ``bigalloc.rst``;
``fs/ext4/balloc.c`` (``ext4_bg_num_gdb``) for the descriptor blocks of meta block groups.

With *bigalloc* a bit of a block bitmap stands for a *cluster* of blocks, and the counters of the
groups count clusters; block numbers and the superblock's counters stay blocks. Without it a cluster
is a block.
"""

from __future__ import annotations

from zeroseal.filesystems.ext.layout import (
    COMPAT_SPARSE_SUPER2,
    INCOMPAT_64BIT,
    INCOMPAT_META_BG,
    INODE_BASE_BYTES,
    RO_BIGALLOC,
    RO_SPARSE_SUPER,
    SUPERBLOCK_OFFSET,
    Superblock,
)
from zeroseal.messages import ext as messages

_MIN_GROUP_BLOCKS = 256  # mke2fs makes no smaller groups
_MAX_GROUPS = 1 << 22  # 512 TiB with groups of 128 MiB
_MAX_LOG_BLOCK_SIZE = 6  # 64 KiB
_MAX_LOG_CLUSTER_RATIO = 16
_LAST_REVISION = 1
OLD_FIRST_INODE = 11  # of revision 0, and the lowest of revision 1

BlockRun = tuple[int, int]  # (first block, number of blocks)


class Geometry:
    """Sizes and places, in blocks unless a name says otherwise.

    Attributes:
        block_bytes, inode_bytes, descriptor_bytes: sizes of the structures.
        block_count, group_count: of the whole volume.
        cluster_blocks: blocks that one bit of a block bitmap stands for.
        first_inode: the first inode that is not reserved.

    Raises:
        ValueError: the superblock contradicts itself; the message says how.
    """

    def __init__(self, superblock: Superblock) -> None:
        self.superblock = superblock
        if superblock.log_block_size > _MAX_LOG_BLOCK_SIZE:
            raise ValueError(
                messages.IMPOSSIBLE_BLOCK_SIZE.format(log_block_size=superblock.log_block_size + 10)
            )
        self.block_bytes = 1024 << superblock.log_block_size
        is_64bit = bool(superblock.incompat & INCOMPAT_64BIT)
        self.block_count = superblock.blocks_count_lo
        self.descriptor_bytes = 32
        if is_64bit:
            self.block_count |= superblock.blocks_count_hi << 32
            self.descriptor_bytes = superblock.descriptor_bytes
        self.inode_bytes = superblock.inode_bytes if superblock.revision else INODE_BASE_BYTES
        self.first_inode = superblock.first_inode if superblock.revision else OLD_FIRST_INODE
        self.cluster_blocks = self._cluster_blocks()
        if not self._is_sound(is_64bit):
            raise ValueError(messages.SUPERBLOCK_DESCRIBES_IMPOSSIBLE_GEOMETRY)
        blocks_to_share = self.block_count - superblock.first_data_block
        self.group_count = -(-blocks_to_share // superblock.blocks_per_group)
        if self.group_count > _MAX_GROUPS:
            raise ValueError(messages.IMPOSSIBLE_GROUP_COUNT.format(group_count=self.group_count))
        if superblock.inodes_count != self.group_count * superblock.inodes_per_group:
            raise ValueError(messages.INODES_DO_NOT_MATCH_GROUPS)

    @property
    def superblock_block(self) -> int:
        """The block that holds the superblock."""
        return SUPERBLOCK_OFFSET // self.block_bytes

    @property
    def descriptor_blocks(self) -> int:
        """How many blocks the descriptors of all groups fill."""
        return -(-self.group_count * self.descriptor_bytes // self.block_bytes)

    def descriptor_offset(self, group: int) -> int:
        """Where a group's descriptor lies, in bytes."""
        per_block = self.block_bytes // self.descriptor_bytes
        table_block, index = divmod(group, per_block)
        return self._table_block_no(table_block) * self.block_bytes + index * self.descriptor_bytes

    def group_blocks(self, group: int) -> BlockRun:
        """(first block, number of blocks) of a group; the last may be short."""
        first = self.superblock.first_data_block + group * self.superblock.blocks_per_group
        return first, min(self.superblock.blocks_per_group, self.block_count - first)

    def group_clusters(self, group: int) -> int:
        """How many bits of a group's block bitmap stand for something."""
        return -(-self.group_blocks(group)[1] // self.cluster_blocks)

    def group_of_block(self, block_no: int) -> int:
        """The group that a block belongs to."""
        return (block_no - self.superblock.first_data_block) // self.superblock.blocks_per_group

    def has_superblock_copy(self, group: int) -> bool:
        """Whether a group begins with the superblock or a copy of it."""
        if group == 0:
            return True
        if self.superblock.compat & COMPAT_SPARSE_SUPER2:
            return group in (self.superblock.backup_group_1, self.superblock.backup_group_2)
        if not self.superblock.ro_compat & RO_SPARSE_SUPER or group == 1:
            return True
        return any(_is_power(group, base) for base in (3, 5, 7))

    def group_heads(self, group: int) -> list[BlockRun]:
        """The blocks that superblock and descriptors, or copies of them, take in a group."""
        base, size = self.group_blocks(group)
        first = self._group_head(group)
        has_copy = self.has_superblock_copy(group)
        per_block = self.block_bytes // self.descriptor_bytes
        if not self._is_meta(group // per_block):
            if not has_copy:
                return []
            table = self.descriptor_blocks + self.superblock.reserved_gdt_blocks
            if self.superblock.incompat & INCOMPAT_META_BG:
                table = min(self.superblock.first_meta_group, self.descriptor_blocks)
            return [(first, min(1 + table, base + size - first))]
        in_meta = group % per_block
        count = int(has_copy) + int(in_meta in (0, 1, per_block - 1))
        return [(first, count)] if count else []

    def table_copies(self, table_block: int) -> list[int]:
        """Where the n-th block of the descriptor table lies, the one that counts first."""
        per_block = self.block_bytes // self.descriptor_bytes
        if self._is_meta(table_block):
            first = table_block * per_block
            groups = [group for group in (first, first + 1, first + per_block - 1)
                      if group < self.group_count]  # fmt: skip
            return [self._group_head(group) + self.has_superblock_copy(group) for group in groups]
        groups = [group for group in range(self.group_count) if self.has_superblock_copy(group)]
        return [self._group_head(group) + 1 + table_block for group in groups]

    def _group_head(self, group: int) -> int:
        """Where the superblock of a group lies, or would lie."""
        base = self.group_blocks(group)[0]
        return max(base, self.superblock_block) if group == 0 else base

    def has_block(self, block_no: int, count: int = 1) -> bool:
        """Whether blocks lie on the volume."""
        return block_no >= self.superblock.first_data_block and (
            block_no + count <= self.block_count
        )

    def _is_meta(self, table_block: int) -> bool:
        superblock = self.superblock
        return bool(superblock.incompat & INCOMPAT_META_BG) and (
            table_block >= superblock.first_meta_group
        )

    def _table_block_no(self, table_block: int) -> int:
        """Where the n-th block of the descriptor table lies."""
        if not self._is_meta(table_block):
            return self.superblock_block + 1 + table_block
        group = table_block * (self.block_bytes // self.descriptor_bytes)
        return self._group_head(group) + int(self.has_superblock_copy(group))

    def _cluster_blocks(self) -> int:
        superblock = self.superblock
        if not superblock.ro_compat & RO_BIGALLOC:
            return 1
        ratio = superblock.log_cluster_size - superblock.log_block_size
        if not 0 <= ratio <= _MAX_LOG_CLUSTER_RATIO:
            raise ValueError(
                messages.IMPOSSIBLE_CLUSTER_SIZE.format(
                    log_cluster_size=superblock.log_cluster_size + 10
                )
            )
        return 1 << ratio

    def _is_sound(self, is_64bit: bool) -> bool:
        superblock = self.superblock
        bits = self.block_bytes * 8
        ratio = self.cluster_blocks
        clusters_per_group = superblock.blocks_per_group // ratio
        reserved_blocks = superblock.reserved_blocks_lo
        if is_64bit:
            reserved_blocks |= superblock.reserved_blocks_hi << 32
        return (
            superblock.revision <= _LAST_REVISION
            and OLD_FIRST_INODE <= self.first_inode <= superblock.inodes_per_group
            and reserved_blocks <= self.block_count // 2
            and superblock.reserved_gdt_blocks <= self.block_bytes // 4
            and superblock.blocks_per_group >= _MIN_GROUP_BLOCKS
            and clusters_per_group <= bits
            and superblock.blocks_per_group % (8 * ratio) == 0
            and clusters_per_group == superblock.clusters_per_group
            and superblock.log_cluster_size - superblock.log_block_size == ratio.bit_length() - 1
            and self.block_count % ratio == 0
            and 0 < superblock.inodes_per_group <= bits
            and superblock.inodes_per_group % 8 == 0
            and self.inode_bytes in (128, 256, 512, 1024, 2048, 4096)
            and self.inode_bytes <= self.block_bytes
            and superblock.inodes_per_group * self.inode_bytes % self.block_bytes == 0
            and superblock.first_data_block == (1 if self.block_bytes == 1024 and ratio == 1 else 0)
            and superblock.first_data_block < self.block_count
            and (not is_64bit or self.descriptor_bytes in (64, 128, 256, 512, 1024))
        )


def _is_power(number: int, base: int) -> bool:
    while number > 1 and number % base == 0:
        number //= base
    return number == 1
