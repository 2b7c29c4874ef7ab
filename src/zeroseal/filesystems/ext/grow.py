"""Growing a volume to the size of its store, as resize2fs does.

The last group gets the blocks that it lacks, and further groups follow, each with its own bitmaps
and inode table. The table of group descriptors grows into the blocks that were kept for that: they
belong to the *resize inode*, whose tree lists them and their copies in other groups.

Source: Linux 6.1 ``fs/ext4/resize.c`` (``add_new_gdb``, ``reserve_backup_gdb``); e2fsprogs
``lib/ext2fs/res_gdt.c`` for the shape of the resize inode.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

from zeroseal.blocks.bitmaps import fill_bits
from zeroseal.blocks.store import Store
from zeroseal.errors import UnsupportedError
from zeroseal.filesystems.ext import checksums, layout
from zeroseal.filesystems.ext.allocate import Which, put_bitmap_checksum, with_tail_set
from zeroseal.filesystems.ext.geometry import Geometry
from zeroseal.filesystems.ext.layout import GroupDescriptor, Superblock
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.messages import ext as messages

_LEAST_FREE_BLOCKS = 50  # a last group with less beside its own tables is left out
_DOUBLE_INDIRECT = 13  # of an inode's list of blocks
_NUMBER_BYTES = 4


def grow_volume(store: Store, where: str) -> int:
    """Lets a volume use all of its store; returns its new size in bytes.

    Raises:
        ImageError: it cannot be read.
        UnsupportedError: it has no room for more group descriptors, or features that do not grow.
    """
    volume = ExtVolume(store, where)
    volume.check_editable()
    features = {
        "bigalloc": volume.superblock.ro_compat & layout.RO_BIGALLOC,
        "sparse_super2": volume.superblock.compat & layout.COMPAT_SPARSE_SUPER2,
    }
    for name, is_on in features.items():
        if is_on:
            raise UnsupportedError(messages.NOT_GROWN_WITH.format(where=where, feature=name))
    return _Growth(volume).run()


class _Growth:
    """One growth: the volume as it was, and the geometry that it gets."""

    def __init__(self, volume: ExtVolume) -> None:
        self._volume, self._store = volume, volume.store
        self._groups = [volume.get_group(number) for number in range(volume.group_count)]
        self._old = Geometry(Superblock.parse(volume.superblock.build()))
        self._new = self._old

    def run(self) -> int:
        """Grows; returns the new size in bytes."""
        volume = self._volume
        blocks = volume.store.size_bytes // volume.block_bytes
        if not volume.superblock.incompat & layout.INCOMPAT_64BIT:
            blocks = min(blocks, (1 << 32) - 1)
        superblock = self._superblock_for(blocks)
        self._new = Geometry(superblock)
        if self._new.block_count <= self._old.block_count:
            return self._old.block_count * volume.block_bytes
        self._check_table()
        self._extend_last_group()
        for group in range(self._old.group_count, self._new.group_count):
            self._groups.append(self._make_group(group))
        self._grow_table()
        self._count(superblock)
        self._write_table(superblock)
        self._write_superblocks(superblock)
        return self._new.block_count * volume.block_bytes

    def _superblock_for(self, blocks: int) -> Superblock:
        """The superblock of so many blocks, less those that would make a group of no use."""
        old = self._old
        made = Superblock.parse(self._volume.superblock.build())
        first, size = made.first_data_block, made.blocks_per_group
        _set_blocks(made, blocks)
        made.inodes_count = -(-(blocks - first) // size) * made.inodes_per_group
        added = Geometry(made).descriptor_blocks - old.descriptor_blocks
        if added > 0 and not made.incompat & layout.INCOMPAT_META_BG:
            made.reserved_gdt_blocks = max(0, made.reserved_gdt_blocks - added)
        new = Geometry(made)
        last = new.group_count - 1
        used = self._head_blocks(new, last) + 2 + self._table_blocks
        rest = new.group_blocks(last)[1]
        if last >= old.group_count and rest < used + _LEAST_FREE_BLOCKS:
            return self._superblock_for(new.group_blocks(last)[0])
        return made

    @property
    def _table_blocks(self) -> int:
        """How many blocks an inode table takes."""
        superblock = self._volume.superblock
        return superblock.inodes_per_group * self._old.inode_bytes // self._old.block_bytes

    @staticmethod
    def _head_blocks(geometry: Geometry, group: int) -> int:
        return sum(count for _first, count in geometry.group_heads(group))

    def _check_table(self) -> None:
        """Raises UnsupportedError where the table of descriptors has no room to grow."""
        superblock = self._volume.superblock
        added = self._new.descriptor_blocks - self._old.descriptor_blocks
        if added <= 0 or superblock.incompat & layout.INCOMPAT_META_BG:
            return
        has_room = superblock.compat & layout.COMPAT_RESIZE_INODE
        if not has_room or added > superblock.reserved_gdt_blocks:
            raise UnsupportedError(
                messages.NO_ROOM_FOR_DESCRIPTORS.format(where=self._volume.where)
            )

    def _extend_last_group(self) -> None:
        group = self._old.group_count - 1
        before, after = self._old.group_blocks(group)[1], self._new.group_blocks(group)[1]
        if after == before:
            return
        descriptor = self._groups[group]
        bitmap = bytearray(self._volume.read_block(descriptor.block_bitmap))
        fill_bits(bitmap, before, after - before, value=False)
        descriptor.flags &= ~layout.GROUP_BLOCK_UNINIT
        descriptor.free_blocks += after - before
        self._write_bitmap(descriptor, "block", bitmap)

    def _make_group(self, group: int) -> GroupDescriptor:
        """Writes the bitmaps and the inode table of a new group."""
        new = self._new
        base, blocks = new.group_blocks(group)
        start = base + self._head_blocks(new, group)
        descriptor = GroupDescriptor.parse(bytes(GroupDescriptor.SIZE))
        places = (("block_bitmap", start), ("inode_bitmap", start + 1), ("inode_table", start + 2))
        for name, place in places:
            setattr(descriptor, f"{name}_lo", place & 0xFFFFFFFF)
            setattr(descriptor, f"{name}_hi", place >> 32)
        used = start + 2 + self._table_blocks - base
        inodes = self._volume.superblock.inodes_per_group
        descriptor.free_blocks = blocks - used
        descriptor.free_inodes = inodes
        if self._volume.has_group_checksums:
            descriptor.flags = layout.GROUP_INODE_UNINIT | layout.GROUP_INODE_ZEROED
            descriptor.unused_inodes = inodes
        size = new.block_bytes
        self._store.zero((start + 2) * size, self._table_blocks * size)
        self._write_bitmap(descriptor, "block", _bitmap(size, used, blocks))
        self._write_bitmap(descriptor, "inode", _bitmap(size, 0, inodes))
        return descriptor

    def _write_bitmap(self, descriptor: GroupDescriptor, which: Which, bitmap: bytearray) -> None:
        volume = self._volume
        place = descriptor.block_bitmap if which == "block" else descriptor.inode_bitmap
        self._store.write(place * volume.block_bytes, bytes(bitmap))
        put_bitmap_checksum(volume, descriptor, which, bitmap)

    def _grow_table(self) -> None:
        """Takes blocks for descriptors from the resize inode, and gives it those of new groups."""
        volume, old, new = self._volume, self._old, self._new
        if not volume.superblock.compat & layout.COMPAT_RESIZE_INODE:
            return
        inode = volume.read_inode(layout.RESIZE_INODE)
        tree_block = struct.unpack_from("<I", inode.block, _DOUBLE_INDIRECT * _NUMBER_BYTES)[0]
        tree = bytearray(volume.read_block(tree_block))
        per_block = volume.block_bytes // _NUMBER_BYTES
        first = new.superblock_block + 1
        backups = [group for group in range(1, new.group_count) if new.has_superblock_copy(group)]
        kept = range(new.descriptor_blocks, new.descriptor_blocks + self._reserved)
        for number in range(old.descriptor_blocks, new.descriptor_blocks):
            struct.pack_into("<I", tree, number % per_block * _NUMBER_BYTES, 0)
        for number in kept:
            listed = [new.group_blocks(group)[0] + 1 + number for group in backups]
            content = struct.pack(f"<{len(listed)}I", *listed).ljust(volume.block_bytes, b"\0")
            self._store.write((first + number) * volume.block_bytes, content)
        self._store.write(tree_block * volume.block_bytes, bytes(tree))
        sectors = (1 + len(kept) * (1 + len(backups))) * (volume.block_bytes // 512)
        inode.sectors_lo, inode.sectors_hi = sectors & 0xFFFFFFFF, sectors >> 32
        volume.write_inode(layout.RESIZE_INODE, inode)

    @property
    def _reserved(self) -> int:
        return self._new.superblock.reserved_gdt_blocks

    def _count(self, superblock: Superblock) -> None:
        """The superblock's counters, and the same share of reserved blocks as before."""
        free = sum(group.free_blocks for group in self._groups)
        superblock.free_blocks_lo, superblock.free_blocks_hi = free & 0xFFFFFFFF, 0
        superblock.free_inodes = sum(group.free_inodes for group in self._groups)
        reserved = superblock.reserved_blocks_lo | superblock.reserved_blocks_hi << 32
        reserved = reserved * self._new.block_count // self._old.block_count
        superblock.reserved_blocks_lo, superblock.reserved_blocks_hi = reserved & 0xFFFFFFFF, 0
        if superblock.incompat & layout.INCOMPAT_64BIT:
            superblock.free_blocks_hi, superblock.reserved_blocks_hi = free >> 32, reserved >> 32
        superblock.overhead_clusters = 0  # the kernel counts it again

    def _write_table(self, superblock: Superblock) -> None:
        """The descriptors of all groups, and every copy of their table."""
        new, volume = self._new, self._volume
        raw = bytearray(new.descriptor_blocks * new.block_bytes)
        for group, descriptor in enumerate(self._groups):
            own = bytearray(
                descriptor.build()[: new.descriptor_bytes].ljust(new.descriptor_bytes, b"\0")
            )
            value = checksums.descriptor_checksum(
                superblock, volume.checksum_seed, group, bytes(own)
            )
            at = GroupDescriptor.offset_of("checksum")
            own[at : at + 2] = value.to_bytes(2, "little")
            raw[group * new.descriptor_bytes : (group + 1) * new.descriptor_bytes] = own
        for table_block in range(new.descriptor_blocks):
            part = bytes(raw[table_block * new.block_bytes : (table_block + 1) * new.block_bytes])
            for place in new.table_copies(table_block):
                self._store.write(place * new.block_bytes, part)

    def _write_superblocks(self, superblock: Superblock) -> None:
        for group, offset in self._superblock_places():
            superblock.group_number = group
            raw = bytearray(superblock.build())
            if self._volume.has_checksums:
                value = checksums.superblock_checksum(bytes(raw))
                at = Superblock.offset_of("checksum")
                raw[at : at + 4] = value.to_bytes(4, "little")
            self._store.write(offset, bytes(raw))

    def _superblock_places(self) -> Iterator[tuple[int, int]]:
        """Yields (group, offset) of the superblock's copies; the one that counts comes last."""
        new = self._new
        for group in range(new.group_count - 1, 0, -1):
            if new.has_superblock_copy(group):
                yield group, new.group_blocks(group)[0] * new.block_bytes
        yield 0, layout.SUPERBLOCK_OFFSET


def _bitmap(size_bytes: int, used: int, bits: int) -> bytearray:
    """A bitmap with its first bits set, and those that stand for nothing."""
    bitmap = with_tail_set(bytearray(size_bytes), bits)
    fill_bits(bitmap, 0, used, value=True)
    return bitmap


def _set_blocks(superblock: Superblock, blocks: int) -> None:
    superblock.blocks_count_lo = blocks & 0xFFFFFFFF
    if superblock.incompat & layout.INCOMPAT_64BIT:
        superblock.blocks_count_hi = blocks >> 32
