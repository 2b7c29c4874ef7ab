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
INCOMPATIBLE_KNOWN = (
    INCOMPATIBLE_DIRTY
    | INCOMPATIBLE_CORRUPT
    | INCOMPATIBLE_DATA_FILE
    | INCOMPATIBLE_COMPRESSION
    | INCOMPATIBLE_EXTENDED_L2
)
COMPRESSION_TYPE_OFFSET, ZLIB, ZSTD = 104, 0, 1

EXTENSION_END = 0
EXTENSION_BACKING_FORMAT = 0xE2792ACA
EXTENSION_BITMAPS = 0x23852875
EXTENSION_DATA_FILE = 0x44415441

ENTRY_COPIED = 1 << 63  # this table owns the cluster alone (its count is exactly 1)
ENTRY_COMPRESSED = 1 << 62
ENTRY_ZERO = 1 << 0  # version 3: reads as zeros
ENTRY_OFFSET_MASK = 0x00FF_FFFF_FFFF_FE00

SUBCLUSTERS = 32  # of a cluster with extended L2 entries; their second word is two bitmaps of them
ALL_ALLOCATED, ALL_ZERO = 0xFFFFFFFF, 0xFFFFFFFF << 32

MIN_CLUSTER_BITS, MAX_CLUSTER_BITS = 9, 21
MAX_L1_BYTES = 32 << 20  # QEMU's own limits
MAX_REFCOUNT_TABLE_BYTES = 8 << 20
MAX_SNAPSHOTS, MAX_SNAPSHOT_TABLE_BYTES = 65536, 64 << 20
MAX_BITMAPS = 65535


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


@record(size=40, byte_order=">", source="qcow2 specification, section Snapshots")
class SnapshotEntry(Record):
    """One entry of the snapshot table, before its extra data, id and name."""

    l1_table_offset: int = at(0, "Q")
    l1_entries: int = at(8, "I")
    id_bytes: int = at(12, "H")
    name_bytes: int = at(14, "H")
    seconds: int = at(16, "I", "when it was taken, since 1970")
    nanoseconds: int = at(20, "I")
    guest_nanoseconds: int = at(24, "Q", "how long the guest had run")
    machine_state_bytes: int = at(32, "I")
    extra_bytes: int = at(36, "I")


@record(size=24, byte_order=">", source="qcow2 specification, section Bitmaps extension")
class BitmapsExtension(Record):
    """Where the directory of persistent dirty bitmaps lies."""

    count: int = at(0, "I")
    directory_bytes: int = at(8, "Q")
    directory_offset: int = at(16, "Q")


@record(size=24, byte_order=">", source="qcow2 specification, section Bitmap directory")
class BitmapEntry(Record):
    """One entry of the bitmap directory, before its extra data and name."""

    table_offset: int = at(0, "Q")
    table_entries: int = at(8, "I")
    flags: int = at(12, "I")
    kind: int = at(16, "B")
    granularity_bits: int = at(17, "B")
    name_bytes: int = at(18, "H")
    extra_bytes: int = at(20, "I")
