"""What an inode's forks map: extents, in the inode itself or in a tree of their own (bmbt)."""

from __future__ import annotations

import struct
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from zeroseal.filesystems.xfs import layout
from zeroseal.filesystems.xfs.layout import Inode
from zeroseal.filesystems.xfs.trees import spread, widths
from zeroseal.filesystems.xfs.volume import Slot, XfsVolume, passes, with_checksum
from zeroseal.messages import xfs as messages

EXTENT_BYTES = 16
_PAIR = struct.Struct(">QQ")
_MOST_EXTENTS = 1 << 24


class Run(NamedTuple):
    """Neighbouring blocks of a file: (first block in the file, on the volume, count)."""

    logical: int
    fsblock: int
    blocks: int
    unwritten: bool = False


@dataclass(frozen=True)
class Mapping:
    """What a fork maps, in order; and the blocks of its tree."""

    runs: list[Run]
    tree: list[int]

    @property
    def block_count(self) -> int:
        """Of content and tree together."""
        return sum(run.blocks for run in self.runs) + len(self.tree)


def pack_run(run: Run) -> bytes:
    """A run as the disk has it."""
    return _PAIR.pack(
        (run.unwritten << 63) | run.logical << 9 | run.fsblock >> 43,
        (run.fsblock & ((1 << 43) - 1)) << 21 | run.blocks,
    )


def unpack_runs(raw: bytes) -> Iterator[Run]:
    """The runs in a whole number of records."""
    for high, low in _PAIR.iter_unpack(raw):
        yield Run(
            high >> 9 & ((1 << 54) - 1),
            (high & 0x1FF) << 43 | low >> 21,
            low & ((1 << 21) - 1),
            bool(high >> 63),
        )


def data_fork(volume: XfsVolume, slot: Slot) -> bytes:
    """The bytes of the data fork."""
    start = volume.core_bytes
    size = slot.inode.fork_offset * 8 or volume.fork_bytes
    if size > volume.fork_bytes:
        raise volume.damaged(messages.FORKS_OF_INODE_OVERLAP.format(number=slot.number))
    return slot.raw[start : start + size]


def attr_fork(volume: XfsVolume, slot: Slot) -> bytes:
    """The bytes of the attribute fork; empty where there is none."""
    if not slot.inode.fork_offset:
        return b""
    data_fork(volume, slot)  # bounds it
    return slot.raw[volume.core_bytes + slot.inode.fork_offset * 8 :]


def extent_counts(inode: Inode) -> tuple[int, int]:
    """(of the data fork, of the attribute fork)."""
    if inode.flags2 & layout.FLAG2_NREXT64:
        return inode.big_extents, inode.extents
    return inode.extents, inode.attr_extents


def set_extent_counts(inode: Inode, data: int, attr: int) -> None:
    """Notes how many extents the forks have."""
    if inode.flags2 & layout.FLAG2_NREXT64:
        inode.big_extents, inode.extents = data, attr
    else:
        inode.extents, inode.attr_extents = data, attr


def read_mapping(volume: XfsVolume, slot: Slot, attributes: bool = False) -> Mapping:
    """What a fork maps.

    Raises:
        DamagedError: the mapping contradicts itself, or leaves the volume.
    """
    inode = slot.inode
    form = inode.attr_form if attributes else inode.form
    fork = attr_fork(volume, slot) if attributes else data_fork(volume, slot)
    count = extent_counts(inode)[attributes]
    if form == layout.FORM_EXTENTS:
        if count * EXTENT_BYTES > len(fork):
            raise volume.damaged(messages.TOO_MANY_EXTENTS_FOR_INODE.format(number=slot.number))
        mapping = Mapping(list(unpack_runs(fork[: count * EXTENT_BYTES])), [])
    elif form == layout.FORM_BTREE:
        if count > _MOST_EXTENTS:
            raise volume.damaged(
                messages.IMPOSSIBLE_EXTENT_COUNT.format(number=slot.number, count=count)
            )
        mapping = _read_tree(volume, slot.number, fork, count)
    else:
        return Mapping([], [])
    position = 0
    for run in mapping.runs:
        if run.logical < position or not run.blocks or not volume.has_run(run.fsblock, run.blocks):
            raise volume.damaged(
                messages.EXTENTS_OF_INODE_CONTRADICT_EACH_OTHER.format(number=slot.number)
            )
        position = run.logical + run.blocks
    if len(mapping.runs) != count:
        raise volume.damaged(messages.EXTENT_COUNT_WRONG.format(number=slot.number, count=count))
    return mapping


def _read_tree(volume: XfsVolume, number: int, fork: bytes, most: int) -> Mapping:
    levels, count = struct.unpack(">HH", fork[:4].ljust(4, b"\0"))
    capacity = root_capacity(len(fork))
    if not 1 <= levels <= layout.MAX_LEVELS or not 1 <= count <= capacity:
        raise volume.damaged(messages.MAPPING_OF_INODE_INVALID_ROOT.format(number=number))
    first = int.from_bytes(fork[4 + capacity * 8 : 12 + capacity * 8], "big")
    runs: list[Run] = []
    tree: list[int] = []
    for level in range(levels - 1, -1, -1):
        place, below = first, layout.NULL_FSBLOCK
        while place != layout.NULL_FSBLOCK:
            if len(tree) > most + levels:
                raise volume.damaged(messages.MAPPING_OF_INODE_CONTAINS_LOOP.format(number=number))
            tree.append(place)
            raw = read_map_block(volume, number, place, level)
            entries = int.from_bytes(raw[6:8], "big")
            start = map_header_bytes(volume)
            if entries > map_capacity(volume):
                raise volume.damaged(messages.MAPPING_BLOCK_TOO_FULL.format(number=number))
            if level == 0:
                runs += unpack_runs(raw[start : start + entries * EXTENT_BYTES])
            elif below == layout.NULL_FSBLOCK:
                pointers = start + map_capacity(volume) * 8
                below = int.from_bytes(raw[pointers : pointers + 8], "big")
            place = int.from_bytes(raw[16:24], "big")
        first = below
    return Mapping(runs, tree)


def read_map_block(volume: XfsVolume, number: int, fsblock: int, level: int) -> bytes:
    """A block of a mapping's tree, with its header verified."""
    raw = volume.read_block(fsblock)
    sound = raw[:4] == layout.BMAP_MAGIC[volume.has_crc] and raw[4:6] == level.to_bytes(2, "big")
    if sound and volume.has_crc:
        owner = int.from_bytes(raw[56:64], "big")
        sound = passes(raw, layout.LONG_CRC) and owner == number
    if not sound:
        raise volume.damaged(messages.NOT_A_MAPPING_BLOCK.format(fsblock=fsblock, number=number))
    return raw


def map_header_bytes(volume: XfsVolume) -> int:
    """Of a block of a mapping's tree."""
    return layout.LONG_HEADER_BYTES[volume.has_crc]


def map_capacity(volume: XfsVolume) -> int:
    """How many extents, or pointers, a block of a mapping's tree holds."""
    return (volume.block_bytes - map_header_bytes(volume)) // EXTENT_BYTES


def root_capacity(fork_bytes: int) -> int:
    """How many pointers the root of a mapping's tree holds in a fork of that size."""
    return (fork_bytes - 4) // EXTENT_BYTES


def map_tree_size(volume: XfsVolume, count: int, fork_bytes: int) -> int:
    """How many blocks the tree of a mapping takes; 0 where it fits into the inode."""
    if count * EXTENT_BYTES <= fork_bytes:
        return 0
    return sum(_map_widths(volume, count, fork_bytes))


def _map_widths(volume: XfsVolume, count: int, fork_bytes: int) -> list[int]:
    """Blocks a level, leaves first; the root in the inode holds the topmost of them."""
    found = widths(count, map_capacity(volume), map_capacity(volume))
    while len(found) > 1 and found[-2] <= root_capacity(fork_bytes):
        found.pop()
    return found


def build_fork(
    volume: XfsVolume, number: int, runs: Sequence[Run], fork_bytes: int, blocks: Sequence[int]
) -> tuple[int, bytes]:
    """Makes a fork that maps runs, and writes its tree into ``blocks`` (by ``map_tree_size``).

    Returns:
        (form, bytes of the fork).
    """
    if not map_tree_size(volume, len(runs), fork_bytes):
        body = b"".join(pack_run(run) for run in runs)
        return layout.FORM_EXTENTS, body.ljust(fork_bytes, b"\0")
    free = list(blocks)
    below: list[tuple[int, int]] = []  # first block in the file, block of the tree
    levels = _map_widths(volume, len(runs), fork_bytes)
    for level, width in enumerate(levels):
        places, free = free[:width], free[width:]
        above, start = [], 0
        for index, count in enumerate(spread(len(below) if level else len(runs), width)):
            if level:
                children = below[start : start + count]
                keys = b"".join(key.to_bytes(8, "big") for key, _place in children)
                body = keys.ljust(map_capacity(volume) * 8, b"\0")
                body += b"".join(place.to_bytes(8, "big") for _key, place in children)
                key = children[0][0]
            else:
                part = runs[start : start + count]
                body, key = b"".join(pack_run(run) for run in part), part[0].logical
            start += count
            left = places[index - 1] if index else layout.NULL_FSBLOCK
            right = places[index + 1] if index + 1 < width else layout.NULL_FSBLOCK
            _write_map_block(volume, number, places[index], (level, count), (left, right), body)
            above.append((key, places[index]))
        below = above
    capacity = root_capacity(fork_bytes)
    root = struct.pack(">HH", len(levels), len(below))
    root += b"".join(key.to_bytes(8, "big") for key, _place in below).ljust(capacity * 8, b"\0")
    root += b"".join(place.to_bytes(8, "big") for _key, place in below)
    return layout.FORM_BTREE, root.ljust(fork_bytes, b"\0")


def _write_map_block(
    volume: XfsVolume,
    number: int,
    fsblock: int,
    shape: tuple[int, int],
    siblings: tuple[int, int],
    body: bytes,
) -> None:
    head = layout.BMAP_MAGIC[volume.has_crc] + struct.pack(">HHQQ", *shape, *siblings)
    if volume.has_crc:
        head += struct.pack(">QQ16sQ8x", volume.sector_of(fsblock), 0, volume.uuid, number)
    raw = (head + body).ljust(volume.block_bytes, b"\0")
    if volume.has_crc:
        raw = with_checksum(raw, layout.LONG_CRC)
    volume.store.write(volume.offset_of(fsblock), raw)
