"""qcow2 on disk: the header, its feature bits, and the bits of a table entry."""

from __future__ import annotations

from zeroseal.blocks.records import Record, at, record

MAGIC = b"QFI\xfb"
V2_HEADER_BYTES = 72
V3_HEADER_BYTES = 104

INCOMPATIBLE_DIRTY = 1 << 0
INCOMPATIBLE_CORRUPT = 1 << 1
INCOMPATIBLE_DATA_FILE = 1 << 2
INCOMPATIBLE_COMPRESSION = 1 << 3
INCOMPATIBLE_EXTENDED_L2 = 1 << 4
INCOMPATIBLE_NAMES = {
    INCOMPATIBLE_CORRUPT: "it is marked corrupt: repair a copy with qemu-img check -r all",
    INCOMPATIBLE_DATA_FILE: "its data lies in an external data file",
    INCOMPATIBLE_COMPRESSION: "it uses a compression other than zlib",
    INCOMPATIBLE_EXTENDED_L2: "it uses extended L2 entries (subclusters)",
}

EXTENSION_END = 0
EXTENSION_BACKING_FORMAT = 0xE2792ACA
EXTENSION_BITMAPS = 0x23852875

ENTRY_COPIED = 1 << 63  # this table owns the cluster alone (its count is exactly 1)
ENTRY_COMPRESSED = 1 << 62
ENTRY_ZERO = 1 << 0  # version 3: reads as zeros
ENTRY_OFFSET_MASK = 0x00FF_FFFF_FFFF_FE00

MIN_CLUSTER_BITS, MAX_CLUSTER_BITS = 9, 21
MAX_L1_BYTES = 32 << 20  # QEMU's own limits
MAX_REFCOUNT_TABLE_BYTES = 8 << 20


@record(size=V3_HEADER_BYTES, byte_order=">", source="qcow2 specification, section Header")
class Header(Record):
    """The header; version 2 ends at byte 72 and implies the defaults for the rest."""

    magic: bytes = at(0, "4s", "QFI and 0xfb")
    version: int = at(4, "I", "2 or 3")
    backing_file_offset: int = at(8, "Q", "of the backing file's name, 0 for none")
    backing_file_size: int = at(16, "I", "length of that name in bytes, at most 1023")
    cluster_bits: int = at(20, "I", "a cluster is 1 << this many bytes")
    size_bytes: int = at(24, "Q", "of the virtual disk")
    encryption: int = at(32, "I", "0 for none")
    l1_entries: int = at(36, "I", "number of L1 entries")
    l1_table_offset: int = at(40, "Q")
    refcount_table_offset: int = at(48, "Q")
    refcount_table_clusters: int = at(56, "I")
    snapshot_count: int = at(60, "I")
    snapshots_offset: int = at(64, "Q")
    incompatible_features: int = at(72, "Q", "unknown bits forbid opening")
    compatible_features: int = at(80, "Q")
    autoclear_features: int = at(88, "Q", "unknown bits are cleared on the first write")
    refcount_order: int = at(96, "I", "a reference count has 1 << this many bits")
    header_bytes: int = at(100, "I", "length of the header")
