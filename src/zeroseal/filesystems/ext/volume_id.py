"""Giving a volume another UUID.

With *metadata_csum* the checksum of every inode, bitmap, folder block and extent node begins with
the UUID, unless the feature *metadata_csum_seed* keeps the old beginning. Such a checksum is
linear: another beginning changes it by a number that depends on how much is covered, and not on
what. So nothing is summed again, and what was damaged stays so.

Source: Linux 6.1 ``Documentation/filesystems/ext4/checksums.rst``.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

import numpy as np

from zeroseal.blocks.checksums import crc32c
from zeroseal.blocks.store import Store
from zeroseal.errors import RefusedError
from zeroseal.filesystems.ext import checksums, layout
from zeroseal.filesystems.ext.allocate import Which, covered_bits
from zeroseal.filesystems.ext.folders import has_tail
from zeroseal.filesystems.ext.index import (
    NODE_ENTRIES_OFFSET,
    ROOT_ENTRIES_OFFSET,
    parse_entries,
    parse_root,
)
from zeroseal.filesystems.ext.journal_layout import JournalSuperblock
from zeroseal.filesystems.ext.layout import GroupDescriptor, Inode, MmpBlock, Superblock
from zeroseal.filesystems.ext.mapping import read_mapping
from zeroseal.filesystems.ext.rows import read_inode_table
from zeroseal.filesystems.ext.volume import ExtVolume, parse_inode
from zeroseal.messages import ext as messages

_LOW, _HIGH = Inode.offset_of("checksum_lo"), Inode.offset_of("checksum_hi")
_LINKS, _MODE = Inode.offset_of("link_count"), Inode.offset_of("mode")


def set_volume_id(store: Store, where: str, new: bytes) -> None:
    """Gives a volume another UUID, in the superblock, its copies and its journal.

    Args:
        store: the volume; it must be clean.
        where: its name, for messages.
        new: 16 bytes.

    Raises:
        ImageError: it cannot be read.
        RefusedError: something on it depends on the UUID in a way that is not changed here.
    """
    volume = ExtVolume(store, where)
    superblock = volume.superblock
    keeps_seed = bool(superblock.incompat & layout.INCOMPAT_CSUM_SEED)
    if superblock.compat & layout.COMPAT_STABLE_INODES:
        raise RefusedError(messages.ID_CANNOT_CHANGE.format(where=where, feature="stable_inodes"))
    renews_sums = volume.has_checksums and not keeps_seed
    if renews_sums and superblock.incompat & layout.INCOMPAT_EA_INODE:
        raise RefusedError(messages.ID_CANNOT_CHANGE.format(where=where, feature="ea_inode"))
    old = superblock.uuid
    if superblock.compat & layout.COMPAT_HAS_JOURNAL:
        _change_journal(volume, old, new)
    if renews_sums:
        change = _SumChange(volume.checksum_seed, crc32c(checksums.START, new))
        _change_owned_blocks(volume, change)
        _change_inodes(volume, change)
        _change_mmp(volume, change)
    if renews_sums or (volume.has_group_checksums and not volume.has_checksums):
        _change_descriptors(volume, new)
    _change_superblocks(volume, new)


class _SumChange:
    """By what number checksums of a length change."""

    def __init__(self, old_seed: int, new_seed: int) -> None:
        self._seeds = old_seed, new_seed

    def of_volume(self, covered: int) -> int:
        """Of what begins with the volume's seed."""
        zeros = bytes(covered)
        return crc32c(self._seeds[0], zeros) ^ crc32c(self._seeds[1], zeros)

    def of_inode(self, covered: int) -> int:
        """Of what begins with an inode's seed: its number and generation come first."""
        return self.of_volume(8 + covered)


def _change_superblocks(volume: ExtVolume, new: bytes) -> None:
    start = Superblock.offset_of("uuid")
    for group in range(volume.group_count):
        if not volume.has_superblock_copy(group):
            continue
        offset = volume.group_blocks(group)[0] * volume.block_bytes
        offset = layout.SUPERBLOCK_OFFSET if group == 0 else offset
        raw = bytearray(volume.store.read(offset, layout.SUPERBLOCK_BYTES))
        if Superblock.parse(bytes(raw)).magic != layout.MAGIC:
            continue  # a copy that was lost
        raw[start : start + 16] = new
        if volume.has_checksums:
            end = Superblock.offset_of("checksum")
            raw[end : end + 4] = checksums.superblock_checksum(bytes(raw)).to_bytes(4, "little")
        volume.store.write(offset, bytes(raw))


def _change_journal(volume: ExtVolume, old: bytes, new: bytes) -> None:
    """The journal's own superblock bears the volume's UUID; its body holds nothing to be read."""
    number = volume.superblock.journal_inode
    first = read_mapping(volume, number, volume.read_inode(number)).runs[0].physical
    raw = bytearray(volume.read_block(first))
    journal = JournalSuperblock.parse(bytes(raw[: JournalSuperblock.SIZE]))
    if journal.uuid != old:
        return
    start, end = JournalSuperblock.offset_of("uuid"), JournalSuperblock.offset_of("checksum")
    raw[start : start + 16] = new
    if journal.has_block_checksums:
        raw[end : end + 4] = bytes(4)
        value = crc32c(checksums.START, raw[: JournalSuperblock.SIZE])
        raw[end : end + 4] = value.to_bytes(4, "big")
    volume.write_block(first, bytes(raw))


def _change_descriptors(volume: ExtVolume, new: bytes) -> None:
    """Every copy of the table of group descriptors."""
    superblock = Superblock.parse(volume.superblock.build())
    superblock.uuid = new
    seed = crc32c(checksums.START, new)
    change = _SumChange(volume.checksum_seed, seed)
    per_block = volume.block_bytes // volume.descriptor_bytes
    for table_block in range(volume.descriptor_blocks):
        for block_no in volume.table_copies(table_block):
            raw = bytearray(volume.read_block(block_no))
            first = table_block * per_block
            for group in range(first, min(first + per_block, volume.group_count)):
                at = (group - first) * volume.descriptor_bytes
                own = bytearray(raw[at : at + volume.descriptor_bytes])
                if volume.has_checksums:
                    _change_bitmap_sums(volume, own, change)
                value = checksums.descriptor_checksum(superblock, seed, group, bytes(own))
                end = GroupDescriptor.offset_of("checksum")
                own[end : end + 2] = value.to_bytes(2, "little")
                raw[at : at + volume.descriptor_bytes] = own
            volume.write_block(block_no, bytes(raw))


def _change_bitmap_sums(volume: ExtVolume, raw: bytearray, change: _SumChange) -> None:
    which: Which
    for which in ("block", "inode"):
        value = change.of_volume(covered_bits(volume, which) // 8)
        _xor(raw, GroupDescriptor.offset_of(f"{which}_bitmap_checksum_lo"), value & 0xFFFF, 2)
        if volume.descriptor_bytes >= 64:
            _xor(raw, GroupDescriptor.offset_of(f"{which}_bitmap_checksum_hi"), value >> 16, 2)


def _change_inodes(volume: ExtVolume, change: _SumChange) -> None:
    """Every inode that was ever used, whole tables at a time."""
    value = change.of_inode(volume.inode_bytes)
    for group in range(volume.group_count):
        raw = read_inode_table(volume, group)
        if not raw:
            continue
        rows = np.frombuffer(raw, dtype=np.uint8).reshape(-1, volume.inode_bytes).copy()
        used: np.ndarray = rows.any(axis=1)  # type: ignore[assignment]
        low = np.frombuffer((value & 0xFFFF).to_bytes(2, "little"), dtype=np.uint8)
        rows[used, _LOW : _LOW + 2] ^= low
        if volume.inode_bytes > layout.INODE_BASE_BYTES:
            extra = rows[:, 128].astype(np.uint16) | rows[:, 129].astype(np.uint16) << 8
            high = np.frombuffer((value >> 16).to_bytes(2, "little"), dtype=np.uint8)
            rows[used & (extra >= 4), _HIGH : _HIGH + 2] ^= high
        start = volume.get_group(group).inode_table * volume.block_bytes
        _write_used(volume.store, start, rows, used)


def _write_used(store: Store, start: int, rows: np.ndarray, used: np.ndarray) -> None:
    """Writes the stretches of rows that are used; empty ones stay holes."""
    edges = np.flatnonzero(np.diff(np.concatenate(([False], used, [False])).astype(np.int8)))
    for first, end in edges.reshape(-1, 2).tolist():
        store.write(start + first * rows.shape[1], rows[first:end].tobytes())


def _change_owned_blocks(volume: ExtVolume, change: _SumChange) -> None:
    """Extent nodes, folders, blocks of attributes, and the orphan file."""
    attribute_blocks: set[int] = set()
    for number, inode in _iter_inodes(volume):
        mapped = _has_extent_nodes(inode) or (inode.is_folder and not inode.is_inline)
        if mapped or number == volume.superblock.orphan_file_inode:
            mapping = read_mapping(volume, number, inode)
            blocks = [run.physical + step for run in mapping.runs for step in range(run.blocks)]
            if inode.is_folder:
                _change_folder(volume, inode, blocks, change)
            elif number == volume.superblock.orphan_file_inode:
                covered = 8 + volume.block_bytes - layout.ORPHAN_TAIL_BYTES
                for block_no in blocks:
                    _change_tail(volume, block_no, change.of_inode(covered))
            for block_no in mapping.tree_blocks if inode.flags & layout.INODE_EXTENTS else ():
                raw = volume.read_block(block_no)
                at = layout.EXTENT_BYTES * (1 + int.from_bytes(raw[4:6], "little"))
                _change_at(volume, block_no, at, change.of_inode(at))
        block_no = inode.xattr_block
        if block_no and block_no not in attribute_blocks:
            attribute_blocks.add(block_no)
            at = layout.XattrBlockHeader.offset_of("checksum")
            _change_at(volume, block_no, at, change.of_volume(8 + volume.block_bytes))


def _iter_inodes(volume: ExtVolume) -> Iterator[tuple[int, Inode]]:
    """Yields the inodes in use that own blocks with checksums, by number."""
    orphan_file = volume.superblock.orphan_file_inode
    for group in range(volume.group_count):
        raw = read_inode_table(volume, group)
        first = group * volume.superblock.inodes_per_group + 1
        for index in range(len(raw) // volume.inode_bytes):
            start = index * volume.inode_bytes
            links, mode = (struct.unpack_from("<H", raw, start + at)[0] for at in (_LINKS, _MODE))
            if not links or not mode:
                continue
            inode = parse_inode(raw[start : start + volume.inode_bytes])
            is_orphan_file = first + index == orphan_file
            if is_orphan_file or inode.is_folder or inode.xattr_block or _has_extent_nodes(inode):
                yield first + index, inode


def _has_extent_nodes(inode: Inode) -> bool:
    """Whether an inode's extents fill blocks of their own."""
    return bool(inode.flags & layout.INODE_EXTENTS) and any(inode.block[6:8])


def _change_folder(volume: ExtVolume, inode: Inode, blocks: list[int], change: _SumChange) -> None:
    leaf = change.of_inode(volume.block_bytes - layout.TAIL_BYTES)
    nodes = _index_nodes(volume, blocks) if inode.flags & layout.INODE_INDEX else {}
    for logical, block_no in enumerate(blocks):
        offset = nodes.get(logical)
        if offset is None:
            if has_tail(volume.read_block(block_no)):
                _change_tail(volume, block_no, leaf)
            continue
        limit, count = struct.unpack_from("<HH", volume.read_block(block_no), offset)
        value = change.of_inode(offset + count * 8 + 8)
        _change_at(volume, block_no, offset + limit * 8 + 4, value)


def _index_nodes(volume: ExtVolume, blocks: list[int]) -> dict[int, int]:
    """The blocks of a folder's index, each with where its entries begin."""
    root = parse_root(volume.read_block(blocks[0]))
    nodes, level = {0: ROOT_ENTRIES_OFFSET}, [0]
    for _step in range(root.levels):
        below = [
            child
            for logical in level
            for _hash, child in parse_entries(volume.read_block(blocks[logical]), nodes[logical])
        ]
        if any(child >= len(blocks) or child in nodes for child in below):
            raise volume.damaged(messages.INDEX_LEAVES_FOLDER_OR_LOOPS)
        nodes |= dict.fromkeys(below, NODE_ENTRIES_OFFSET)
        level = below
    return nodes


def _change_mmp(volume: ExtVolume, change: _SumChange) -> None:
    if volume.superblock.incompat & layout.INCOMPAT_MMP:
        at = MmpBlock.offset_of("checksum")
        _change_at(volume, volume.superblock.mmp_block, at, change.of_volume(at))


def _change_tail(volume: ExtVolume, block_no: int, value: int) -> None:
    _change_at(volume, block_no, volume.block_bytes - 4, value)


def _change_at(volume: ExtVolume, block_no: int, at: int, value: int) -> None:
    """Changes the checksum at a byte of a block."""
    raw = bytearray(volume.read_block(block_no))
    _xor(raw, at, value, 4)
    volume.write_block(block_no, bytes(raw))


def _xor(raw: bytearray, at: int, value: int, size: int) -> None:
    mixed = int.from_bytes(raw[at : at + size], "little") ^ value
    raw[at : at + size] = mixed.to_bytes(size, "little")
