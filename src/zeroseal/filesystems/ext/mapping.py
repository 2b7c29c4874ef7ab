"""Which blocks a file's content lies in: reading extent trees and lists of block numbers."""

from __future__ import annotations

import struct
import sys
from array import array
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import NamedTuple

from zeroseal.filesystems.ext import checksums
from zeroseal.filesystems.ext.layout import (
    DIRECT_BLOCKS,
    EXTENT_BYTES,
    EXTENT_MAGIC,
    INODE_EXTENTS,
    MAX_EXTENT_BLOCKS,
    MAX_EXTENT_DEPTH,
    ExtentHeader,
    Inode,
)
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.messages import ext as messages

_READ_PIECE_BYTES = 4 << 20


class Run(NamedTuple):
    """Blocks that follow one another both in the file and on the volume.

    ``logical`` and ``physical`` count in blocks, from the file's and the volume's start. A run
    that is not ``written`` is allocated but reads as zeros.
    """

    logical: int
    physical: int
    blocks: int
    written: bool = True


@dataclass
class Mapping:
    """A file's blocks.

    Attributes:
        runs: sorted by ``logical``, not overlapping.
        tree_blocks: blocks that hold the mapping itself, each once.
    """

    runs: list[Run] = field(default_factory=list)
    tree_blocks: list[int] = field(default_factory=list)

    @property
    def block_count(self) -> int:
        """All blocks the file takes, those of the mapping included."""
        return sum(run.blocks for run in self.runs) + len(self.tree_blocks)


def read_mapping(volume: ExtVolume, inode_no: int, inode: Inode) -> Mapping:
    """Reads where a file's content lies.

    Raises:
        DamagedError: the mapping is unsorted, leaves the volume or visits a block twice.
    """
    reader = _MappingReader(volume, inode_no, inode)
    if inode.flags & INODE_EXTENTS:
        reader.read_extent_node(inode.block, depth=None)
    else:
        reader.read_block_list()
    return reader.mapping


def count_clusters(volume: ExtVolume, runs: list[Run]) -> int:
    """How many clusters a file's runs lie in; neighbours may share one."""
    ratio = volume.cluster_blocks
    count, last = 0, -1
    for run in runs:
        first, end = run.physical // ratio, -(-(run.physical + run.blocks) // ratio)
        count += end - first - int(first == last)
        last = end - 1
    return count


def read_content(volume: ExtVolume, mapping: Mapping, size_bytes: int) -> Iterator[bytes]:
    """Yields the first ``size_bytes`` of a file in pieces; what has no blocks reads as zeros."""
    block_bytes, done = volume.block_bytes, 0
    for run in mapping.runs:
        if run.logical * block_bytes >= size_bytes:
            break
        yield from _zeros(run.logical * block_bytes - done)
        done = run.logical * block_bytes
        count = min(run.blocks * block_bytes, size_bytes - done)
        if run.written:
            start = run.physical * block_bytes
            for offset in range(0, count, _READ_PIECE_BYTES):
                piece = min(_READ_PIECE_BYTES, count - offset)
                yield volume.store.read(start + offset, piece)
        else:
            yield from _zeros(count)
        done += count
    yield from _zeros(size_bytes - done)


def _zeros(count: int) -> Iterator[bytes]:
    while count > 0:
        yield bytes(min(count, _READ_PIECE_BYTES))
        count -= _READ_PIECE_BYTES


class _MappingReader:
    def __init__(self, volume: ExtVolume, inode_no: int, inode: Inode) -> None:
        self.mapping = Mapping()
        self._volume = volume
        self._inode_no = inode_no
        self._inode = inode
        self._seen: set[int] = set()
        self._next_logical = 0

    def read_extent_node(self, node: bytes, depth: int | None) -> None:
        header = ExtentHeader.parse(node[:EXTENT_BYTES])
        room = len(node) // EXTENT_BYTES - 1
        if (
            header.magic != EXTENT_MAGIC
            or header.entries > header.max_entries
            or header.max_entries > room
            or header.depth > MAX_EXTENT_DEPTH
            or (depth is not None and header.depth != depth)
        ):
            raise self._damaged(messages.NODE_OF_EXTENT_TREE_INVALID)
        entries = node[EXTENT_BYTES : EXTENT_BYTES * (1 + header.entries)]
        if header.depth == 0:
            for logical, length, start_hi, start_lo in struct.iter_unpack("<IHHI", entries):
                self._add_extent(logical, length, start_hi << 32 | start_lo)
            return
        for _logical, leaf_lo, leaf_hi, _unused in struct.iter_unpack("<IIHH", entries):
            block = self._read_tree_block(leaf_hi << 32 | leaf_lo)
            self._check_extent_block(block)
            self.read_extent_node(block, header.depth - 1)

    def read_block_list(self) -> None:
        """Reads the 12 direct blocks, then the three lists of one, two and three levels."""
        numbers = struct.unpack("<15I", self._inode.block)
        self._add_blocks(numbers[:DIRECT_BLOCKS])
        for levels, block_no in enumerate(numbers[DIRECT_BLOCKS:], 1):
            self._read_list(block_no, levels)

    def _read_list(self, block_no: int, levels: int) -> None:
        per_block = self._volume.block_bytes // 4
        if not block_no:
            self._next_logical += per_block**levels
            return
        numbers = array("I", self._read_tree_block(block_no))
        if sys.byteorder == "big":
            numbers.byteswap()
        if levels == 1:
            self._add_blocks(numbers)
            return
        for number in numbers:
            self._read_list(number, levels - 1)

    def _add_blocks(self, numbers: tuple[int, ...] | array[int]) -> None:
        runs = self.mapping.runs
        for number in numbers:
            if number:
                last = runs[-1] if runs else None
                if (
                    last
                    and last.logical + last.blocks == self._next_logical
                    and last.physical + last.blocks == number
                ):
                    runs[-1] = last._replace(blocks=last.blocks + 1)
                else:
                    runs.append(Run(self._next_logical, number, 1))
                self._check_on_volume(number, 1)
            self._next_logical += 1

    def _add_extent(self, logical: int, length: int, physical: int) -> None:
        written = length <= MAX_EXTENT_BLOCKS
        count = length if written else length - MAX_EXTENT_BLOCKS
        if count == 0 or logical < self._next_logical:
            raise self._damaged(messages.EXTENTS_EMPTY_OR_OUT_OF_ORDER)
        self._check_on_volume(physical, count)
        self.mapping.runs.append(Run(logical, physical, count, written))
        self._next_logical = logical + count

    def _read_tree_block(self, block_no: int) -> bytes:
        if block_no in self._seen:
            raise self._damaged(messages.MAPPING_CONTAINS_LOOP.format(block_no=block_no))
        self._seen.add(block_no)
        self.mapping.tree_blocks.append(block_no)
        return self._volume.read_block(block_no)

    def _check_on_volume(self, physical: int, count: int) -> None:
        first = self._volume.superblock.first_data_block
        if physical <= first or physical + count > self._volume.block_count:
            raise self._damaged(messages.BLOCK_LIES_OUTSIDE_FILE_SYSTEM.format(physical=physical))

    def _check_extent_block(self, block: bytes) -> None:
        if not self._volume.has_checksums:
            return
        offset = EXTENT_BYTES + EXTENT_BYTES * int.from_bytes(block[4:6], "little")
        stored = int.from_bytes(block[offset : offset + 4], "little")
        seed = self._volume.inode_seed(self._inode_no, self._inode)
        if checksums.extent_block_checksum(seed, block) != stored:
            raise self._damaged(messages.NODE_OF_EXTENT_TREE_FAILS_CHECKSUM)

    def _damaged(self, what: str) -> Exception:
        return self._volume.damaged(f"inode {self._inode_no}: {what}", structure=self._inode_no)
