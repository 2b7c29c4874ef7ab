"""The index of a large folder (htree): finding the block for a name, and building a new index.

Source: Linux 6.1 ``Documentation/filesystems/ext4/directory.rst``, Hash Tree Directories.

Block 0 holds ``.`` and ``..`` and, behind them, the root: entries of (hash, block). Each points to
a leaf, or with one more level (two with *large_dir*) to a node of such entries. The first entry has
no hash; its place holds the limit and count of entries. When the names of one hash go on in a
second leaf, that leaf's hash is odd.

When a leaf is full the whole index is built anew with every leaf three quarters full: for a folder
of n names that happens once in about n/4 insertions, and the result has no empty or half-empty
leaves. Removing names never changes the index.
"""

from __future__ import annotations

import struct
from bisect import bisect_right
from collections.abc import Callable, Iterator
from typing import NamedTuple

from zeroseal.errors import DamagedError, UnsupportedError
from zeroseal.filesystems.ext import checksums
from zeroseal.filesystems.ext.folders import empty_block, entry_room, pack_entry
from zeroseal.filesystems.ext.hashing import HashSettings, hash_names
from zeroseal.filesystems.ext.layout import (
    ENTRY_TYPES,
    INCOMPAT_LARGE_DIR,
    MODE_FOLDER,
    TAIL_BYTES,
    Inode,
)
from zeroseal.filesystems.ext.mapping import read_mapping
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.messages import ext as messages

ROOT_ENTRIES_OFFSET = 32  # entries of "." and ".." take 12 each, the root's settings 8
NODE_ENTRIES_OFFSET = 8
_INFO_OFFSET = 24
_ENTRY_BYTES = 8
_BLOCK_MASK = 0x0FFFFFFF
_MOST_LEVELS = 3


class Name(NamedTuple):
    """A name to be put into a folder."""

    name: bytes
    inode: int
    type_code: int


class FolderShape(NamedTuple):
    """What a folder's blocks depend on."""

    block_bytes: int
    has_types: bool
    own_seed: int | None  # where checksums begin; None without metadata_csum
    most_levels: int = 2


class IndexRoot(NamedTuple):
    """The settings in an index's root."""

    hash_version: int
    levels: int


def parse_root(block: bytes) -> IndexRoot:
    """Reads the root's settings.

    Raises:
        DamagedError: they are none that the format allows.
    """
    reserved, version, info_bytes, levels, _flags = struct.unpack_from(
        "<IBBBB", block, _INFO_OFFSET
    )
    if reserved or info_bytes != 8 or version > 5 or levels >= _MOST_LEVELS:
        raise DamagedError(messages.INDEX_OF_FOLDER_WRONG_ROOT)
    return IndexRoot(version, levels)


def parse_entries(block: bytes, offset: int) -> list[tuple[int, int]]:
    """Reads (hash, logical block) pairs; the first one's hash is 0."""
    limit, count = struct.unpack_from("<HH", block, offset)
    if not 0 < count <= limit or offset + limit * _ENTRY_BYTES > len(block):
        raise DamagedError(messages.INDEX_OF_FOLDER_WRONG_COUNT)
    numbers = struct.unpack_from(f"<{count * 2}I", block, offset)
    return [(0, numbers[1]), *zip(numbers[2::2], numbers[3::2], strict=True)]


class IndexedBlocks:
    """The blocks of an indexed folder, by their logical number.

    Raises:
        DamagedError: the root is wrong, or has more levels than the volume's features allow.
    """

    def __init__(self, volume: ExtVolume, folder: int, inode: Inode) -> None:
        self._volume = volume
        self._folder = folder
        self._runs = read_mapping(volume, folder, inode).runs
        self._starts = [run.logical for run in self._runs]
        self.root = parse_root(self.read(0))  # the same as long as the folder's blocks are
        if self.root.levels >= most_levels(volume):
            raise volume.damaged(messages.INDEX_OF_FOLDER_TOO_MANY_LEVELS.format(folder=folder))

    def physical(self, logical: int) -> int:
        """The block on the volume."""
        index = bisect_right(self._starts, logical) - 1
        if index >= 0:
            run = self._runs[index]
            if logical < run.logical + run.blocks:
                return run.physical + logical - run.logical
        raise self._volume.damaged(
            messages.INDEX_OF_FOLDER_POINTS_OUTSIDE_FOLDER.format(folder=self._folder)
        )

    def read(self, logical: int) -> bytes:
        """A block's content."""
        return self._volume.read_block(self.physical(logical))


def most_levels(volume: ExtVolume) -> int:
    """How many levels of index blocks a folder may have, the root included."""
    return 3 if volume.superblock.incompat & INCOMPAT_LARGE_DIR else 2


def iter_leaves(
    read_block: Callable[[int], bytes], root: IndexRoot, major_hash: int
) -> Iterator[int]:
    """Yields the logical blocks where a name with this hash may be, the first one first."""

    def walk(block: bytes, offset: int, levels: int) -> Iterator[int]:
        entries = parse_entries(block, offset)
        first = bisect_right(entries, major_hash, key=lambda entry: entry[0]) - 1
        for value, child in entries[max(first, 0) :]:
            if value > major_hash and value != major_hash | 1:
                return
            logical = child & _BLOCK_MASK
            if levels:
                yield from walk(read_block(logical), NODE_ENTRIES_OFFSET, levels - 1)
            else:
                yield logical

    yield from walk(read_block(0), ROOT_ENTRIES_OFFSET, root.levels)


def build_index(
    names: list[Name], own: int, parent: int, settings: HashSettings, shape: FolderShape
) -> list[bytes]:
    """Builds all blocks of an indexed folder: the root, the leaves, then the nodes.

    Args:
        names: what the folder holds besides ``.`` and ``..``.
        own: the folder's inode.
        parent: the inode of the folder above.
        settings: how names are hashed.
        shape: block size, types, checksums.

    Raises:
        UnsupportedError: more names than the index can hold.
    """
    leaves, hashes = _pack_leaves(names, settings, shape)
    pointers = [(value, 1 + number) for number, value in enumerate(hashes)]
    tail_entries = 0 if shape.own_seed is None else 1
    root_limit = (shape.block_bytes - ROOT_ENTRIES_OFFSET) // _ENTRY_BYTES - tail_entries
    node_limit = (shape.block_bytes - NODE_ENTRIES_OFFSET) // _ENTRY_BYTES - tail_entries
    nodes: list[bytes] = []
    levels = 0
    while len(pointers) > root_limit and levels + 1 < shape.most_levels:
        levels += 1
        above = []
        for start in range(0, len(pointers), node_limit):
            above.append((pointers[start][0], 1 + len(leaves) + len(nodes)))
            nodes.append(_build_node(pointers[start : start + node_limit], node_limit, shape))
        pointers = above
    if len(pointers) > root_limit:
        raise UnsupportedError(messages.FOLDER_TOO_LARGE_TO_CHANGE.format(names=len(names)))
    root = _build_root(own, parent, settings.version, levels, shape)
    _put_entries(root, ROOT_ENTRIES_OFFSET, pointers, root_limit, shape)
    return [bytes(root), *leaves, *nodes]


def _pack_leaves(
    names: list[Name], settings: HashSettings, shape: FolderShape
) -> tuple[list[bytes], list[int]]:
    """Fills leaves in the order of hashes; returns them with the first hash of each."""
    room = shape.block_bytes - (0 if shape.own_seed is None else TAIL_BYTES)
    values = hash_names([item.name for item in names], settings)
    hashed = sorted((*value, item) for value, item in zip(values, names, strict=True))
    groups: list[list[Name]] = [[]]
    hashes, used, last_major = [0], 0, -1
    for major, _minor, item in hashed:
        needed = entry_room(item.name)
        if groups[-1] and used + needed > room * 3 // 4:
            groups.append([])
            hashes.append(major | (1 if major == last_major else 0))
            used = 0
        groups[-1].append(item)
        used += needed
        last_major = major
    return [_build_leaf(group, room, shape) for group in groups], hashes


def _build_leaf(names: list[Name], room: int, shape: FolderShape) -> bytes:
    block = empty_block(shape.block_bytes, shape.own_seed is not None)
    position = 0
    for number, item in enumerate(names):
        length = entry_room(item.name) if number + 1 < len(names) else room - position
        code = item.type_code if shape.has_types else 0
        block[position : position + length] = pack_entry(
            item.inode, length, item.name, code, shape.block_bytes
        )
        position += length
    if shape.own_seed is not None:
        value = checksums.folder_block_checksum(shape.own_seed, bytes(block))
        block[-4:] = value.to_bytes(4, "little")
    return bytes(block)


def _build_root(own: int, parent: int, version: int, levels: int, shape: FolderShape) -> bytearray:
    code = ENTRY_TYPES[MODE_FOLDER] if shape.has_types else 0
    size = shape.block_bytes
    block = bytearray(pack_entry(own, 12, b".", code, size))
    block += pack_entry(parent, size - 12, b"..", code, size)
    struct.pack_into("<IBBBB", block, _INFO_OFFSET, 0, version, 8, levels, 0)
    return block


def _build_node(pointers: list[tuple[int, int]], limit: int, shape: FolderShape) -> bytes:
    block = empty_block(shape.block_bytes, with_tail=False)
    _put_entries(block, NODE_ENTRIES_OFFSET, pointers, limit, shape)
    return bytes(block)


def _put_entries(
    block: bytearray,
    offset: int,
    pointers: list[tuple[int, int]],
    limit: int,
    shape: FolderShape,
) -> None:
    for number, (value, logical) in enumerate(pointers):
        struct.pack_into("<II", block, offset + number * _ENTRY_BYTES, value, logical)
    struct.pack_into("<HH", block, offset, limit, len(pointers))
    if shape.own_seed is not None:
        value = checksums.index_block_checksum(shape.own_seed, bytes(block), offset)
        struct.pack_into("<II", block, offset + limit * _ENTRY_BYTES, 0, value)
