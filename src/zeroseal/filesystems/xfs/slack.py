"""Slack: bytes that belong to a structure in use, and that nobody reads any more.

Behind the end of a file's content and in blocks set aside for it; behind the forks of an inode;
behind and between the names of a folder; among attributes; behind the records of a tree; behind the
headers of a group. Each is found by making the structure anew from what counts in it.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator

import numpy as np

from zeroseal.blocks.patches import ByteRange, Patch, differing_patches, has_content, iter_near
from zeroseal.filesystems.xfs import attributes, folders, layout, trees
from zeroseal.filesystems.xfs.forks import (
    EXTENT_BYTES,
    Mapping,
    attr_fork,
    data_fork,
    extent_counts,
    map_capacity,
    map_header_bytes,
    read_mapping,
    root_capacity,
)
from zeroseal.filesystems.xfs.layout import Agf, Agi, RemoteHeader, Superblock
from zeroseal.filesystems.xfs.rows import MOST_RUNS, Bools, InodeRows, has_rows
from zeroseal.filesystems.xfs.slots import iter_batches, slots_of
from zeroseal.filesystems.xfs.trees import Row, TreeKind
from zeroseal.filesystems.xfs.volume import Slot, XfsVolume, with_checksum
from zeroseal.messages import xfs as messages

_WHAT = "slack"


def iter_slack(volume: XfsVolume) -> Iterator[Patch]:
    """Yields all slack that holds anything.

    Raises:
        DamagedError: a structure contradicts itself.
    """
    for group in range(volume.superblock.group_count):
        yield from _headers(volume, group)
        yield from _group_trees(volume, group)
    shared, ends, own = _SharedBlocks(volume), list[ByteRange](), _own_files(volume)
    for batch in iter_batches(volume):
        left = ~batch.is_free
        if has_rows(volume):
            rows = InodeRows(volume, batch)
            left &= ~_plain_files(rows, left & ~np.isin(rows.numbers, own), shared, ends)
        for number, _is_free, raw in slots_of(volume, batch, left):
            yield from _inode(volume, volume.parse_slot(number, raw), shared, ends)
    yield from _ends(volume, ends)


def _plain_files(
    rows: InodeRows, chosen: Bools, shared: _SharedBlocks, ends: list[ByteRange]
) -> Bools:
    """Which of the chosen inodes are files with nothing stale in their forks, and sound.

    What lies behind their contents in their last blocks is added to ``ends``; a block that several
    files share is left to the code that looks at all of them.
    """
    block_bytes = rows.block_bytes
    plain = chosen & rows.is_mapped_file & rows.has_clean_forks & ~rows.has_unwritten
    plain &= rows.is_itself
    last = np.clip(rows.run_count - 1, 0, MOST_RUNS - 1)
    at = np.arange(len(last)), last
    begin = rows.logical[at] * block_bytes
    end = begin + rows.blocks[at] * block_bytes
    is_empty = rows.run_count == 0
    plain &= is_empty | ((begin < rows.size) & (end - rows.size < block_bytes))
    behind = np.flatnonzero(plain & ~is_empty & (end > rows.size))
    starts = rows.offsets[at] + rows.size - begin
    for index, start, length in zip(
        behind.tolist(), starts[behind].tolist(), (end - rows.size)[behind].tolist(), strict=True
    ):
        if shared.has_range((start, length)):
            plain[index] = False
        else:
            ends.append((start, length))
    return plain


class _SharedBlocks:
    """Which blocks several files share; what is behind the end of one may be content of another."""

    def __init__(self, volume: XfsVolume) -> None:
        self._volume = volume
        self._rows: dict[int, list[Row]] = {}

    def has_range(self, inside: ByteRange) -> bool:
        """Whether the block that a small range lies in is shared."""
        block = inside[0] // self._volume.block_bytes
        return bool(inside[1]) and self._has_at(
            *divmod(block, self._volume.superblock.group_blocks)
        )

    def has(self, fsblock: int) -> bool:
        return self._has_at(*self._volume.group_of(fsblock))

    def _has_at(self, group: int, agblock: int) -> bool:
        volume = self._volume
        if not volume.has_feature(layout.RO_REFLINK):
            return False
        if group not in self._rows:
            agf = volume.read_agf(group)
            self._rows[group] = trees.read_tree(
                volume, group, trees.REFCOUNT, agf.refcount_root, agf.refcount_levels
            )[0]
        rows = self._rows[group]
        at = bisect_right(rows, agblock, key=lambda row: row[0]) - 1
        return at >= 0 and rows[at][0] <= agblock < rows[at][0] + rows[at][1]


# -- groups


def _headers(volume: XfsVolume, group: int) -> Iterator[Patch]:
    sector = volume.superblock.sector_bytes
    start = volume.header_offset(group, 0)
    raw = volume.store.read(start, sector)
    clean = raw[: Superblock.SIZE].ljust(sector, b"\0")
    yield from _differing(start, raw, _sealed(volume, clean, layout.SUPERBLOCK_CRC))
    for number, size, crc_at in ((1, Agf.SIZE, layout.AGF_CRC), (2, Agi.SIZE, layout.AGI_CRC)):
        raw = volume.read_header(group, number, crc_at)
        clean = raw[:size].ljust(sector, b"\0")
        yield from _differing(
            volume.header_offset(group, number), raw, _sealed(volume, clean, crc_at)
        )
    agf = volume.read_agf(group)
    raw = volume.read_header(group, 3, layout.AGFL_CRC)
    head = layout.AGFL_HEADER_BYTES if volume.has_crc else 0
    slots = [raw[place : place + 4] for place in range(head, head + volume.list_size * 4, 4)]
    used = {(agf.list_first + n) % volume.list_size for n in range(agf.list_count)}
    body = b"".join(slot if n in used else b"\xff" * 4 for n, slot in enumerate(slots))
    clean = (raw[:head] + body).ljust(sector, b"\0")
    yield from _differing(
        volume.header_offset(group, 3), raw, _sealed(volume, clean, layout.AGFL_CRC)
    )
    behind = 4 * sector % volume.block_bytes
    if behind:
        start = volume.header_offset(group, 3) + sector
        raw = volume.store.read(start, volume.block_bytes - behind)
        yield from _differing(start, raw, bytes(len(raw)))


def _group_trees(volume: XfsVolume, group: int) -> Iterator[Patch]:
    agf, agi = volume.read_agf(group), volume.read_agi(group)
    found = [
        (trees.BNO, agf.bno_root, agf.bno_levels),
        (trees.CNT, agf.cnt_root, agf.cnt_levels),
        (trees.INOBT, agi.root, agi.levels),
    ]
    if volume.has_feature(layout.RO_FINOBT):
        found.append((trees.FINOBT, agi.free_root, agi.free_levels))
    if volume.has_feature(layout.RO_RMAPBT):
        found.append((trees.RMAP, agf.rmap_root, agf.rmap_levels))
    if volume.has_feature(layout.RO_REFLINK):
        found.append((trees.REFCOUNT, agf.refcount_root, agf.refcount_levels))
    for kind, root, levels in found:
        _rows, blocks = trees.read_tree(volume, group, kind, root, levels)
        for agblock in blocks:
            raw = volume.read_block(volume.fsblock(group, agblock))
            clean = _tree_block(volume, kind, raw)
            yield from _differing(volume.group_offset(group, agblock), raw, clean)


def _tree_block(volume: XfsVolume, kind: TreeKind, raw: bytes) -> bytes:
    level, count = int.from_bytes(raw[4:6], "big"), int.from_bytes(raw[6:8], "big")
    head = trees.header_bytes(volume)
    if level:
        capacity = trees.node_capacity(volume, kind)
        clean = _node(raw, head, count, capacity, kind.key_bytes, 4)
    else:
        clean = raw[: head + count * kind.record.size].ljust(len(raw), b"\0")
    return _sealed(volume, clean, layout.SHORT_CRC)


def _node(
    raw: bytes, head: int, count: int, capacity: int, key_bytes: int, pointer_bytes: int
) -> bytes:
    """A node without what lies behind its keys and behind its pointers."""
    pointers = head + capacity * key_bytes
    clean = raw[: head + count * key_bytes].ljust(pointers, b"\0")
    clean += raw[pointers : pointers + count * pointer_bytes]
    return clean.ljust(len(raw), b"\0")


# -- inodes


def _inode(
    volume: XfsVolume, slot: Slot, shared: _SharedBlocks, ends: list[ByteRange]
) -> Iterator[Patch]:
    inode = slot.inode
    data = data_fork(volume, slot)
    clean = _fork(volume, slot, data, is_attr=False)
    attr = attr_fork(volume, slot)
    if attr:
        clean += _fork(volume, slot, attr, is_attr=True)
    if not slot.raw.endswith(clean):
        raw = slot.raw[: volume.core_bytes] + clean
        yield from _differing(
            volume.inode_offset(slot.number), slot.raw, _sealed(volume, raw, layout.INODE_CRC)
        )
    mapping = read_mapping(volume, slot)
    yield from _map_tree(volume, slot.number, mapping)
    if inode.type == layout.MODE_FILE and slot.number not in _own_files(volume):
        yield from _content(volume, slot, mapping, shared, ends)
    elif inode.is_folder and mapping.runs:
        yield from _folder(volume, slot.number, mapping)
    elif inode.type == layout.MODE_LINK and mapping.runs:
        yield from _link(volume, slot, mapping)
    if attr:
        mapping = read_mapping(volume, slot, attributes=True)
        yield from _map_tree(volume, slot.number, mapping)
        yield from _attributes(volume, slot.number, mapping)


def _own_files(volume: XfsVolume) -> tuple[int, ...]:
    """Inodes of the volume's own: realtime bitmap and summary, quotas."""
    superblock = volume.superblock
    return (
        superblock.bitmap_inode,
        superblock.summary_inode,
        superblock.user_quota_inode,
        superblock.group_quota_inode,
        superblock.project_quota_inode,
    )


def _fork(volume: XfsVolume, slot: Slot, fork: bytes, is_attr: bool) -> bytes:
    form = slot.inode.attr_form if is_attr else slot.inode.form
    match form:
        case layout.FORM_EXTENTS:
            used = fork[: extent_counts(slot.inode)[is_attr] * EXTENT_BYTES]
        case layout.FORM_BTREE:
            count = int.from_bytes(fork[2:4], "big")
            used = _node(fork, 4, count, root_capacity(len(fork)), 8, 8)
        case layout.FORM_LOCAL if is_attr:
            used = fork[: int.from_bytes(fork[:2], "big")]
        case layout.FORM_LOCAL:
            used = fork[: slot.inode.size]
        case _:
            used = fork[:4]
    return used.ljust(len(fork), b"\0")


def _map_tree(volume: XfsVolume, number: int, mapping: Mapping) -> Iterator[Patch]:
    for fsblock in mapping.tree:
        raw = volume.read_block(fsblock)
        level, count = int.from_bytes(raw[4:6], "big"), int.from_bytes(raw[6:8], "big")
        head = map_header_bytes(volume)
        if count > map_capacity(volume):
            raise volume.damaged(messages.MAPPING_BLOCK_TOO_FULL.format(number=number))
        if level:
            clean = _node(raw, head, count, map_capacity(volume), 8, 8)
        else:
            clean = raw[: head + count * EXTENT_BYTES].ljust(len(raw), b"\0")
        yield from _differing(
            volume.offset_of(fsblock), raw, _sealed(volume, clean, layout.LONG_CRC)
        )


def _content(
    volume: XfsVolume,
    slot: Slot,
    mapping: Mapping,
    shared: _SharedBlocks,
    ends: list[ByteRange],
) -> Iterator[Patch]:
    """Behind the end of a file, and in blocks that read as zeros whatever lies in them.

    The rest of a last block, all that nearly all files have, is only noted in ``ends``.
    """
    size, block_bytes = slot.inode.size, volume.block_bytes
    for run in mapping.runs:
        start = run.logical * block_bytes
        end = start + run.blocks * block_bytes
        first = start if run.unwritten else max(start, size)
        if first >= end or shared.has(run.fsblock + (first - start) // block_bytes):
            continue
        offset = volume.offset_of(run.fsblock) + first - start
        if end - first < block_bytes:
            ends.append((offset, end - first))
            continue
        for extent in volume.store.iter_extents(offset, end - first):
            if not extent.is_zero and has_content(volume.store, extent):
                start, length = extent.offset_bytes, extent.length
                yield Patch(start, length, _WHAT, stale_bytes=length)


def _ends(volume: XfsVolume, ends: list[ByteRange]) -> Iterator[Patch]:
    """Small ranges that are to be zero; what lies near each other is read at once."""
    zeros = bytes(volume.block_bytes)
    for group in iter_near(sorted(ends)):
        start, (last, last_length) = group[0][0], group[-1]
        raw = volume.store.read(start, last + last_length - start)
        for offset, length in group:
            stale = raw[offset - start : offset - start + length]
            if stale != zeros[:length]:
                yield Patch(offset, length, _WHAT, stale_bytes=length - stale.count(0))


def _link(volume: XfsVolume, slot: Slot, mapping: Mapping) -> Iterator[Patch]:
    left = slot.inode.size
    for run in mapping.runs:
        raw = volume.read_block(run.fsblock, run.blocks)
        head = layout.REMOTE_HEADER_BYTES if volume.has_crc else 0
        used = min(left, len(raw) - head)
        if volume.has_crc:
            used = min(left, RemoteHeader.parse(raw[: RemoteHeader.SIZE]).length)
        clean = raw[: head + used].ljust(len(raw), b"\0")
        left -= used
        yield from _differing(
            volume.offset_of(run.fsblock), raw, _sealed(volume, clean, layout.REMOTE_CRC)
        )


# -- folders


def _folder(volume: XfsVolume, number: int, mapping: Mapping) -> Iterator[Patch]:
    blocks = folders.FolderBlocks(volume, number, mapping)
    for logical in blocks.data_numbers():
        raw = blocks.read(logical)
        yield from _spread(volume, blocks, logical, raw, _data_block(volume, number, raw))
    leaf_end = 2 * blocks.leaf_start
    for logical in blocks.numbers(blocks.leaf_start, leaf_end):
        raw = blocks.read(logical)
        yield from _spread(volume, blocks, logical, raw, _leaf_block(volume, number, raw))
    for logical in blocks.numbers(leaf_end, leaf_end + blocks.leaf_start):
        raw = blocks.read(logical)
        head = layout.FREE_HEADER_BYTES[volume.has_crc]
        at = head - 12 if volume.has_crc else 8
        valid = int.from_bytes(raw[at : at + 4], "big")
        end = head + (len(raw) - head) // 2 * 2
        clean = raw[: head + 2 * valid].ljust(end, b"\xff").ljust(len(raw), b"\0")
        clean = _sealed(volume, clean, layout.DATA_CRC)
        yield from _spread(volume, blocks, logical, raw, clean)


def _data_block(volume: XfsVolume, number: int, raw: bytes) -> bytes:
    clean = bytearray(raw)
    for offset, length, is_name in folders.iter_regions(volume, number, raw):
        used = 9 + raw[offset + 8] + volume.has_types if is_name else 4
        clean[offset + used : offset + length - 2] = bytes(length - 2 - used)
    if raw[:4] == layout.BLOCK_MAGIC[volume.has_crc]:
        start = folders.data_end(volume, number, raw, is_single=True)
        clean[start:-8] = _without_stale(raw[start:-8])
    return _sealed(volume, bytes(clean), layout.DATA_CRC)


def _leaf_block(volume: XfsVolume, number: int, raw: bytes) -> bytes:
    at = 56 if volume.has_crc else 12
    head = layout.LEAF_HEADER_BYTES[volume.has_crc]
    magic, count = int.from_bytes(raw[8:10], "big"), int.from_bytes(raw[at : at + 2], "big")
    end = head + 8 * count
    if end > len(raw):
        raise volume.damaged(messages.LEAF_OF_FOLDER_TOO_MANY_ENTRIES.format(number=number))
    tail = b""
    if magic == layout.LEAF1_MAGIC[volume.has_crc]:
        bests = int.from_bytes(raw[-4:], "big")
        tail = raw[len(raw) - 4 - 2 * bests :]
    entries = raw[head:end]
    if magic != layout.NODE_MAGIC[volume.has_crc]:
        entries = _without_stale(entries)
    clean = (raw[:head] + entries).ljust(len(raw) - len(tail), b"\0") + tail
    return _sealed(volume, clean, layout.DA_CRC)


def _without_stale(entries: bytes) -> bytes:
    """Leaf entries where those of names that are gone have the hash value of a neighbour.

    The last one stays: nodes above know its leaf by that value.
    """
    clean = bytearray(entries)
    for place in range(len(entries) - 16, -1, -8):
        if entries[place + 4 : place + 8] == bytes(4):
            clean[place : place + 4] = clean[place + 8 : place + 12]
    return bytes(clean)


def _spread(
    volume: XfsVolume, blocks: folders.FolderBlocks, logical: int, raw: bytes, clean: bytes
) -> Iterator[Patch]:
    """A folder block's differences, by the file system blocks that it lies in."""
    if raw == clean:
        return
    size = volume.block_bytes
    for part, fsblock in enumerate(blocks.fsblocks(logical)):
        piece = slice(part * size, (part + 1) * size)
        yield from _differing(volume.offset_of(fsblock), raw[piece], clean[piece])


# -- attributes


def _attributes(volume: XfsVolume, number: int, mapping: Mapping) -> Iterator[Patch]:
    values: dict[int, int] = {}
    for leaf in attributes.iter_leaves(volume, number, mapping):
        clean = bytearray(len(leaf.content))
        entries = attributes.leaf_entries(volume, number, leaf.content)
        head = layout.ATTR_HEADER_BYTES[volume.has_crc] + 8 * len(entries)
        clean[:head] = leaf.content[:head]
        for entry in entries:
            clean[entry.offset : entry.end] = leaf.content[entry.offset : entry.end]
            if not entry.is_local and not entry.flags & layout.ATTR_INCOMPLETE:
                values |= _value_ends(volume, entry.value_block, entry.value_length)
        yield from _differing(
            volume.offset_of(_place(mapping, leaf.logical)),
            leaf.content,
            _sealed(volume, bytes(clean), layout.DA_CRC),
        )
    for logical, used in values.items():
        raw = attributes.read_block(volume, number, mapping, logical)
        clean_value = raw[:used].ljust(len(raw), b"\0")
        yield from _differing(
            volume.offset_of(_place(mapping, logical)),
            raw,
            _sealed(volume, clean_value, layout.REMOTE_CRC),
        )


def _value_ends(volume: XfsVolume, first: int, length: int) -> dict[int, int]:
    """How many bytes each block of a remote value uses, by its number in the fork."""
    head = layout.REMOTE_HEADER_BYTES if volume.has_crc else 0
    room, found = volume.block_bytes - head, {}
    for number in range(attributes.remote_blocks(volume, length)):
        found[first + number] = head + min(room, length - number * room)
    return found


def _place(mapping: Mapping, logical: int) -> int:
    run = next(r for r in mapping.runs if r.logical <= logical < r.logical + r.blocks)
    return run.fsblock + logical - run.logical


# -- shared


def _sealed(volume: XfsVolume, content: bytes, crc_at: int) -> bytes:
    return with_checksum(content, crc_at) if volume.has_crc else content


def _differing(offset: int, stale: bytes, clean: bytes) -> Iterator[Patch]:
    return differing_patches(offset, stale, clean, _WHAT)
