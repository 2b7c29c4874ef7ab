"""B+trees inside an allocation group: their records read in order, and whole trees built at once.

A tree is read by following the leftmost way down and then the leaves' links to the right. It is
never patched: ``build_tree`` makes all its blocks from the records, evenly filled.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from zeroseal.filesystems.xfs import layout
from zeroseal.filesystems.xfs.volume import XfsVolume, passes, with_checksum
from zeroseal.messages import xfs as messages

Row = tuple[int, ...]


@dataclass(frozen=True)
class TreeKind:
    """A kind of tree: its blocks' magic, and how its records and keys are packed.

    Attributes:
        record: of a leaf.
        key: of a node; with ``is_overlapping`` a low and a high key stand in it.
        key_of: a record's own key, and ``high_key_of`` the last that it covers.
    """

    name: str
    magic: tuple[bytes, bytes]
    record: struct.Struct
    key: struct.Struct
    key_of: Callable[[Row], Row]
    high_key_of: Callable[[Row], Row] | None = None

    @property
    def key_bytes(self) -> int:
        """Of all keys of one pointer."""
        return self.key.size * (2 if self.high_key_of else 1)


def _rmap_key(row: Row) -> Row:
    return row[0], row[2], row[3] & ~layout.RMAP_UNWRITTEN


def _rmap_high_key(row: Row) -> Row:
    start, count, owner, offset = row
    if owner < layout.FIRST_SPECIAL_OWNER and not offset & layout.RMAP_BMBT:
        offset += count - 1
    return start + count - 1, owner, offset & ~layout.RMAP_UNWRITTEN


_PAIR = struct.Struct(">II")
BNO = TreeKind("free space by block", layout.BNO_MAGIC, _PAIR, _PAIR, lambda row: row)
CNT = TreeKind("free space by length", layout.CNT_MAGIC, _PAIR, _PAIR, lambda row: row)
INOBT = TreeKind(
    "inodes", layout.INOBT_MAGIC, struct.Struct(">IIQ"), struct.Struct(">I"), lambda row: row[:1]
)
FINOBT = TreeKind("free inodes", layout.FINOBT_MAGIC, INOBT.record, INOBT.key, INOBT.key_of)
RMAP = TreeKind(
    name="reverse mapping",
    magic=layout.RMAP_MAGIC,
    record=struct.Struct(">IIQQ"),
    key=struct.Struct(">IQQ"),
    key_of=_rmap_key,
    high_key_of=_rmap_high_key,
)
REFCOUNT = TreeKind(
    "reference counts",
    layout.REFCOUNT_MAGIC,
    struct.Struct(">III"),
    struct.Struct(">I"),
    lambda row: row[:1],
)


def read_tree(
    volume: XfsVolume, group: int, kind: TreeKind, root: int, levels: int
) -> tuple[list[Row], list[int]]:
    """(records in order, blocks of a group that the tree takes, by level).

    Raises:
        DamagedError: the tree contradicts itself.
    """
    if not 1 <= levels <= layout.MAX_LEVELS:
        raise volume.damaged(
            messages.IMPOSSIBLE_TREE_DEPTH.format(name=kind.name, group=group, levels=levels)
        )
    blocks: list[int] = []
    seen: set[int] = set()
    first = root
    rows: list[Row] = []
    for level in range(levels - 1, -1, -1):
        place, below = first, layout.NULL_AGBLOCK
        while place != layout.NULL_AGBLOCK:
            if place in seen:
                raise volume.damaged(
                    messages.TREE_OF_GROUP_CONTAINS_LOOP.format(name=kind.name, group=group)
                )
            seen.add(place)
            blocks.append(place)
            raw = read_node(volume, group, kind, place, level)
            count = int.from_bytes(raw[6:8], "big")
            if level == 0:
                rows += _records(volume, kind, raw, count)
            elif below == layout.NULL_AGBLOCK:
                below = _first_pointer(volume, kind, raw, count)
            place = int.from_bytes(raw[12:16], "big")
        first = below
    return rows, blocks


def read_node(volume: XfsVolume, group: int, kind: TreeKind, agblock: int, level: int) -> bytes:
    """A block of a tree, with its header verified."""
    raw = volume.read_block(volume.fsblock(group, agblock))
    sound = raw[:4] == kind.magic[volume.has_crc] and raw[4:6] == level.to_bytes(2, "big")
    if sound and volume.has_crc:
        sound = passes(raw, layout.SHORT_CRC)
    if not sound:
        raise volume.damaged(
            messages.NOT_A_TREE_BLOCK.format(agblock=agblock, name=kind.name, group=group)
        )
    return raw


def leaf_capacity(volume: XfsVolume, kind: TreeKind) -> int:
    """How many records fit into a leaf."""
    return (volume.block_bytes - header_bytes(volume)) // kind.record.size


def node_capacity(volume: XfsVolume, kind: TreeKind) -> int:
    """How many pointers fit into a node."""
    return (volume.block_bytes - header_bytes(volume)) // (kind.key_bytes + 4)


def header_bytes(volume: XfsVolume) -> int:
    """Of a block of a group's tree."""
    return layout.SHORT_HEADER_BYTES[volume.has_crc]


def _records(volume: XfsVolume, kind: TreeKind, raw: bytes, count: int) -> Iterator[Row]:
    if count > leaf_capacity(volume, kind):
        raise volume.damaged(messages.LEAF_OF_TREE_TOO_MANY_RECORDS.format(name=kind.name))
    start = header_bytes(volume)
    yield from kind.record.iter_unpack(raw[start : start + count * kind.record.size])


def _first_pointer(volume: XfsVolume, kind: TreeKind, raw: bytes, count: int) -> int:
    capacity = node_capacity(volume, kind)
    if not 1 <= count <= capacity:
        raise volume.damaged(messages.IMPOSSIBLE_POINTER_COUNT.format(name=kind.name, count=count))
    start = header_bytes(volume) + capacity * kind.key_bytes
    return int.from_bytes(raw[start : start + 4], "big")


# -- building


def widths(count: int, capacity: int, fan_out: int) -> list[int]:
    """How many blocks each level of a tree of so many records has, leaves first."""
    found = [max(1, -(-count // capacity))]
    while found[-1] > 1:
        found.append(-(-found[-1] // fan_out))
    return found


def spread(count: int, parts: int) -> list[int]:
    """Cuts a number into parts that differ by one at the most."""
    small, more = divmod(count, parts)
    return [small + 1] * more + [small] * (parts - more)


def tree_size(volume: XfsVolume, kind: TreeKind, count: int) -> int:
    """How many blocks a tree of so many records takes."""
    return sum(widths(count, leaf_capacity(volume, kind), node_capacity(volume, kind)))


def build_tree(
    volume: XfsVolume, group: int, kind: TreeKind, rows: Sequence[Row], blocks: Sequence[int]
) -> tuple[int, int]:
    """Writes a whole tree into blocks of a group; ``tree_size`` says how many.

    Returns:
        (root, levels).
    """
    levels = widths(len(rows), leaf_capacity(volume, kind), node_capacity(volume, kind))
    free = list(blocks)
    below: list[tuple[Row, Row, int]] = []  # low key, high key, block
    for level, width in enumerate(levels):
        places, free = free[:width], free[width:]
        above: list[tuple[Row, Row, int]] = []
        start = 0
        for number, count in enumerate(spread(len(rows) if level == 0 else len(below), width)):
            if level == 0:
                part = rows[start : start + count]
                body = b"".join(kind.record.pack(*row) for row in part)
                keys = _leaf_keys(kind, part)
            else:
                children = below[start : start + count]
                body = _node_body(volume, kind, children)
                keys = children[0][0], max(child[1] for child in children)
            start += count
            left = places[number - 1] if number else layout.NULL_AGBLOCK
            right = places[number + 1] if number + 1 < width else layout.NULL_AGBLOCK
            _write_block(volume, group, kind, places[number], level, count, left, right, body)
            above.append((*keys, places[number]))
        below = above
    return below[0][2], len(levels)


def _leaf_keys(kind: TreeKind, rows: Sequence[Row]) -> tuple[Row, Row]:
    if not rows:
        return (), ()
    high = kind.high_key_of or kind.key_of
    return kind.key_of(rows[0]), max(high(row) for row in rows)


def _node_body(volume: XfsVolume, kind: TreeKind, children: list[tuple[Row, Row, int]]) -> bytes:
    keys = b"".join(
        kind.key.pack(*low) + (kind.key.pack(*high) if kind.high_key_of else b"")
        for low, high, _block in children
    )
    pointers = struct.pack(f">{len(children)}I", *(block for _low, _high, block in children))
    return keys.ljust(node_capacity(volume, kind) * kind.key_bytes, b"\0") + pointers


def _write_block(
    volume: XfsVolume,
    group: int,
    kind: TreeKind,
    agblock: int,
    level: int,
    count: int,
    left: int,
    right: int,
    body: bytes,
) -> None:
    fsblock = volume.fsblock(group, agblock)
    head = kind.magic[volume.has_crc] + struct.pack(">HHII", level, count, left, right)
    if volume.has_crc:
        head += struct.pack(">QQ16sI4x", volume.sector_of(fsblock), 0, volume.uuid, group)
    raw = (head + body).ljust(volume.block_bytes, b"\0")
    if volume.has_crc:
        raw = with_checksum(raw, layout.SHORT_CRC)
    volume.store.write(volume.offset_of(fsblock), raw)
