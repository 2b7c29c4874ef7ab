"""Folders as they lie on the disk: short ones in the inode, then one block, then leaves and nodes.

Names always lie in data blocks in the order in which they were made; leaves, which sort their hash
values, only say where. So whoever lists a folder reads the data alone, and whoever looks a name up
goes by its hash. Source: ``xfs_da_format.h``.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from typing import NamedTuple

from zeroseal.filesystems.xfs import layout
from zeroseal.filesystems.xfs.forks import Mapping, Run
from zeroseal.filesystems.xfs.volume import XfsVolume, passes
from zeroseal.messages import xfs as messages

_MOST_FOLDER_BYTES = 4 << 30
_LEAF = struct.Struct(">II")


class Name(NamedTuple):
    """An entry: the name, the inode, and its kind as folders write it (0 where they do not)."""

    name: bytes
    inode: int
    kind: int


def hash_name(name: bytes) -> int:
    """The hash value of a name (``xfs_da_hashname``)."""
    value, place = 0, 0
    while len(name) - place >= 4:
        one, two, three, four = name[place : place + 4]
        value = (
            one << 21 ^ two << 14 ^ three << 7 ^ four ^ ((value << 28 | value >> 4) & 0xFFFFFFFF)
        )
        place += 4
    rest = name[place:]
    if len(rest) == 3:
        turned = (value << 21 | value >> 11) & 0xFFFFFFFF
        return rest[0] << 14 ^ rest[1] << 7 ^ rest[2] ^ turned
    if len(rest) == 2:
        return rest[0] << 7 ^ rest[1] ^ ((value << 14 | value >> 18) & 0xFFFFFFFF)
    if len(rest) == 1:
        return rest[0] ^ ((value << 7 | value >> 25) & 0xFFFFFFFF)
    return value


def entry_bytes(volume: XfsVolume, name_length: int) -> int:
    """How much a name takes in a data block."""
    size = 8 + 1 + name_length + volume.has_types + 2
    return -(-size // layout.NAME_ALIGNMENT) * layout.NAME_ALIGNMENT


# -- short folders


def parse_short(volume: XfsVolume, number: int, fork: bytes, size: int) -> tuple[int, list[Name]]:
    """(parent, entries) of a folder that lies in its inode.

    Raises:
        DamagedError: it contradicts itself.
    """
    if size > len(fork) or size < 6:
        raise volume.damaged(messages.FOLDER_DOES_NOT_FIT_INTO_INODE.format(number=number))
    count, wide = fork[0], fork[1]
    inode_bytes = 8 if wide else 4
    parent = int.from_bytes(fork[2 : 2 + inode_bytes], "big")
    place, names = 2 + inode_bytes, []
    for _ in range(count):
        if place + 3 > size:
            raise volume.damaged(messages.FOLDER_TRUNCATED.format(number=number))
        length = fork[place]
        start = place + 3
        end = start + length + volume.has_types + inode_bytes
        if end > size or not length:
            raise volume.damaged(messages.FOLDER_TRUNCATED.format(number=number))
        kind = fork[start + length] if volume.has_types else 0
        inode = int.from_bytes(fork[end - inode_bytes : end], "big")
        names.append(Name(fork[start : start + length], inode, kind))
        place = end
    return parent, names


# -- folders of blocks


class FolderBlock(NamedTuple):
    """A block of a folder: its number among the folder's blocks, and its bytes."""

    logical: int
    content: bytes


class FolderBlocks:
    """The blocks of one folder, by where they lie in the file.

    Raises:
        DamagedError: it maps more than a folder can have.
    """

    def __init__(self, volume: XfsVolume, number: int, mapping: Mapping) -> None:
        self._volume, self._number = volume, number
        self._runs = mapping.runs
        self.leaf_start = layout.SPACE_BYTES // volume.block_bytes
        self.free_start = 2 * self.leaf_start
        total = sum(run.blocks for run in self._runs) * volume.block_bytes
        if total > _MOST_FOLDER_BYTES:
            raise volume.damaged(messages.FOLDER_IMPOSSIBLY_LARGE.format(number=number))

    def numbers(self, start: int, end: int) -> list[int]:
        """First file blocks of the folder's blocks within a range of the file."""
        step = self._volume.folder_blocks
        found: list[int] = []
        for run in self._runs:
            if start <= run.logical < end:
                first = -(-run.logical // step) * step
                found += range(first, run.logical + run.blocks, step)
        return found

    def data_numbers(self) -> list[int]:
        """First file blocks of the data blocks."""
        return self.numbers(0, self.leaf_start)

    def fsblocks(self, logical: int) -> list[int]:
        """Where a folder block lies: one file system block after the other.

        Raises:
            DamagedError: a part of it is not mapped.
        """
        found = []
        for wanted in range(logical, logical + self._volume.folder_blocks):
            run = next((r for r in self._runs if r.logical <= wanted < r.logical + r.blocks), None)
            if run is None:
                raise self._volume.damaged(
                    messages.BLOCK_OF_FOLDER_MISSING.format(number=self._number)
                )
            found.append(run.fsblock + wanted - run.logical)
        return found

    def read(self, logical: int) -> bytes:
        """A folder block."""
        volume = self._volume
        run = self._run_with(logical)
        if run and logical + volume.folder_blocks <= run.logical + run.blocks:
            return volume.read_block(run.fsblock + logical - run.logical, volume.folder_blocks)
        return b"".join(volume.read_block(fsblock) for fsblock in self.fsblocks(logical))

    def _run_with(self, logical: int) -> Run | None:
        return next((r for r in self._runs if r.logical <= logical < r.logical + r.blocks), None)


def check_data(volume: XfsVolume, number: int, block: bytes) -> bool:
    """Whether a data block holds its own leaf (a folder of one block).

    Raises:
        DamagedError: it is none, fails its checksum, or belongs to another folder.
    """
    magic = block[:4]
    is_single = magic == layout.BLOCK_MAGIC[volume.has_crc]
    if not is_single and magic != layout.DATA_MAGIC[volume.has_crc]:
        raise volume.damaged(messages.BLOCK_OF_FOLDER_NOT_FOLDER_BLOCK.format(number=number))
    if volume.has_crc and not (
        passes(block, layout.DATA_CRC) and int.from_bytes(block[40:48], "big") == number
    ):
        raise volume.damaged(messages.BLOCK_OF_FOLDER_FAILS_CHECKSUM.format(number=number))
    return is_single


def data_end(volume: XfsVolume, number: int, block: bytes, is_single: bool) -> int:
    """Where the names of a data block end."""
    if not is_single:
        return len(block)
    count = int.from_bytes(block[-8:-4], "big")
    end = len(block) - 8 - 8 * count
    if end < layout.DATA_HEADER_BYTES[volume.has_crc]:
        raise volume.damaged(messages.LEAF_OF_FOLDER_LARGER_THAN_BLOCK.format(number=number))
    return end


def iter_regions(volume: XfsVolume, number: int, block: bytes) -> Iterator[tuple[int, int, bool]]:
    """Yields (offset, length, whether it is a name) of all regions of a data block, in order.

    Raises:
        DamagedError: they do not fill the block.
    """
    is_single = check_data(volume, number, block)
    place, end = (
        layout.DATA_HEADER_BYTES[volume.has_crc],
        data_end(volume, number, block, is_single),
    )
    while place < end:
        if int.from_bytes(block[place : place + 2], "big") == layout.FREE_TAG:
            length, is_name = int.from_bytes(block[place + 2 : place + 4], "big"), False
        else:
            length, is_name = entry_bytes(volume, block[place + 8] if place + 8 < end else 0), True
        if length < 8 or length & 7 or place + length > end:
            raise volume.damaged(messages.BLOCK_OF_FOLDER_INCONSISTENT.format(number=number))
        yield place, length, is_name
        place += length


def name_at(volume: XfsVolume, block: bytes, offset: int) -> Name:
    """The entry at an offset of a data block."""
    length = block[offset + 8]
    start = offset + 9
    kind = block[start + length] if volume.has_types else 0
    inode = int.from_bytes(block[offset : offset + 8], "big")
    return Name(block[start : start + length], inode, kind)


def iter_names(volume: XfsVolume, number: int, block: bytes) -> Iterator[Name]:
    """Yields the entries of a data block, ``.`` and ``..`` too."""
    for offset, _length, is_name in iter_regions(volume, number, block):
        if is_name:
            yield name_at(volume, block, offset)


# -- looking up by hash


def find_addresses(
    volume: XfsVolume, number: int, blocks: FolderBlocks, value: int
) -> Iterator[int]:
    """Yields the byte offsets, in the folder's data, of entries whose name has a hash value.

    Raises:
        DamagedError: its leaves or nodes contradict themselves.
    """
    data = blocks.data_numbers()
    if len(data) == 1 and not blocks.numbers(blocks.leaf_start, blocks.free_start):
        block = blocks.read(data[0])
        check_data(volume, number, block)
        end = data_end(volume, number, block, is_single=True)
        yield from _matching(block[end:-8], value)
        return
    leaf = _descend(volume, number, blocks, value)
    for _ in range(len(data) + 64):
        entries, forward = read_leaf(volume, number, blocks.read(leaf))
        yield from _matching(entries, value)
        last = int.from_bytes(entries[-8:-4], "big") if entries else value
        if last > value or not forward:
            return
        leaf = forward
    raise volume.damaged(messages.LEAVES_OF_FOLDER_CONTAIN_LOOP.format(number=number))


def _matching(entries: bytes, value: int) -> Iterator[int]:
    wanted = value.to_bytes(4, "big")
    place = entries.find(wanted)
    while place >= 0:
        if place % 8 == 0:
            address = int.from_bytes(entries[place + 4 : place + 8], "big")
            if address:
                yield address * layout.NAME_ALIGNMENT
        place = entries.find(wanted, place + 1)


def _descend(volume: XfsVolume, number: int, blocks: FolderBlocks, value: int) -> int:
    place = blocks.leaf_start
    for _ in range(layout.MAX_NODE_DEPTH + 1):
        block = blocks.read(place)
        check_leaf(volume, number, block)
        if int.from_bytes(block[8:10], "big") != layout.NODE_MAGIC[volume.has_crc]:
            return place
        entries = node_entries(volume, number, block)
        place = next((before for last, before in entries if last >= value), entries[-1][1])
    raise volume.damaged(messages.FOLDER_TOO_MANY_LEVELS.format(number=number))


def check_leaf(volume: XfsVolume, number: int, block: bytes) -> None:
    """Raises DamagedError where a leaf or node fails its checksum or is another inode's."""
    if volume.has_crc and not (
        passes(block, layout.DA_CRC) and int.from_bytes(block[48:56], "big") == number
    ):
        raise volume.damaged(messages.LEAF_OF_INODE_FAILS_CHECKSUM.format(number=number))


def node_entries(volume: XfsVolume, number: int, block: bytes) -> list[tuple[int, int]]:
    """(last hash value, file block) of each child of a node."""
    start = layout.LEAF_HEADER_BYTES[volume.has_crc]
    at = 56 if volume.has_crc else 12
    count = int.from_bytes(block[at : at + 2], "big")
    if not count or start + count * 8 > len(block):
        raise volume.damaged(
            messages.NODE_OF_INODE_HOLDS_ENTRIES.format(number=number, count=count)
        )
    return list(_LEAF.iter_unpack(block[start : start + count * 8]))


def read_leaf(volume: XfsVolume, number: int, block: bytes) -> tuple[bytes, int]:
    """(entries of a leaf, 8 bytes each; the next leaf's file block, 0 for none).

    Raises:
        DamagedError: it is no leaf.
    """
    check_leaf(volume, number, block)
    magic = int.from_bytes(block[8:10], "big")
    if magic not in (layout.LEAF1_MAGIC[volume.has_crc], layout.LEAFN_MAGIC[volume.has_crc]):
        raise volume.damaged(messages.LEAF_OF_FOLDER_NOT_LEAF_BLOCK.format(number=number))
    start = layout.LEAF_HEADER_BYTES[volume.has_crc]
    at = 56 if volume.has_crc else 12
    count = int.from_bytes(block[at : at + 2], "big")
    if start + count * 8 > len(block):
        raise volume.damaged(messages.LEAF_OF_FOLDER_TOO_MANY_ENTRIES.format(number=number))
    return block[start : start + count * 8], int.from_bytes(block[:4], "big")
