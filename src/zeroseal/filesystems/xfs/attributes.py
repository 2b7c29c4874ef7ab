"""Extended attributes: short ones in the inode, then leaves, under nodes where there are many.

Small values lie beside their names; large ones in blocks of their own (*remote*), each with a
header on volumes with checksums. Source: ``xfs_da_format.h``.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from zeroseal.filesystems.xfs import layout
from zeroseal.filesystems.xfs.folders import FolderBlock, check_leaf, node_entries
from zeroseal.filesystems.xfs.forks import Mapping, attr_fork, read_mapping
from zeroseal.filesystems.xfs.layout import RemoteHeader
from zeroseal.filesystems.xfs.volume import Slot, XfsVolume, passes
from zeroseal.messages import xfs as messages

_SHORT_HEADER = 4
_MOST_VALUE_BYTES = 64 << 10


class Attribute(NamedTuple):
    """One attribute: its name without prefix, ``ATTR_`` flags, and its value.

    ``remote`` is (first file block, blocks) of a value that lies in blocks of its own.
    """

    name: bytes
    flags: int
    value: bytes
    remote: tuple[int, int] | None = None

    @property
    def full_name(self) -> bytes:
        """With its prefix, as programs ask for it."""
        space = self.flags & (layout.ATTR_ROOT | layout.ATTR_SECURE)
        return layout.ATTR_PREFIXES.get(space, b"trusted.") + self.name


def read_attributes(volume: XfsVolume, slot: Slot) -> list[Attribute]:
    """All attributes of an inode.

    Raises:
        DamagedError: they contradict themselves.
    """
    if not slot.inode.fork_offset:
        return []
    if slot.inode.attr_form == layout.FORM_LOCAL:
        return list(_iter_short(volume, slot.number, attr_fork(volume, slot)))
    mapping = read_mapping(volume, slot, attributes=True)
    found: list[Attribute] = []
    for block in iter_leaves(volume, slot.number, mapping):
        found += _read_leaf(volume, slot.number, block.content, mapping)
    return found


def _iter_short(volume: XfsVolume, number: int, fork: bytes) -> Iterator[Attribute]:
    size, count = int.from_bytes(fork[:2], "big"), fork[2] if len(fork) > 2 else 0
    place = _SHORT_HEADER
    if size > len(fork):
        raise volume.damaged(messages.ATTRIBUTES_DO_NOT_FIT_INODE.format(number=number))
    for _ in range(count):
        if place + 3 > size:
            raise volume.damaged(messages.ATTRIBUTES_TRUNCATED.format(number=number))
        name_length, value_length, flags = fork[place : place + 3]
        middle = place + 3 + name_length
        end = middle + value_length
        if end > size:
            raise volume.damaged(messages.ATTRIBUTES_TRUNCATED.format(number=number))
        yield Attribute(fork[place + 3 : middle], flags, fork[middle:end])
        place = end


def iter_leaves(volume: XfsVolume, number: int, mapping: Mapping) -> Iterator[FolderBlock]:
    """Yields the leaves in order, by following the leftmost way down and then to the right.

    Raises:
        DamagedError: the tree contradicts itself.
    """
    if not mapping.runs:
        return
    place, seen = 0, 0
    for _ in range(layout.MAX_NODE_DEPTH + 1):
        block = read_block(volume, number, mapping, place)
        if int.from_bytes(block[8:10], "big") != layout.NODE_MAGIC[volume.has_crc]:
            break
        check_leaf(volume, number, block)
        place = node_entries(volume, number, block)[0][1]
    total = sum(run.blocks for run in mapping.runs)
    while True:
        block = read_block(volume, number, mapping, place)
        check_leaf(volume, number, block)
        if int.from_bytes(block[8:10], "big") != layout.ATTR_LEAF_MAGIC[volume.has_crc]:
            raise volume.damaged(messages.NOT_AN_ATTRIBUTE_BLOCK.format(number=number))
        yield FolderBlock(place, block)
        place, seen = int.from_bytes(block[:4], "big"), seen + 1
        if not place:
            return
        if seen > total:
            raise volume.damaged(messages.ATTRIBUTES_CONTAIN_LOOP.format(number=number))


def read_block(volume: XfsVolume, number: int, mapping: Mapping, logical: int) -> bytes:
    """A block of the attribute fork, by its number in it."""
    for run in mapping.runs:
        if run.logical <= logical < run.logical + run.blocks:
            return volume.read_block(run.fsblock + logical - run.logical)
    raise volume.damaged(messages.ATTRIBUTE_BLOCK_MISSING.format(number=number))


class LeafEntry(NamedTuple):
    """An entry of a leaf: where its name lies, and whether its value lies beside it."""

    offset: int
    flags: int
    name_length: int
    value_length: int
    value_block: int

    @property
    def is_local(self) -> bool:
        """Whether the value lies behind the name."""
        return bool(self.flags & layout.ATTR_LOCAL)

    @property
    def name_offset(self) -> int:
        """Where the name begins."""
        return self.offset + (3 if self.is_local else 9)

    @property
    def end(self) -> int:
        """Where what belongs to it ends, without its padding."""
        return self.name_offset + self.name_length + (self.value_length if self.is_local else 0)


def leaf_entries(volume: XfsVolume, number: int, block: bytes) -> list[LeafEntry]:
    """The entries of a leaf, in the order of their hash values."""
    at = 56 if volume.has_crc else 12
    start = layout.ATTR_HEADER_BYTES[volume.has_crc]
    count = int.from_bytes(block[at : at + 2], "big")
    found = []
    for place in range(start, start + count * 8, 8):
        offset = int.from_bytes(block[place + 4 : place + 6], "big")
        flags = block[place + 6] if place + 8 <= len(block) else 0
        if offset < start + count * 8 or offset + (3 if flags & 1 else 9) > len(block):
            raise volume.damaged(messages.ATTRIBUTE_LEAF_INCONSISTENT.format(number=number))
        if flags & layout.ATTR_LOCAL:
            length = int.from_bytes(block[offset : offset + 2], "big")
            entry = LeafEntry(offset, flags, block[offset + 2], length, 0)
        else:
            value_block = int.from_bytes(block[offset : offset + 4], "big")
            length = int.from_bytes(block[offset + 4 : offset + 8], "big")
            entry = LeafEntry(offset, flags, block[offset + 8], length, value_block)
        if entry.end > len(block) or length > _MOST_VALUE_BYTES:
            raise volume.damaged(messages.ATTRIBUTE_DOES_NOT_FIT_LEAF.format(number=number))
        found.append(entry)
    return found


def _read_leaf(
    volume: XfsVolume, number: int, block: bytes, mapping: Mapping
) -> Iterator[Attribute]:
    for entry in leaf_entries(volume, number, block):
        name = block[entry.name_offset : entry.name_offset + entry.name_length]
        if entry.is_local:
            value = block[entry.name_offset + entry.name_length : entry.end]
            yield Attribute(name, entry.flags, value)
        elif not entry.flags & layout.ATTR_INCOMPLETE:
            blocks = remote_blocks(volume, entry.value_length)
            value = b"".join(
                remote_part(volume, number, read_block(volume, number, mapping, logical))
                for logical in range(entry.value_block, entry.value_block + blocks)
            )
            place = (entry.value_block, blocks)
            yield Attribute(name, entry.flags, value[: entry.value_length], place)


def remote_blocks(volume: XfsVolume, length: int) -> int:
    """How many blocks a remote value takes."""
    header = layout.REMOTE_HEADER_BYTES if volume.has_crc else 0
    return -(-length // (volume.block_bytes - header))


def remote_part(volume: XfsVolume, number: int, block: bytes) -> bytes:
    """What a block holds of a remote value."""
    if not volume.has_crc:
        return block
    header = RemoteHeader.parse(block[: RemoteHeader.SIZE])
    sound = header.magic == layout.REMOTE_MAGIC and header.owner == number
    if not sound or not passes(block, layout.REMOTE_CRC):
        raise volume.damaged(messages.ATTRIBUTE_VALUE_FAILS_CHECKSUM.format(number=number))
    return block[RemoteHeader.SIZE : RemoteHeader.SIZE + header.length]
