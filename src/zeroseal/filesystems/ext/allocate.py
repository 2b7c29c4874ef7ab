"""Which blocks and inodes are free: the bitmaps of an ext volume, in memory until ``flush``."""

from __future__ import annotations

from typing import Literal

from zeroseal.blocks.bitmaps import bit_is_set, bits_are, fill_bits, find_runs
from zeroseal.blocks.checksums import crc32c
from zeroseal.errors import NoSpaceError
from zeroseal.filesystems.ext import checksums
from zeroseal.filesystems.ext.layout import (
    GROUP_BLOCK_UNINIT,
    GROUP_INODE_UNINIT,
    SUPERBLOCK_OFFSET,
    GroupDescriptor,
    Superblock,
)
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.messages import ext as messages

Which = Literal["block", "inode"]


class Allocator:
    """Takes and gives back blocks and inodes, with all their counters."""

    def __init__(self, volume: ExtVolume) -> None:
        self._volume = volume
        self._bitmaps: dict[tuple[Which, int], bytearray] = {}
        self._changed: set[tuple[Which, int]] = set()

    @property
    def has_changes(self) -> bool:
        """Whether anything was taken or given back since the last ``flush``."""
        return bool(self._changed)

    def get_bitmap(self, which: Which, group: int) -> bytearray:
        """A group's bitmap, checked; one never written to the disk is worked out.

        Raises:
            DamagedError: it fails its checksum.
        """
        bitmap = self._bitmaps.get((which, group))
        if bitmap is None:
            bitmap = self._load(which, group)
            self._bitmaps[which, group] = bitmap
        return bitmap

    def allocate_blocks(self, count: int, near_block: int) -> list[tuple[int, int]]:
        """Takes blocks, in few (first, count) runs, beginning in ``near_block``'s group.

        With bigalloc whole clusters are taken: each run begins with one, and the rest of the last
        cluster is the caller's too.

        Raises:
            NoSpaceError: so many are not free; nothing was taken.
        """
        taken: list[tuple[int, int]] = []
        volume = self._volume
        ratio = volume.cluster_blocks
        missing = -(-count // ratio)
        start_group = volume.group_of_block(near_block)
        for step in range(volume.group_count):
            if not missing:
                break
            group = (start_group + step) % volume.group_count
            if volume.get_group(group).free_blocks:
                runs = self._find_free_runs(group, missing)
                taken += runs
                missing -= sum(length for _first, length in runs)
        if missing:
            raise NoSpaceError(messages.NO_FREE_BLOCKS.format(where=volume.where, missing=missing))
        for first, length in taken:
            self._mark_clusters(first, length, used=True)
        runs = [(first, length * ratio) for first, length in taken]
        if runs:
            first, length = runs[-1]
            runs[-1] = first, length - (-count % ratio)
        return runs

    def free_clusters(self, first_block: int, count: int) -> None:
        """Gives ``count`` clusters back; without bigalloc those are blocks.

        Raises:
            DamagedError: one of them is free already.
        """
        self._mark_clusters(first_block, count, used=False)

    def allocate_inode(self, near_group: int, is_folder: bool) -> int:
        """Takes an inode; its slot is zeroed.

        Raises:
            NoSpaceError: none is free.
        """
        volume = self._volume
        per_group = volume.superblock.inodes_per_group
        for step in range(volume.group_count):
            group = (near_group + step) % volume.group_count
            if not volume.get_group(group).free_inodes:
                continue
            reserved = volume.first_inode - 1 if group == 0 else 0
            bitmap = self.get_bitmap("inode", group)
            for first, length in find_runs(bitmap, per_group, value=False):
                index = max(first, reserved)
                if index < first + length:
                    self._take_inode(group, index, is_folder)
                    return group * per_group + index + 1
        raise NoSpaceError(messages.NO_FREE_INODES.format(where=volume.where))

    def free_inode(self, inode_no: int, is_folder: bool, zero_slot: bool = True) -> None:
        """Gives an inode back, and zeroes its slot."""
        volume = self._volume
        group, index = divmod(inode_no - 1, volume.superblock.inodes_per_group)
        bitmap = self.get_bitmap("inode", group)
        if not bit_is_set(bitmap, index):
            raise volume.damaged(messages.INODE_IN_USE_BUT_MARKED_FREE.format(inode_no=inode_no))
        fill_bits(bitmap, index, 1, value=False)
        if zero_slot:
            volume.store.zero(volume.inode_offset(inode_no), volume.inode_bytes)
        descriptor = volume.get_group(group)
        descriptor.free_inodes += 1
        descriptor.folders -= int(is_folder)
        volume.superblock.free_inodes += 1
        self._changed.add(("inode", group))

    def flush(self) -> None:
        """Writes changed bitmaps, their groups' descriptors and the superblock."""
        for which, group in sorted(self._changed):
            self._write_bitmap(which, group)
        for group in sorted({group for _which, group in self._changed}):
            self._write_descriptor(group)
        self._changed.clear()
        self._write_superblock()

    def _find_free_runs(self, group: int, wanted: int) -> list[tuple[int, int]]:
        """Up to ``wanted`` free clusters of a group: one run if it has one so long.

        Pairs of (first block, number of clusters).
        """
        base, ratio = self._volume.group_blocks(group)[0], self._volume.cluster_blocks
        size = self._volume.group_clusters(group)
        runs = find_runs(self.get_bitmap("block", group), size, value=False)
        for first, length in runs:
            if length >= wanted:
                return [(base + first * ratio, wanted)]
        chosen = []
        for first, length in runs:
            if not wanted:
                break
            chosen.append((base + first * ratio, min(length, wanted)))
            wanted -= min(length, wanted)
        return chosen

    def _mark_clusters(self, first: int, count: int, used: bool) -> None:
        volume = self._volume
        ratio = volume.cluster_blocks
        while count:
            group = volume.group_of_block(first)
            index = (first - volume.group_blocks(group)[0]) // ratio
            length = min(count, volume.group_clusters(group) - index)
            bitmap = self.get_bitmap("block", group)
            if not bits_are(bitmap, index, length, value=not used):
                raise volume.damaged(messages.BLOCK_BITMAP_OF_GROUP_WRONG.format(group=group))
            fill_bits(bitmap, index, length, used)
            change = -length if used else length
            descriptor = volume.get_group(group)
            descriptor.free_blocks += change
            descriptor.flags &= ~GROUP_BLOCK_UNINIT
            _add_free_blocks(volume.superblock, change * ratio)
            self._changed.add(("block", group))
            first += length * ratio
            count -= length

    def _take_inode(self, group: int, index: int, is_folder: bool) -> None:
        volume = self._volume
        fill_bits(self.get_bitmap("inode", group), index, 1, value=True)
        descriptor = volume.get_group(group)
        per_group = volume.superblock.inodes_per_group
        first_unused = per_group - descriptor.unused_inodes
        if volume.has_group_checksums and index >= first_unused:
            # slots behind the mark were never written and may hold anything
            start = volume.inode_offset(group * per_group + first_unused + 1)
            volume.store.zero(start, (index + 1 - first_unused) * volume.inode_bytes)
            descriptor.unused_inodes = per_group - index - 1
        descriptor.flags &= ~GROUP_INODE_UNINIT
        descriptor.free_inodes -= 1
        descriptor.folders += int(is_folder)
        volume.superblock.free_inodes -= 1
        volume.store.zero(volume.inode_offset(group * per_group + index + 1), volume.inode_bytes)
        self._changed.add(("inode", group))

    def _load(self, which: Which, group: int) -> bytearray:
        volume = self._volume
        descriptor = volume.get_group(group)
        if volume.has_group_checksums:
            if which == "block" and descriptor.flags & GROUP_BLOCK_UNINIT:
                return uninitialised_block_bitmap(volume, group)
            if which == "inode" and descriptor.flags & GROUP_INODE_UNINIT:
                return with_tail_set(bytearray(volume.block_bytes), covered_bits(volume, which))
        place = descriptor.block_bitmap if which == "block" else descriptor.inode_bitmap
        bitmap = bytearray(volume.read_block(place))
        if volume.has_checksums:
            value = _bitmap_checksum(volume, which, bitmap)
            low, high = _stored_checksum(volume, which, group)
            if low != value & 0xFFFF or (high is not None and high != value >> 16):
                raise volume.damaged(
                    messages.BITMAP_OF_GROUP_FAILS_CHECKSUM.format(which=which, group=group)
                )
        return bitmap

    def _write_bitmap(self, which: Which, group: int) -> None:
        volume = self._volume
        descriptor = volume.get_group(group)
        bitmap = self._bitmaps[which, group]
        place = descriptor.block_bitmap if which == "block" else descriptor.inode_bitmap
        volume.write_block(place, bytes(bitmap))
        put_bitmap_checksum(volume, descriptor, which, bitmap)

    def _write_descriptor(self, group: int) -> None:
        volume = self._volume
        offset = volume.descriptor_offset(group)
        raw = bytearray(volume.store.read(offset, volume.descriptor_bytes))
        size = min(64, volume.descriptor_bytes)
        descriptor = volume.get_group(group)
        raw[:size] = descriptor.build()[:size]
        descriptor.checksum = checksums.descriptor_checksum(
            volume.superblock, volume.checksum_seed, group, bytes(raw)
        )
        raw[:size] = descriptor.build()[:size]
        volume.store.write(offset, bytes(raw))

    def _write_superblock(self) -> None:
        volume = self._volume
        if volume.has_checksums:
            raw = volume.superblock.build()
            volume.superblock.checksum = checksums.superblock_checksum(raw)
        volume.store.write(SUPERBLOCK_OFFSET, volume.superblock.build())


def is_unwritten(volume: ExtVolume, group: int) -> bool:
    """Whether a group's block bitmap was never written, because no file has a block in it."""
    return volume.has_group_checksums and bool(volume.get_group(group).flags & GROUP_BLOCK_UNINIT)


def uninitialised_block_bitmap(volume: ExtVolume, group: int) -> bytearray:
    """The bitmap of a group whose own was never written: only the volume's structures are in it."""
    base = volume.group_blocks(group)[0]
    ratio = volume.cluster_blocks
    bitmap = bytearray(volume.block_bytes)
    for first, end in structures_in(volume, group):
        first_bit, end_bit = (first - base) // ratio, -(-(end - base) // ratio)
        fill_bits(bitmap, first_bit, end_bit - first_bit, value=True)
    return with_tail_set(bitmap, volume.group_clusters(group))


def structures_in(volume: ExtVolume, group: int) -> list[tuple[int, int]]:
    """(first block, end block) of the volume's structures that lie in a group, sorted.

    Tables of a whole flexible group lie together, most often in its first one.
    """
    base, size = volume.group_blocks(group)
    end = base + size
    return sorted(
        (max(start, base), min(start + length, end))
        for start, length in [*volume.group_heads(group), *volume.flex_tables(group)]
        if start < end and start + length > base
    )


def with_tail_set(bitmap: bytearray, bit_count: int) -> bytearray:
    """Marks the bits behind the last real one as used, as the format wants it."""
    fill_bits(bitmap, bit_count, len(bitmap) * 8 - bit_count, value=True)
    return bitmap


def covered_bits(volume: ExtVolume, which: Which) -> int:
    """How many bits of a group's bitmap its checksum covers."""
    superblock = volume.superblock
    if which == "inode":
        return superblock.inodes_per_group
    return superblock.blocks_per_group // volume.cluster_blocks


def put_bitmap_checksum(
    volume: ExtVolume, descriptor: GroupDescriptor, which: Which, bitmap: bytes | bytearray
) -> None:
    """Notes the checksum of a bitmap in its group's descriptor, where the volume has any."""
    if not volume.has_checksums:
        return
    value = _bitmap_checksum(volume, which, bitmap)
    setattr(descriptor, f"{which}_bitmap_checksum_lo", value & 0xFFFF)
    if volume.descriptor_bytes >= 64:
        setattr(descriptor, f"{which}_bitmap_checksum_hi", value >> 16)


def _bitmap_checksum(volume: ExtVolume, which: Which, bitmap: bytes | bytearray) -> int:
    return crc32c(volume.checksum_seed, bitmap[: covered_bits(volume, which) // 8])


def _stored_checksum(volume: ExtVolume, which: Which, group: int) -> tuple[int, int | None]:
    descriptor = volume.get_group(group)
    low: int = getattr(descriptor, f"{which}_bitmap_checksum_lo")
    high: int = getattr(descriptor, f"{which}_bitmap_checksum_hi")
    return low, high if volume.descriptor_bytes >= 64 else None


def _add_free_blocks(superblock: Superblock, change: int) -> None:
    total = (superblock.free_blocks_hi << 32 | superblock.free_blocks_lo) + change
    superblock.free_blocks_hi, superblock.free_blocks_lo = total >> 32, total & 0xFFFFFFFF
