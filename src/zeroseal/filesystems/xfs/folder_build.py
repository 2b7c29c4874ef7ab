"""Folders built anew from their names, in the smallest form that holds them."""

from __future__ import annotations

import struct
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

from zeroseal.filesystems.xfs import layout
from zeroseal.filesystems.xfs.folders import Name, entry_bytes, hash_name
from zeroseal.filesystems.xfs.trees import spread
from zeroseal.filesystems.xfs.volume import XfsVolume, with_checksum

_LEAF = struct.Struct(">II")
_WIDE_INODE = 1 << 32
_FOLDER_KIND = 2


class BuiltBlock(NamedTuple):
    """A block of a folder that does not know yet where it will lie.

    ``sector_at`` and ``crc_at`` are offsets of fields that are filled in then (version 5).
    """

    logical: int
    raw: bytes
    sector_at: int
    crc_at: int

    def placed(self, volume: XfsVolume, fsblock: int) -> bytes:
        """Its bytes, now that its first file system block is known."""
        if not volume.has_crc:
            return self.raw
        raw = bytearray(self.raw)
        sector = volume.sector_of(fsblock)
        raw[self.sector_at : self.sector_at + 8] = sector.to_bytes(8, "big")
        return with_checksum(raw, self.crc_at)


@dataclass(frozen=True)
class BuiltFolder:
    """A folder of blocks; ``size`` is what its inode says."""

    blocks: list[BuiltBlock]
    size: int


def build_short(volume: XfsVolume, parent: int, names: Sequence[Name], room: int) -> bytes | None:
    """A folder that lies in its inode; None where it does not fit into ``room`` bytes."""
    wide = sum(number >= _WIDE_INODE for number in (parent, *(name.inode for name in names)))
    width = 8 if wide else 4
    size = 2 + width + sum(3 + len(name.name) + volume.has_types + width for name in names)
    if size > room or len(names) > 0xFF:
        return None
    offset = layout.DATA_HEADER_BYTES[volume.has_crc] + entry_bytes(volume, 1)
    offset += entry_bytes(volume, 2)
    body = bytearray([len(names), wide]) + parent.to_bytes(width, "big")
    for name in names:
        body += bytes([len(name.name)]) + offset.to_bytes(2, "big") + name.name
        body += bytes([name.kind]) if volume.has_types else b""
        body += name.inode.to_bytes(width, "big")
        offset += entry_bytes(volume, len(name.name))
    return bytes(body)


def build_folder(volume: XfsVolume, number: int, parent: int, names: Sequence[Name]) -> BuiltFolder:
    """A folder of blocks: of one where that is enough, else with leaves and a free index."""
    own = [Name(b".", number, _FOLDER_KIND), Name(b"..", parent, _FOLDER_KIND)]
    builder = _Builder(volume, number, [*own, *names])
    return builder.build_single() or builder.build_many()


class _Builder:
    def __init__(self, volume: XfsVolume, number: int, names: Sequence[Name]) -> None:
        self._volume, self._number, self._names = volume, number, names
        self._size = volume.folder_bytes
        self._step = volume.folder_blocks
        self._data_header = layout.DATA_HEADER_BYTES[volume.has_crc]
        self._leaf_header = layout.LEAF_HEADER_BYTES[volume.has_crc]
        self._leaf_start = layout.SPACE_BYTES // volume.block_bytes

    def build_single(self) -> BuiltFolder | None:
        """All in one block, with its leaf at the end."""
        tail = 8 * len(self._names) + 8
        taken = sum(entry_bytes(self._volume, len(name.name)) for name in self._names)
        free = self._size - self._data_header - taken - tail
        if free < 0:
            return None
        body, leaf = self._names_body(self._names, self._data_header, 0)
        body += self._unused(self._data_header + taken, free)
        body += b"".join(_LEAF.pack(*entry) for entry in sorted(leaf))
        body += _LEAF.pack(len(leaf), 0)
        raw = self._data_head(layout.BLOCK_MAGIC, self._data_header + taken, free) + body
        return BuiltFolder([self._data_block(0, raw)], self._size)

    def build_many(self) -> BuiltFolder:
        """Data blocks, leaves that say where names are, and where there is room."""
        blocks, bests, leaf = self._build_data()
        leaf.sort()
        count = len(blocks)
        if self._leaf_header + 8 * len(leaf) + 2 * len(bests) + 4 <= self._size:
            blocks.append(self._single_leaf(leaf, bests))
        else:
            blocks += self._leaves_and_nodes(leaf)
            blocks += self._free_index(bests)
        return BuiltFolder(sorted(blocks), count * self._size)

    # -- data

    def _build_data(self) -> tuple[list[BuiltBlock], list[int], list[tuple[int, int]]]:
        blocks: list[BuiltBlock] = []
        bests: list[int] = []
        leaf: list[tuple[int, int]] = []
        part: list[Name] = []
        place = self._data_header
        for name in [*self._names, None]:
            length = entry_bytes(self._volume, len(name.name)) if name else self._size
            if place + length > self._size:
                start = len(blocks) * self._size
                body, addresses = self._names_body(part, self._data_header, start)
                leaf += addresses
                free = self._size - place
                body += self._unused(place, free)
                raw = self._data_head(layout.DATA_MAGIC, place, free) + body
                blocks.append(self._data_block(len(blocks) * self._step, raw))
                bests.append(free)
                part, place = [], self._data_header
            if name:
                part.append(name)
                place += length
        return blocks, bests, leaf

    def _names_body(
        self, names: Sequence[Name], offset: int, start: int
    ) -> tuple[bytearray, list[tuple[int, int]]]:
        """(bytes of entries that begin at an offset of a block, their leaf entries)."""
        volume, body, leaf = self._volume, bytearray(), []
        for name in names:
            length = entry_bytes(volume, len(name.name))
            entry = name.inode.to_bytes(8, "big") + bytes([len(name.name)]) + name.name
            entry += bytes([name.kind]) if volume.has_types else b""
            body += entry.ljust(length - 2, b"\0") + offset.to_bytes(2, "big")
            leaf.append((hash_name(name.name), (start + offset) // layout.NAME_ALIGNMENT))
            offset += length
        return body, leaf

    def _unused(self, offset: int, length: int) -> bytes:
        if not length:
            return b""
        head = struct.pack(">HH", layout.FREE_TAG, length)
        return head.ljust(length - 2, b"\0") + offset.to_bytes(2, "big")

    def _data_head(self, magic: tuple[bytes, bytes], free_at: int, free: int) -> bytes:
        best = struct.pack(">HH", free_at if free else 0, free).ljust(12, b"\0")
        if not self._volume.has_crc:
            return magic[0] + best
        return self._head_of_block(magic[1]) + best + bytes(4)

    def _head_of_block(self, magic: bytes) -> bytes:
        return magic + bytes(20) + self._volume.uuid + self._number.to_bytes(8, "big")

    def _data_block(self, logical: int, raw: bytes | bytearray) -> BuiltBlock:
        return BuiltBlock(logical, bytes(raw), 8, layout.DATA_CRC)

    # -- leaves, nodes, free index

    def _leaf_head(
        self, magic: tuple[int, int], siblings: tuple[int, int], count: int, level: int = 0
    ) -> bytes:
        volume = self._volume
        head = struct.pack(">IIHH", *siblings, magic[volume.has_crc], 0)
        if volume.has_crc:
            head += bytes(20) + volume.uuid + self._number.to_bytes(8, "big")
        return (head + struct.pack(">HH", count, level)).ljust(self._leaf_header, b"\0")

    def _leaf_block(self, logical: int, raw: bytes) -> BuiltBlock:
        return BuiltBlock(logical, raw.ljust(self._size, b"\0"), 16, layout.DA_CRC)

    def _single_leaf(self, leaf: list[tuple[int, int]], bests: list[int]) -> BuiltBlock:
        head = self._leaf_head(layout.LEAF1_MAGIC, (0, 0), len(leaf))
        entries = b"".join(_LEAF.pack(*entry) for entry in leaf)
        tail = struct.pack(f">{len(bests)}HI", *bests, len(bests))
        return self._leaf_block(
            self._leaf_start, (head + entries).ljust(self._size - len(tail), b"\0") + tail
        )

    def _leaves_and_nodes(self, leaf: list[tuple[int, int]]) -> list[BuiltBlock]:
        """The root lies first; behind it the leaves, then further levels of nodes."""
        capacity = (self._size - self._leaf_header) // 8
        width = -(-len(leaf) // capacity)
        if width == 1:
            return self._level(layout.LEAFN_MAGIC, [leaf], [self._leaf_start], 0)
        next_free = self._leaf_start + self._step
        blocks: list[BuiltBlock] = []
        rows, magic, level = leaf, layout.LEAFN_MAGIC, 0
        while True:
            width = -(-len(rows) // capacity)
            parts, start = [], 0
            for count in spread(len(rows), width):
                parts.append(rows[start : start + count])
                start += count
            if width == 1:
                return blocks + self._level(magic, parts, [self._leaf_start], level)
            places = [next_free + n * self._step for n in range(width)]
            next_free += width * self._step
            blocks += self._level(magic, parts, places, level)
            rows = [(part[-1][0], place) for part, place in zip(parts, places, strict=True)]
            magic, level = layout.NODE_MAGIC, level + 1

    def _level(
        self,
        magic: tuple[int, int],
        parts: list[list[tuple[int, int]]],
        places: list[int],
        level: int,
    ) -> list[BuiltBlock]:
        blocks = []
        for number, (part, place) in enumerate(zip(parts, places, strict=True)):
            forward = places[number + 1] if number + 1 < len(places) else 0
            back = places[number - 1] if number else 0
            head = self._leaf_head(magic, (forward, back), len(part), level)
            blocks.append(
                self._leaf_block(place, head + b"".join(_LEAF.pack(*entry) for entry in part))
            )
        return blocks

    def _free_index(self, bests: list[int]) -> list[BuiltBlock]:
        volume, blocks = self._volume, []
        header = layout.FREE_HEADER_BYTES[volume.has_crc]
        capacity = (self._size - header) // 2
        for first in range(0, len(bests), capacity):
            part = bests[first : first + capacity]
            head = (
                self._head_of_block(layout.FREE_MAGIC[1])
                if volume.has_crc
                else layout.FREE_MAGIC[0]
            )
            head += struct.pack(">III", first, len(part), len(part))
            raw = head.ljust(header, b"\0") + struct.pack(f">{len(part)}H", *part)
            raw += b"\xff" * (2 * (capacity - len(part)))
            logical = 2 * self._leaf_start + first // capacity * self._step
            blocks.append(BuiltBlock(logical, raw.ljust(self._size, b"\0"), 8, layout.DATA_CRC))
        return blocks
