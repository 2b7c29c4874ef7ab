"""What single structures look like without their slack: bytes in, bytes out."""

from __future__ import annotations

import struct

from zeroseal.filesystems.ext import layout
from zeroseal.filesystems.ext.checksums import (
    extent_block_checksum,
    folder_block_checksum,
    mmp_checksum,
    superblock_checksum,
)
from zeroseal.filesystems.ext.folders import has_tail, iter_entries
from zeroseal.filesystems.ext.index import parse_entries
from zeroseal.filesystems.ext.layout import MmpBlock, Superblock


def clean_names(content: bytes, has_types: bool) -> bytes:
    """A part of a folder with zeros behind its names; a checksum is left as it was."""
    clean = bytearray(content)
    end = len(content) - (layout.TAIL_BYTES if has_tail(content) else 0)
    for entry in iter_entries(content, has_types):
        if entry.offset >= end:
            break
        used = layout.ENTRY_HEADER_BYTES + (len(entry.name) if entry.inode else 0)
        stop = entry.offset + entry.length
        clean[entry.offset + used : stop] = bytes(stop - entry.offset - used)
        if not entry.inode:
            clean[entry.offset + 6 : entry.offset + 8] = b"\0\0"  # name length and type
    return bytes(clean)


def clean_leaf(content: bytes, has_types: bool, own_seed: int | None) -> bytes:
    """A block of a folder; ``own_seed`` is None where blocks have no checksum."""
    clean = clean_names(content, has_types)
    if own_seed is not None and has_tail(content) and clean != content:
        clean = clean[:-4] + folder_block_checksum(own_seed, clean).to_bytes(4, "little")
    return clean


def clean_index(content: bytes, offset: int) -> bytes:
    """A block of a folder's index; its checksum covers the entries in use only."""
    limit, count = struct.unpack_from("<HH", content, offset)
    start, end = offset + count * 8, offset + limit * 8
    parse_entries(content, offset)  # bounds both
    return content[:start] + bytes(end - start) + content[end:]


def clean_extent_node(content: bytes, own_seed: int | None) -> bytes:
    """A node of an extent tree that fills a block."""
    entries, most = struct.unpack_from("<HH", content, 2)
    start = layout.EXTENT_BYTES * (1 + entries)
    tail = layout.EXTENT_BYTES * (1 + most)
    clean = content[:start] + bytes(len(content) - start)
    if own_seed is not None and len(content) >= tail + 4:
        value = extent_block_checksum(own_seed, clean)
        clean = clean[:tail] + value.to_bytes(4, "little") + clean[tail + 4 :]
    return clean


def clean_superblock(content: bytes) -> bytes:
    """The superblock without the folder that the volume was last mounted on."""
    superblock = Superblock.parse(content)
    if not any(superblock.last_mounted):
        return content
    superblock.last_mounted = bytes(64)
    if superblock.ro_compat & layout.RO_METADATA_CSUM:
        superblock.checksum = superblock_checksum(superblock.build())
    return superblock.build()


def clean_mmp(content: bytes, seed: int | None) -> bytes:
    """The block of multiple-mount protection without the names of who mounted it last."""
    mmp = MmpBlock.parse(content[: MmpBlock.SIZE])
    if not any(mmp.node_name + mmp.device_name):
        return content
    mmp.node_name, mmp.device_name = bytes(64), bytes(32)
    if seed is not None:
        mmp.checksum = mmp_checksum(seed, mmp.build() + content[MmpBlock.SIZE :])
    return mmp.build() + content[MmpBlock.SIZE :]
