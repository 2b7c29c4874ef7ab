"""The checksums of ext4: what each covers, and with which seed.

Source: Linux 6.1 ``Documentation/filesystems/ext4/checksums.rst``. Those of folder blocks and
extent nodes begin with the *inode seed*, so that a block read from a wrong place does not pass.
"""

from __future__ import annotations

import struct

from zeroseal.blocks.checksums import crc16, crc32c
from zeroseal.filesystems.ext.layout import (
    EXTENT_BYTES,
    INODE_BASE_BYTES,
    ORPHAN_TAIL_BYTES,
    RO_GDT_CSUM,
    RO_METADATA_CSUM,
    TAIL_BYTES,
    GroupDescriptor,
    Inode,
    MmpBlock,
    Superblock,
    XattrBlockHeader,
)

START = 0xFFFFFFFF
_CHECKSUM_LO = Inode.offset_of("checksum_lo")
_CHECKSUM_HI = Inode.offset_of("checksum_hi")
_DESCRIPTOR_CHECKSUM = GroupDescriptor.offset_of("checksum")
_MMP_CHECKSUM = MmpBlock.offset_of("checksum")
_XATTR_CHECKSUM = XattrBlockHeader.offset_of("checksum")


def superblock_checksum(raw: bytes) -> int:
    """Of the superblock's 1024 bytes; the field itself comes last and is left out."""
    return crc32c(START, raw[: Superblock.offset_of("checksum")])


def descriptor_checksum(superblock: Superblock, seed: int, group: int, raw: bytes) -> int:
    """Of a group descriptor of 32 or 64 bytes: 16 bits, 0 where the features have none."""
    number = struct.pack("<I", group)
    before, after = raw[:_DESCRIPTOR_CHECKSUM], raw[_DESCRIPTOR_CHECKSUM + 2 :]
    if superblock.ro_compat & RO_METADATA_CSUM:
        return crc32c(crc32c(seed, number), before + b"\0\0" + after) & 0xFFFF
    if superblock.ro_compat & RO_GDT_CSUM:
        return crc16(0xFFFF, superblock.uuid + number + before + after)
    return 0


def inode_seed(seed: int, inode_no: int, generation: int) -> int:
    """Where the checksums of an inode, and of the blocks that only it owns, begin."""
    return crc32c(seed, struct.pack("<II", inode_no, generation))


def inode_checksum(own_seed: int, slot: bytes) -> int:
    """Of a whole inode slot; only the low 16 bits are kept by inodes of 128 bytes."""
    covered = bytearray(slot)
    covered[_CHECKSUM_LO : _CHECKSUM_LO + 2] = b"\0\0"
    if has_high_checksum(slot):
        covered[_CHECKSUM_HI : _CHECKSUM_HI + 2] = b"\0\0"
    return crc32c(own_seed, covered)


def has_high_checksum(slot: bytes | bytearray) -> bool:
    """Whether an inode slot keeps the upper 16 bits of its checksum too."""
    return len(slot) > INODE_BASE_BYTES and int.from_bytes(slot[128:130], "little") >= 4


def folder_block_checksum(own_seed: int, block: bytes) -> int:
    """Of a block of directory entries; its tail of 12 bytes is left out."""
    return crc32c(own_seed, block[:-TAIL_BYTES])


def index_block_checksum(own_seed: int, block: bytes, count_offset: int) -> int:
    """Of an htree block: the entries in use, then the tail behind the last possible entry."""
    limit, count = struct.unpack_from("<HH", block, count_offset)
    tail = count_offset + limit * 8
    covered = block[: count_offset + count * 8] + block[tail : tail + 4] + bytes(4)
    return crc32c(own_seed, covered)


def extent_block_checksum(own_seed: int, block: bytes) -> int:
    """Of an extent node that fills a block: all up to its tail."""
    max_entries = int.from_bytes(block[4:6], "little")
    return crc32c(own_seed, block[: EXTENT_BYTES + EXTENT_BYTES * max_entries])


def mmp_checksum(seed: int, block: bytes) -> int:
    """Of the block of multiple-mount protection."""
    return crc32c(seed, block[:_MMP_CHECKSUM])


def orphan_block_checksum(own_seed: int, block_no: int, block: bytes) -> int:
    """Of a block of the orphan file: its place, and the entries before its tail."""
    return crc32c(crc32c(own_seed, struct.pack("<Q", block_no)), block[:-ORPHAN_TAIL_BYTES])


def xattr_block_checksum(seed: int, block_no: int, block: bytes) -> int:
    """Of a block of extended attributes, which several inodes may share."""
    covered = block[:_XATTR_CHECKSUM] + bytes(4) + block[_XATTR_CHECKSUM + 4 :]
    return crc32c(crc32c(seed, struct.pack("<Q", block_no)), covered)
