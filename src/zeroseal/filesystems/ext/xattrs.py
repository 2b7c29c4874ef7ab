"""Extended attributes: behind the inode's fields, and in a block that inodes may share."""

from __future__ import annotations

from zeroseal.filesystems.ext import checksums
from zeroseal.filesystems.ext.layout import (
    INODE_BASE_BYTES,
    XATTR_MAGIC,
    XATTR_PREFIXES,
    Inode,
    XattrBlockHeader,
    XattrEntry,
)
from zeroseal.filesystems.ext.volume import ExtVolume


def read_attributes(volume: ExtVolume, inode_no: int, inode: Inode) -> dict[bytes, bytes]:
    """All extended attributes of an inode, by full name.

    Raises:
        DamagedError: an entry leaves its area, or the block fails its checksum.
    """
    found: dict[bytes, bytes] = {}
    if volume.inode_bytes > INODE_BASE_BYTES:
        area = volume.read_slot(inode_no)[INODE_BASE_BYTES + inode.extra_isize :]
        if area[:4] == XATTR_MAGIC.to_bytes(4, "little"):
            found |= _parse_entries(volume, inode_no, area[4:], 0)
    if inode.xattr_block:
        block = read_xattr_block(volume, inode.xattr_block)
        found |= _parse_entries(volume, inode_no, block, XattrBlockHeader.SIZE)
    return found


def read_xattr_block(volume: ExtVolume, block_no: int) -> bytes:
    """Reads and verifies a block of attributes."""
    block = volume.read_block(block_no)
    header = XattrBlockHeader.parse(block[: XattrBlockHeader.SIZE])
    if header.magic != XATTR_MAGIC or header.block_count != 1:
        raise volume.damaged(f"block {block_no} should hold extended attributes")
    if volume.has_checksums and header.checksum != checksums.xattr_block_checksum(
        volume.checksum_seed, block_no, block
    ):
        raise volume.damaged(f"block {block_no} of extended attributes fails its checksum")
    return block


def _parse_entries(volume: ExtVolume, inode_no: int, area: bytes, start: int) -> dict[bytes, bytes]:
    """Parses entries from ``start``; values are counted from the beginning of ``area``."""
    found: dict[bytes, bytes] = {}
    position = start
    while area[position : position + 4] not in (bytes(4), b""):
        fixed = area[position : position + XattrEntry.SIZE]
        if len(fixed) < XattrEntry.SIZE:
            raise volume.damaged(f"an extended attribute of inode {inode_no} is cut short")
        entry = XattrEntry.parse(fixed)
        name_start = position + XattrEntry.SIZE
        name = area[name_start : name_start + entry.name_bytes]
        value_end = entry.value_offset + entry.value_bytes
        if entry.value_inode or len(name) < entry.name_bytes or value_end > len(area):
            raise volume.damaged(f"an extended attribute of inode {inode_no} leaves its area")
        full_name = XATTR_PREFIXES.get(entry.name_index, b"unknown.") + name
        found[full_name] = area[entry.value_offset : value_end]
        position = name_start + (entry.name_bytes + 3) // 4 * 4
    return found
