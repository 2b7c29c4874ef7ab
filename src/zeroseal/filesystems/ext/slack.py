"""Slack: bytes that belong to a structure in use, and that nobody reads any more.

Behind the end of a file's content, in blocks that are allocated but unwritten, behind the names of
a folder, in the unused part of an index, between and behind extended attributes, behind the fields
of an inode. Old content and deleted names stay there through every clean-up that works from above.

Tables are looked at with numpy; what has to be parsed (folders, deep mappings) one by one.
"""

from __future__ import annotations

from collections.abc import Iterator
from enum import Enum

import numpy as np
from numpy.typing import DTypeLike, NDArray

from zeroseal.blocks.patches import Patch, differing_patches, iter_near
from zeroseal.blocks.row_types import row_type
from zeroseal.filesystems.ext import layout
from zeroseal.filesystems.ext.checksums import xattr_block_checksum
from zeroseal.filesystems.ext.index import (
    NODE_ENTRIES_OFFSET,
    ROOT_ENTRIES_OFFSET,
    IndexedBlocks,
    parse_entries,
)
from zeroseal.filesystems.ext.layout import Inode, XattrBlockHeader, XattrEntry
from zeroseal.filesystems.ext.mapping import Mapping, read_mapping
from zeroseal.filesystems.ext.read import is_short_link, owns_blocks
from zeroseal.filesystems.ext.rows import EXTENT, read_inode_table
from zeroseal.filesystems.ext.volume import ExtVolume, parse_inode
from zeroseal.filesystems.ext.without_slack import (
    clean_extent_node,
    clean_index,
    clean_leaf,
    clean_mmp,
    clean_names,
    clean_superblock,
)
from zeroseal.filesystems.ext.xattrs import inode_attributes, read_inline_data, read_xattr_block
from zeroseal.messages import ext as messages

_FIELDS: dict[str, tuple[int, DTypeLike]] = {
    "mode": (0x0, "<u2"),
    "size_lo": (0x4, "<u4"),
    "links": (0x1A, "<u2"),
    "flags": (0x20, "<u4"),
    "entries": (0x2A, "<u2"),
    "depth": (0x2E, "<u2"),
    "extents": (0x34, (EXTENT, (4,))),
    "xattr_lo": (0x68, "<u4"),
    "size_hi": (0x6C, "<u4"),
}
_MAX_FOLDER_BYTES = 4 << 30
_PIECE_BYTES = 1 << 20


class SlackKind(Enum):
    """Where slack lies."""

    FILE = "behind the end of a file"
    UNWRITTEN = "in unwritten blocks of a file"
    FOLDER = "in a folder"
    MAPPING = "in the mapping of a file"
    INODE = "in an inode"
    ATTRIBUTES = "among extended attributes"
    VOLUME = "in the volume's own structures"


def iter_slack(volume: ExtVolume) -> Iterator[Patch]:
    """Yields all slack that holds anything but zeros, in the order of the inodes.

    Raises:
        DamagedError: a structure contradicts itself.
    """
    scan = _Scan(volume)
    yield from scan.scan_volume()
    for group in range(volume.group_count):
        yield from scan.scan_group(group)


class _Scan:
    def __init__(self, volume: ExtVolume) -> None:
        self._volume = volume
        self._has_types = bool(volume.superblock.incompat & layout.INCOMPAT_FILETYPE)
        self._seen_xattr_blocks: set[int] = set()
        self._row = row_type(_FIELDS, volume.inode_bytes)

    def scan_volume(self) -> Iterator[Patch]:
        """What the superblock and the block of multiple-mount protection say of the last mount."""
        volume = self._volume
        content = volume.store.read(layout.SUPERBLOCK_OFFSET, layout.SUPERBLOCK_BYTES)
        clean = clean_superblock(content)
        yield from _changed(SlackKind.VOLUME, layout.SUPERBLOCK_OFFSET, content, clean)
        if volume.superblock.incompat & layout.INCOMPAT_MMP:
            block_no = volume.superblock.mmp_block
            content = volume.read_block(block_no)
            clean = clean_mmp(content, volume.checksum_seed if volume.has_checksums else None)
            place = block_no * volume.block_bytes
            yield from _changed(SlackKind.VOLUME, place, content, clean)

    def scan_group(self, group: int) -> Iterator[Patch]:
        volume = self._volume
        table = read_inode_table(volume, group)
        if not table:
            return
        rows = np.frombuffer(table, dtype=self._row)
        first = group * volume.superblock.inodes_per_group + 1
        numbers = np.arange(first, first + len(rows))
        named = (numbers == layout.ROOT_INODE) | (numbers >= volume.first_inode)
        used = np.flatnonzero((rows["links"] != 0) & (rows["mode"] != 0) & named)
        yield from self._scan_slots(table, rows, used, first)
        plain = self._plain_files(rows[used])
        yield from self._scan_tails(rows[used[plain]], numbers[used[plain]])
        for index in used[~plain].tolist():
            slot = table[index * volume.inode_bytes : (index + 1) * volume.inode_bytes]
            yield from self._scan_node(first + index, parse_inode(slot))

    def _plain_files(self, rows: NDArray[np.void]) -> NDArray[np.bool_]:
        """Files whose few written extents lie in the inode, the last of them at the file's end."""
        is_plain = (
            (rows["mode"] & layout.MODE_TYPE_MASK == layout.MODE_FILE)
            & (rows["flags"] & layout.INODE_EXTENTS != 0)
            & (rows["depth"] == 0)
            & (rows["entries"] <= 4)
            & (rows["flags"] & layout.INODE_VERITY == 0)
        )
        within = np.arange(4) < rows["entries"][:, None]
        written = (rows["extents"]["length"] <= layout.MAX_EXTENT_BLOCKS) | ~within
        last = self._last_extents(rows)
        size = rows["size_hi"].astype(np.int64) << 32 | rows["size_lo"]
        begins = last["logical"].astype(np.int64) * self._volume.block_bytes
        reaches = (rows["entries"] == 0) | (size > begins)
        plain: NDArray[np.bool_] = is_plain & written.all(axis=1) & reaches
        return plain

    @staticmethod
    def _last_extents(rows: NDArray[np.void]) -> NDArray[np.void]:
        index = np.clip(rows["entries"].astype(np.int64) - 1, 0, 3)
        last: NDArray[np.void] = rows["extents"][np.arange(len(rows)), index]
        return last

    def _scan_tails(self, rows: NDArray[np.void], numbers: NDArray[np.int64]) -> Iterator[Patch]:
        """What lies between the end of a plain file and the end of its last block."""
        size = rows["size_hi"].astype(np.int64) << 32 | rows["size_lo"]
        last, block = self._last_extents(rows), self._volume.block_bytes
        begin = last["logical"].astype(np.int64) * block
        length = last["length"].astype(np.int64) * block
        place = (last["high"].astype(np.int64) << 32 | last["low"]) * block
        slack = np.where(rows["entries"] > 0, begin + length - size, 0)
        starts = place + size - begin
        there = np.flatnonzero(slack > 0)
        there = there[np.argsort(starts[there], kind="stable")]
        tails = zip(
            starts[there].tolist(), slack[there].tolist(), numbers[there].tolist(), strict=True
        )
        for group in iter_near(tails):
            first, end = group[0][0], max(start + count for start, count, _number in group)
            window = b""
            if len(group) > 1 and first >= 0 and end <= self._volume.store.size_bytes:
                window = self._volume.store.read(first, end - first)
            for start, count, number in group:
                content = window[start - first : start - first + count]
                if not window or content.count(0) < count:
                    yield from self._range(SlackKind.FILE, number, start, count)

    def _scan_node(self, node: int, inode: Inode) -> Iterator[Patch]:
        """A folder, a link, or a file with a mapping that is not plain."""
        if not owns_blocks(self._volume, inode):
            return
        if inode.is_folder:
            yield from self._scan_folder(node, inode)
            return
        block = self._volume.block_bytes
        mapping = read_mapping(self._volume, node, inode)
        yield from self._scan_tree_blocks(node, inode, mapping)
        for run in mapping.runs:
            start, length = run.physical * block, run.blocks * block
            if not run.written:
                yield from self._range(SlackKind.UNWRITTEN, node, start, length)
                continue
            kept = min(max(inode.size - run.logical * block, 0), length)
            if kept < length and not inode.flags & layout.INODE_VERITY:
                yield from self._range(SlackKind.FILE, node, start + kept, length - kept)

    def _scan_tree_blocks(self, node: int, inode: Inode, mapping: Mapping) -> Iterator[Patch]:
        """Nodes of an extent tree, behind their entries; a list of blocks has no slack."""
        if not inode.flags & layout.INODE_EXTENTS:
            return
        for block_no in mapping.tree_blocks:
            content = self._volume.read_block(block_no)
            clean = clean_extent_node(content, self._own_seed(node, inode))
            place = block_no * self._volume.block_bytes
            yield from _changed(SlackKind.MAPPING, place, content, clean)

    def _own_seed(self, node: int, inode: Inode) -> int | None:
        return self._volume.inode_seed(node, inode) if self._volume.has_checksums else None

    def _range(self, kind: SlackKind, node: int, offset: int, length: int) -> Iterator[Patch]:
        """A range that should be zeros; ranges known to be so are not read."""
        store = self._volume.store
        if offset < 0 or offset + length > store.size_bytes:
            raise self._volume.damaged(messages.INODE_EXTENDS_OUTSIDE_FILE_SYSTEM.format(node=node))
        for extent in store.iter_extents(offset, length):
            if extent.is_zero:
                continue
            end = extent.offset_bytes + extent.length
            for start in range(extent.offset_bytes, end, _PIECE_BYTES):
                content = store.read(start, min(_PIECE_BYTES, end - start))
                stale = len(content) - content.count(0)
                if stale:
                    yield Patch(start, len(content), kind.value, stale_bytes=stale)

    # folders

    def _scan_folder(self, node: int, inode: Inode) -> Iterator[Patch]:
        volume = self._volume
        if inode.size > _MAX_FOLDER_BYTES:
            raise volume.damaged(messages.INODE_NOT_FOLDER.format(folder=node))
        mapping = read_mapping(volume, node, inode)
        yield from self._scan_tree_blocks(node, inode, mapping)
        blocks = {
            run.logical + number: run.physical + number
            for run in mapping.runs
            for number in range(run.blocks)
        }
        index = self._index_blocks(node, inode)
        for logical, physical in blocks.items():
            content = volume.read_block(physical)
            if logical in index:
                clean = clean_index(content, index[logical])
            else:
                clean = clean_leaf(content, self._has_types, self._own_seed(node, inode))
            yield from _changed(SlackKind.FOLDER, physical * volume.block_bytes, content, clean)

    def _index_blocks(self, node: int, inode: Inode) -> dict[int, int]:
        """Logical numbers of the blocks that are index, to where their entries begin."""
        if not inode.flags & layout.INODE_INDEX:
            return {}
        blocks = IndexedBlocks(self._volume, node, inode)
        found = {0: ROOT_ENTRIES_OFFSET}
        level = [0]
        for _ in range(blocks.root.levels):
            level = [
                logical
                for above in level
                for _hash, logical in parse_entries(blocks.read(above), found[above])
            ]
            if len(found) + len(level) > len(set(found) | set(level)):
                raise self._volume.damaged(messages.INDEX_OF_FOLDER_CONTAINS_LOOP.format(node=node))
            found |= dict.fromkeys(level, NODE_ENTRIES_OFFSET)
        return found

    # inodes and extended attributes

    def _scan_slots(
        self, table: bytes, rows: NDArray[np.void], used: NDArray[np.int64], first: int
    ) -> Iterator[Patch]:
        """The slots in which something may lie behind or between the fields, and shared blocks."""
        size = self._volume.inode_bytes
        view = np.frombuffer(table, dtype=np.uint8).reshape(-1, size)
        suspects = rows["xattr_lo"][used] != 0
        kinds = rows["mode"][used] & layout.MODE_TYPE_MASK
        extents = rows["flags"][used] & layout.INODE_EXTENTS != 0
        beyond = (
            np.arange(60)[None, :] >= (12 + 12 * rows["entries"][used].astype(np.int64))[:, None]
        )
        suspects |= extents & (view[used, 0x28 : 0x28 + 60] * beyond).any(axis=1)
        suspects |= kinds == layout.MODE_LINK
        suspects |= rows["flags"][used] & layout.INODE_INLINE_DATA != 0
        if size > layout.INODE_BASE_BYTES:
            suspects |= view[used, layout.INODE_BASE_BYTES + 32 :].any(axis=1)
            suspects |= view[used, layout.INODE_BASE_BYTES] < 32  # i_extra_isize
        for index in used[suspects].tolist():
            slot = table[index * size : (index + 1) * size]
            inode, node = parse_inode(slot), first + index
            clean = self._clean_slot(node, inode, slot)
            yield from _changed(SlackKind.INODE, self._volume.inode_offset(node), slot, clean)
            if inode.xattr_block and inode.xattr_block not in self._seen_xattr_blocks:
                self._seen_xattr_blocks.add(inode.xattr_block)
                yield from self._scan_xattr_block(node, inode.xattr_block)

    def _clean_slot(self, node: int, inode: Inode, slot: bytes) -> bytes:
        clean = bytearray(slot)
        if inode.is_inline:
            self._clean_inline(node, inode, clean)
        elif inode.flags & layout.INODE_EXTENTS:
            entries = int.from_bytes(slot[0x2A:0x2C], "little")
            clean[0x28 + 12 + 12 * entries : 0x28 + 60] = bytes(max(0, 48 - 12 * entries))
        elif inode.type == layout.MODE_LINK and is_short_link(self._volume, inode):
            clean[0x28 + inode.size : 0x28 + 60] = bytes(60 - inode.size)
        start = layout.INODE_BASE_BYTES + inode.extra_isize
        if len(slot) > layout.INODE_BASE_BYTES and start < len(slot):
            if slot[start : start + 4] == layout.XATTR_MAGIC.to_bytes(4, "little"):
                area = slot[start + 4 :]
                first, last = self._unused_of(node, area, 0)
                clean[start + 4 + first : start + 4 + last] = bytes(last - first)
            else:
                clean[start:] = bytes(len(slot) - start)
        if bytes(clean) == slot:
            return slot
        return self._volume.with_inode_checksum(node, inode, clean)

    def _clean_inline(self, node: int, inode: Inode, slot: bytearray) -> None:
        """Content in the inode, behind its end; names in the inode, behind themselves."""
        head, rest = read_inline_data(self._volume, node, inode)
        if inode.is_folder:
            skip = layout.INLINE_PARENT_BYTES
            clean_head = head[:skip] + clean_names(head[skip:], self._has_types)
            clean_rest = clean_names(rest, self._has_types)
        else:
            content = (head + rest)[: inode.size].ljust(len(head) + len(rest), b"\0")
            clean_head, clean_rest = content[: len(head)], content[len(head) :]
        slot[0x28 : 0x28 + 60] = clean_head
        if clean_rest != rest:
            found = inode_attributes(self._volume, node, inode)
            offset = next(item.value_offset for item in found if item.is_inline_data)
            start = layout.INODE_BASE_BYTES + inode.extra_isize + 4 + offset
            slot[start : start + len(rest)] = clean_rest

    def _scan_xattr_block(self, node: int, block_no: int) -> Iterator[Patch]:
        volume = self._volume
        content = read_xattr_block(volume, block_no)
        first, last = self._unused_of(node, content, XattrBlockHeader.SIZE)
        clean = bytearray(content)
        clean[first:last] = bytes(last - first)
        if volume.has_checksums and clean != content:
            value = xattr_block_checksum(volume.checksum_seed, block_no, bytes(clean))
            offset = XattrBlockHeader.offset_of("checksum")
            clean[offset : offset + 4] = value.to_bytes(4, "little")
        yield from _changed(
            SlackKind.ATTRIBUTES, block_no * volume.block_bytes, content, bytes(clean)
        )

    def _unused_of(self, node: int, area: bytes, start: int) -> tuple[int, int]:
        """(start, end) of what lies between the last entry's end mark and the first value."""
        position, lowest = start, len(area)
        while area[position : position + 4] not in (bytes(4), b""):
            fixed = area[position : position + XattrEntry.SIZE]
            if len(fixed) < XattrEntry.SIZE:
                raise self._volume.damaged(messages.XATTR_TRUNCATED.format(node=node))
            entry = XattrEntry.parse(fixed)
            if entry.value_bytes and not entry.value_inode:
                lowest = min(lowest, entry.value_offset)
            position += XattrEntry.SIZE + (entry.name_bytes + 3) // 4 * 4
        end = min(position + 4, len(area))
        if lowest < end:
            raise self._volume.damaged(
                messages.EXTENDED_ATTRIBUTES_OF_INODE_OVERLAP.format(node=node)
            )
        return end, lowest


def _changed(kind: SlackKind, offset: int, content: bytes, clean: bytes) -> Iterator[Patch]:
    return differing_patches(offset, content, clean, kind.value)
