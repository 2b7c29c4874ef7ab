"""Extended attributes: behind the inode's fields, and in a block that inodes may share.

An area holds entries from its front and values from its end. A large value may lie in an inode of
its own (*ea_inode*), which counts how many attributes refer to it. Source: Linux 6.1
``Documentation/filesystems/ext4/attributes.rst`` and ``fs/ext4/xattr.c``.
"""

from __future__ import annotations

from typing import NamedTuple

from zeroseal.filesystems.ext import checksums
from zeroseal.filesystems.ext.layout import (
    INCOMPAT_EA_INODE,
    INODE_BASE_BYTES,
    INODE_EA_INODE,
    XATTR_MAGIC,
    XATTR_PREFIXES,
    Inode,
    XattrBlockHeader,
    XattrEntry,
)
from zeroseal.filesystems.ext.mapping import read_content, read_mapping
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.messages import ext as messages

_MAGIC = XATTR_MAGIC.to_bytes(4, "little")
_MAX_VALUE_BYTES = 1 << 24  # EXT4_XATTR_SIZE_MAX
_SYSTEM = 7


class Attribute(NamedTuple):
    """One attribute as it lies there; ``value`` is empty where ``value_inode`` holds it."""

    name_index: int
    name: bytes
    value: bytes
    value_inode: int
    value_bytes: int
    hash: int
    value_offset: int = 0  # in its area, as it was read

    @property
    def full_name(self) -> bytes:
        """Such as ``user.comment``."""
        return XATTR_PREFIXES.get(self.name_index, b"unknown.") + self.name

    @property
    def is_inline_data(self) -> bool:
        """Whether it is no attribute, but the second part of a file that lies in its inode."""
        return self.name_index == _SYSTEM and self.name == b"data"


def read_attributes(volume: ExtVolume, inode_no: int, inode: Inode) -> dict[bytes, bytes]:
    """All extended attributes of an inode, by full name.

    Raises:
        DamagedError: an entry leaves its area, or the block fails its checksum.
    """
    return {
        item.full_name: _read_value(volume, item)
        for item in all_attributes(volume, inode_no, inode)
        if not item.is_inline_data
    }


def read_inline_data(volume: ExtVolume, inode_no: int, inode: Inode) -> tuple[bytes, bytes]:
    """The two parts of what lies in the inode itself: its 60 bytes, and the rest."""
    rest = [item for item in inode_attributes(volume, inode_no, inode) if item.is_inline_data]
    return inode.block, rest[0].value if rest else b""


def inode_attributes(volume: ExtVolume, inode_no: int, inode: Inode) -> list[Attribute]:
    """The attributes behind the inode's own fields."""
    if volume.inode_bytes <= INODE_BASE_BYTES:
        return []
    area = volume.read_slot(inode_no)[INODE_BASE_BYTES + inode.extra_isize :]
    if area[:4] != _MAGIC:
        return []
    return _parse_entries(volume, inode_no, area[4:], 0)


def block_attributes(volume: ExtVolume, inode_no: int, block_no: int) -> list[Attribute]:
    """The attributes in a block."""
    block = read_xattr_block(volume, block_no)
    return _parse_entries(volume, inode_no, block, XattrBlockHeader.SIZE)


def all_attributes(volume: ExtVolume, inode_no: int, inode: Inode) -> list[Attribute]:
    """The attributes behind the inode's fields and those in its block."""
    found = inode_attributes(volume, inode_no, inode)
    if inode.xattr_block:
        found = found + block_attributes(volume, inode_no, inode.xattr_block)
    return found


def count_values(volume: ExtVolume, inode_no: int, inode: Inode) -> tuple[int, int]:
    """(number, blocks) of the inodes that hold values for this one, and are charged to it.

    Those blocks are part of the inode's own count of sectors (``fs/ext4/xattr.c``,
    ``ext4_xattr_inode_alloc_quota``), also where other inodes share the value.
    """
    if not volume.superblock.incompat & INCOMPAT_EA_INODE:
        return 0, 0
    values = [item for item in all_attributes(volume, inode_no, inode) if item.value_inode]
    cluster_bytes = volume.block_bytes * volume.cluster_blocks
    clusters = sum(-(-item.value_bytes // cluster_bytes) for item in values)
    return len(values), clusters * volume.cluster_blocks


def read_xattr_block(volume: ExtVolume, block_no: int) -> bytes:
    """Reads and verifies a block of attributes."""
    block = volume.read_block(block_no)
    header = XattrBlockHeader.parse(block[: XattrBlockHeader.SIZE])
    if header.magic != XATTR_MAGIC or header.block_count != 1:
        raise volume.damaged(messages.NOT_AN_XATTR_BLOCK.format(block_no=block_no))
    if volume.has_checksums and header.checksum != checksums.xattr_block_checksum(
        volume.checksum_seed, block_no, block
    ):
        raise volume.damaged(messages.XATTR_BLOCK_FAILS_CHECKSUM.format(block_no=block_no))
    return block


def write_inode_attributes(
    volume: ExtVolume, inode_no: int, inode: Inode, attributes: list[Attribute]
) -> bool:
    """Lays the attributes behind an inode's fields anew; False where they have no room there."""
    start = INODE_BASE_BYTES + inode.extra_isize
    room = volume.inode_bytes - start - len(_MAGIC)
    area = _build_area(attributes, room) if room >= 4 else None
    if area is None:
        return not attributes
    slot = bytearray(volume.read_slot(inode_no))
    slot[start:] = (_MAGIC if attributes else bytes(4)) + area
    content = volume.with_inode_checksum(inode_no, inode, slot)
    volume.store.write(volume.inode_offset(inode_no), content)
    return True


def _build_area(attributes: list[Attribute], room: int) -> bytes | None:
    """Entries from the front, values from the end; None where they meet."""
    entries, values = b"", b""
    for item in attributes:
        padded = item.value.ljust((len(item.value) + 3) // 4 * 4, b"\0")
        values = padded + values
        entry = XattrEntry.blank(
            name_bytes=len(item.name),
            name_index=item.name_index,
            value_offset=room - len(values) if item.value else 0,
            value_inode=item.value_inode,
            value_bytes=item.value_bytes,
            hash=item.hash,
        )
        entries += (entry.build() + item.name).ljust(
            XattrEntry.SIZE + (len(item.name) + 3) // 4 * 4, b"\0"
        )
    if len(entries) + 4 + len(values) > room:
        return None
    return entries + bytes(room - len(entries) - len(values)) + values


def _read_value(volume: ExtVolume, item: Attribute) -> bytes:
    if not item.value_inode:
        return item.value
    inode = volume.read_inode(item.value_inode)
    if not inode.flags & INODE_EA_INODE or not item.value_bytes <= inode.size <= _MAX_VALUE_BYTES:
        raise volume.damaged(messages.NOT_A_VALUE_INODE.format(value_inode=item.value_inode))
    mapping = read_mapping(volume, item.value_inode, inode)
    return b"".join(read_content(volume, mapping, item.value_bytes))


def _parse_entries(volume: ExtVolume, inode_no: int, area: bytes, start: int) -> list[Attribute]:
    """Parses entries from ``start``; values are counted from the beginning of ``area``."""
    found = []
    position = start
    while area[position : position + 4] not in (bytes(4), b""):
        fixed = area[position : position + XattrEntry.SIZE]
        if len(fixed) < XattrEntry.SIZE:
            raise volume.damaged(messages.XATTR_TRUNCATED.format(node=inode_no))
        entry = XattrEntry.parse(fixed)
        name_start = position + XattrEntry.SIZE
        name = area[name_start : name_start + entry.name_bytes]
        value_end = entry.value_offset + (0 if entry.value_inode else entry.value_bytes)
        if len(name) < entry.name_bytes or value_end > len(area):
            raise volume.damaged(messages.XATTR_OUTSIDE_AREA.format(inode_no=inode_no))
        value = b"" if entry.value_inode else area[entry.value_offset : value_end]
        found.append(
            Attribute(
                name_index=entry.name_index,
                name=name,
                value=value,
                value_inode=entry.value_inode,
                value_bytes=entry.value_bytes,
                hash=entry.hash,
                value_offset=entry.value_offset,
            )
        )
        position = name_start + (entry.name_bytes + 3) // 4 * 4
    return found
