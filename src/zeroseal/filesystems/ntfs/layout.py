"""The on-disk records of NTFS 3.0 and 3.1, and nothing else.

Source of all facts: ``ntfs-3g/layout.h`` and ``logfile.h`` of ntfs-3g 2022.10. Numbers are
little-endian.
"""

from __future__ import annotations

import struct

from zeroseal.blocks.records import Record, at, record

SOURCE = "ntfs-3g/layout.h"
OEM_ID = b"NTFS    "
FIXUP_STRIDE = 512  # update sequences protect this many bytes each, whatever the sector's size

# records of the master file table whose numbers are fixed
(
    MFT,
    MIRROR,
    LOG_FILE,
    VOLUME,
    ATTR_DEF,
    ROOT,
    BITMAP,
    BOOT,
    BAD_CLUSTERS,
    SECURE,
    UPCASE,
    EXTEND,
) = range(12)
FIRST_RESERVED_RECORD = 12
FIRST_USER_RECORD = 24  # 12 to 23 are kept for the file system itself
MFT_RESERVED_RECORD = 15  # kept for the first extension of the table's own record

FILE_MAGIC, INDEX_MAGIC = b"FILE", b"INDX"
IN_USE, IS_FOLDER, IS_SYSTEM, IS_VIEW = 1, 2, 4, 8

REFERENCE_MASK = (1 << 48) - 1

# types of attributes
STANDARD_INFORMATION = 0x10
ATTRIBUTE_LIST = 0x20
FILE_NAME = 0x30
OBJECT_ID = 0x40
SECURITY_DESCRIPTOR = 0x50
VOLUME_NAME = 0x60
VOLUME_INFORMATION = 0x70
DATA = 0x80
INDEX_ROOT = 0x90
INDEX_ALLOCATION = 0xA0
BITMAP_ATTRIBUTE = 0xB0
REPARSE_POINT = 0xC0
EA_INFORMATION = 0xD0
EA = 0xE0
LOGGED_STREAM = 0x100
END = 0xFFFFFFFF

TYPE_NAMES = {
    STANDARD_INFORMATION: "$STANDARD_INFORMATION",
    ATTRIBUTE_LIST: "$ATTRIBUTE_LIST",
    FILE_NAME: "$FILE_NAME",
    OBJECT_ID: "$OBJECT_ID",
    SECURITY_DESCRIPTOR: "$SECURITY_DESCRIPTOR",
    VOLUME_NAME: "$VOLUME_NAME",
    VOLUME_INFORMATION: "$VOLUME_INFORMATION",
    DATA: "$DATA",
    INDEX_ROOT: "$INDEX_ROOT",
    INDEX_ALLOCATION: "$INDEX_ALLOCATION",
    BITMAP_ATTRIBUTE: "$BITMAP",
    REPARSE_POINT: "$REPARSE_POINT",
    EA_INFORMATION: "$EA_INFORMATION",
    EA: "$EA",
    LOGGED_STREAM: "$LOGGED_UTILITY_STREAM",
}

# flags of attributes
COMPRESSED, COMPRESSION_MASK, ENCRYPTED, SPARSE = 0x0001, 0x00FF, 0x4000, 0x8000
INDEXED = 1  # resident flag of names

# flags of files, in their standard information and names
FILE_READ_ONLY = 0x0001
FILE_HIDDEN = 0x0002
FILE_SYSTEM = 0x0004
FILE_ARCHIVE = 0x0020
FILE_SPARSE = 0x0200
FILE_REPARSE = 0x0400
FILE_COMPRESSED = 0x0800
FILE_ENCRYPTED = 0x4000
FILE_IS_FOLDER = 0x10000000  # in names only
FILE_IS_VIEW = 0x20000000

# name spaces
POSIX, WIN32, DOS, WIN32_AND_DOS = 0, 1, 2, 3

# how an index is sorted
BY_NAME, BY_NUMBER, BY_SID, BY_HASH, BY_NUMBERS = 0x01, 0x10, 0x11, 0x12, 0x13

NODE_HAS_CHILDREN = 1  # flag of an index header
ENTRY_HAS_CHILD, ENTRY_IS_LAST = 1, 2

VOLUME_IS_DIRTY = 0x0001
VOLUME_FLAGS = {
    0x0001: "dirty",
    0x0002: "log file to be resized",
    0x0004: "to be upgraded",
    0x0008: "mounted by an old system",
    0x0010: "change journal being deleted",
    0x0020: "object identifiers to be repaired",
    0x8000: "changed by chkdsk",
}

RESTART_IS_CLEAN = 0x0002
NO_CLIENT = 0xFFFF

SDS_BLOCK_BYTES = 1 << 18  # each block of security descriptors is followed by its copy
SDS_HEADER_BYTES = 20

# tags of reparse points
TAG_MOUNT_POINT = 0xA0000003
TAG_SYMLINK = 0xA000000C
TAG_WOF = 0x80000017
TAG_DEDUP = 0x80000013
TAG_CLOUD = 0x9000001A
TAG_CLOUD_MASK = 0xFFFF0FFF

TAG_WSL_LINK = 0xA000001D

UNIX_EPOCH_TICKS = 116444736000000000  # of 100 ns, from 1601 to 1970


@record(size=512, byte_order="<", source=f"{SOURCE}: NTFS_BOOT_SECTOR")
class BootSector(Record):
    """The first sector, and again the last one of the partition."""

    oem_id: bytes = at(3, "8s")
    sector_bytes: int = at(11, "H")
    cluster_sectors: int = at(13, "B", "sectors; above 128 the negative power of two")
    sectors: int = at(40, "Q", "of the volume, the copy of this sector not among them")
    mft_cluster: int = at(48, "Q")
    mirror_cluster: int = at(56, "Q")
    record_clusters: int = at(64, "b", "clusters a record, or the negative power of two of bytes")
    index_clusters: int = at(68, "b", "the same for index blocks")
    serial: int = at(72, "Q")
    signature: int = at(510, "H")


@record(size=48, byte_order="<", source=f"{SOURCE}: MFT_RECORD")
class RecordHeader(Record):
    """The head of a record of the master file table."""

    magic: bytes = at(0, "4s")
    fixup_offset: int = at(4, "H")
    fixup_count: int = at(6, "H")
    lsn: int = at(8, "Q")
    sequence: int = at(16, "H")
    links: int = at(18, "H")
    attributes_offset: int = at(20, "H")
    flags: int = at(22, "H")
    used_bytes: int = at(24, "I")
    allocated_bytes: int = at(28, "I")
    base: int = at(32, "Q", "reference of the record that this one extends, or 0")
    next_instance: int = at(40, "H")
    number: int = at(44, "I", "version 3.1 and later")


@record(size=16, byte_order="<", source=f"{SOURCE}: ATTR_RECORD")
class AttributeHeader(Record):
    """What all attributes begin with."""

    type: int = at(0, "I")
    length: int = at(4, "I")
    non_resident: int = at(8, "B")
    name_length: int = at(9, "B", "characters")
    name_offset: int = at(10, "H")
    flags: int = at(12, "H")
    instance: int = at(14, "H")


# an attribute in short: type, length, whether in clusters, length and offset of its name, flags,
# instance; of a resident one also length and offset of its value, and flags
ATTRIBUTE = struct.Struct("<IIBBHHHIHB")
RESIDENT = struct.Struct("<IHB")  # at 16: value length, value offset, flags
RESIDENT_BYTES = 24


@record(size=64, byte_order="<", source=f"{SOURCE}: ATTR_RECORD")
class MappedHeader(Record):
    """An attribute whose value lies in clusters."""

    type: int = at(0, "I")
    length: int = at(4, "I")
    non_resident: int = at(8, "B")
    name_length: int = at(9, "B")
    name_offset: int = at(10, "H")
    flags: int = at(12, "H")
    instance: int = at(14, "H")
    lowest_vcn: int = at(16, "Q")
    highest_vcn: int = at(24, "q")
    runs_offset: int = at(32, "H")
    compression_unit: int = at(34, "B", "power of two of clusters")
    allocated: int = at(40, "q")
    size: int = at(48, "q")
    initialized: int = at(56, "q")


@record(size=48, byte_order="<", source=f"{SOURCE}: STANDARD_INFORMATION, 1.2 form")
class StandardInformation(Record):
    """Times and flags; the 3.x form has 24 bytes more (``StandardMore``)."""

    created: int = at(0, "Q", "100 ns since 1601")
    modified: int = at(8, "Q")
    changed: int = at(16, "Q")
    accessed: int = at(24, "Q")
    flags: int = at(32, "I")


STANDARD_MORE = struct.Struct("<IIQQ")  # at 48: owner id, security id, quota charged, usn
STANDARD_BYTES = 72
SECURITY_ID_OFFSET = 52

# at 16 of an attribute in clusters: first and last number, offset of its runs, unit, three sizes
MAPPED = struct.Struct("<QqHB5xqqq")

LIST_ENTRY = struct.Struct("<IHBBQQH")  # type, length, name length, its offset, vcn, record, inst.
LIST_ENTRY_BYTES = 26


@record(size=66, byte_order="<", source=f"{SOURCE}: FILE_NAME_ATTR")
class FileName(Record):
    """A name, as an attribute and as the key of a folder's index; the name follows."""

    parent: int = at(0, "Q", "reference of the folder")
    created: int = at(8, "Q")
    modified: int = at(16, "Q")
    changed: int = at(24, "Q")
    accessed: int = at(32, "Q")
    allocated: int = at(40, "Q")
    size: int = at(48, "Q")
    flags: int = at(56, "I")
    extra: int = at(60, "I", "tag of a reparse point, or size of extended attributes")
    length: int = at(64, "B", "characters")
    space: int = at(65, "B")


# the same in short, for reading many: parent, flags, extra, length, space
NAME_HEAD = struct.Struct("<Q48xIIBB")


@record(size=16, byte_order="<", source=f"{SOURCE}: INDEX_HEADER")
class IndexHeader(Record):
    """The head of a node of an index; offsets count from here."""

    entries_offset: int = at(0, "I")
    used_bytes: int = at(4, "I")
    allocated_bytes: int = at(8, "I")
    flags: int = at(12, "B")


@record(size=16, byte_order="<", source=f"{SOURCE}: INDEX_ROOT")
class IndexRoot(Record):
    """What an index is; its header follows."""

    type: int = at(0, "I", "of the attribute that is indexed, or 0")
    collation: int = at(4, "I")
    block_bytes: int = at(8, "I")
    block_clusters: int = at(12, "b", "the same in clusters or in the boot sector's encoding")


@record(size=24, byte_order="<", source=f"{SOURCE}: INDEX_BLOCK")
class IndexBlock(Record):
    """The head of a block of an index; its header follows."""

    magic: bytes = at(0, "4s")
    fixup_offset: int = at(4, "H")
    fixup_count: int = at(6, "H")
    lsn: int = at(8, "Q")
    vcn: int = at(16, "Q")


INDEX_BLOCK_HEAD_BYTES = 24
# reference (or offset and length of data), length of the entry, length of the key, flags
INDEX_ENTRY = struct.Struct("<QHHH2x")
INDEX_ENTRY_BYTES = 16
VIEW_DATA = struct.Struct("<HH")  # at 0 of an entry of a view: offset and length of its data


@record(size=20, byte_order="<", source=f"{SOURCE}: SECURITY_DESCRIPTOR_HEADER")
class DescriptorHeader(Record):
    """What stands before each descriptor in ``$SDS``, and is the data of both its indexes."""

    hash: int = at(0, "I")
    id: int = at(4, "I")
    offset: int = at(8, "Q")
    length: int = at(16, "I", "this header and the descriptor")


@record(size=12, byte_order="<", source=f"{SOURCE}: VOLUME_INFORMATION")
class VolumeInformation(Record):
    """Version and state of the volume."""

    major: int = at(8, "B")
    minor: int = at(9, "B")
    flags: int = at(10, "H")


@record(size=32, byte_order="<", source="ntfs-3g/logfile.h: RESTART_PAGE_HEADER")
class RestartPage(Record):
    """The head of one of the two first pages of the log."""

    magic: bytes = at(0, "4s")
    fixup_offset: int = at(4, "H")
    fixup_count: int = at(6, "H")
    system_page_bytes: int = at(16, "I")
    log_page_bytes: int = at(20, "I")
    area_offset: int = at(24, "H")


@record(size=24, byte_order="<", source="ntfs-3g/logfile.h: RESTART_AREA")
class RestartArea(Record):
    """Where the log begins, and whether it was closed."""

    current_lsn: int = at(0, "Q")
    clients: int = at(8, "H")
    client_free_list: int = at(10, "H")
    client_in_use_list: int = at(12, "H")
    flags: int = at(14, "H")


REPARSE_KEY = struct.Struct("<IQ")  # tag, reference of the file
