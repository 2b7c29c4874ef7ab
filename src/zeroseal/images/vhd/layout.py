"""VHD on disk: the footer, the header of a dynamic disk, parent locators; all big-endian."""

from __future__ import annotations

from zeroseal.blocks.records import Record, at, record

FOOTER_COOKIE = b"conectix"
HEADER_COOKIE = b"cxsparse"
VERSION = 0x00010000
FEATURES_RESERVED = 2  # this bit is always set
FIXED, DYNAMIC, DIFFERENCING = 2, 3, 4
UNALLOCATED = 0xFFFFFFFF
NOWHERE = 0xFFFFFFFF_FFFFFFFF
SECTOR_BYTES = 512
BLOCK_BYTES = 2 << 20
MAX_DISK_BYTES = 2040 << 30
LOCATOR_RELATIVE, LOCATOR_ABSOLUTE = b"W2ru", b"W2ku"

# Which program wrote the file decides in some readers whether the size or the geometry counts; with
# this name it is the size, everywhere we know of.
CREATOR_APPLICATION = b"win "


@record(size=512, byte_order=">", source="VHD specification 1.0, Hard Disk Footer Format")
class Footer(Record):
    """The footer."""

    cookie: bytes = at(0, "8s")
    features: int = at(8, "I")
    version: int = at(12, "I")
    header_offset: int = at(16, "Q", "of the dynamic header; all ones for a fixed disk")
    timestamp: int = at(24, "I", "seconds since 2000-01-01")
    creator_application: bytes = at(28, "4s")
    creator_version: int = at(32, "I")
    creator_host: bytes = at(36, "4s")
    original_size_bytes: int = at(40, "Q")
    size_bytes: int = at(48, "Q", "current size")
    cylinders: int = at(56, "H")
    heads: int = at(58, "B")
    sectors_per_track: int = at(59, "B")
    disk_type: int = at(60, "I")
    checksum: int = at(64, "I", "ones' complement of the sum of all other bytes")
    unique_id: bytes = at(68, "16s")
    saved_state: int = at(84, "B")


@record(
    size=24, byte_order=">", source="VHD specification 1.0, Dynamic Disk Header, Parent Locator"
)
class ParentLocator(Record):
    """Where the parent's name lies in the file, for one platform."""

    platform: bytes = at(0, "4s")
    data_space: int = at(4, "I")
    data_bytes: int = at(8, "I")
    data_offset: int = at(16, "Q")


@record(size=1024, byte_order=">", source="VHD specification 1.0, Dynamic Disk Header Format")
class DynamicHeader(Record):
    """What a dynamic disk has besides; eight parent locators lie at byte 576."""

    cookie: bytes = at(0, "8s")
    data_offset: int = at(8, "Q", "unused, all ones")
    table_offset: int = at(16, "Q")
    version: int = at(24, "I")
    table_entries: int = at(28, "I")
    block_bytes: int = at(32, "I")
    checksum: int = at(36, "I")
    parent_id: bytes = at(40, "16s")
    parent_timestamp: int = at(56, "I")
    parent_name: bytes = at(64, "512s", "UTF-16BE")


LOCATORS_OFFSET, LOCATOR_COUNT = 576, 8


def checksum_of(raw: bytes, checksum_offset: int) -> int:
    """The specification's checksum over a footer or header."""
    stored = raw[checksum_offset : checksum_offset + 4]
    return ~(sum(raw) - sum(stored)) & 0xFFFFFFFF


def sealed_bytes(item: Footer | DynamicHeader) -> bytes:
    """The record's bytes, with its checksum set."""
    item.checksum = checksum_of(item.build(), item.offset_of("checksum"))
    return item.build()


def geometry_of(size_bytes: int) -> tuple[int, int, int]:
    """(cylinders, heads, sectors per track) by the specification's appendix, CHS Calculation."""
    sectors = min(size_bytes // SECTOR_BYTES, 65535 * 16 * 255)
    if sectors >= 65535 * 16 * 63:
        return sectors // 255 // 16, 16, 255
    per_track = 17
    cylinder_heads = sectors // per_track
    heads = max((cylinder_heads + 1023) // 1024, 4)
    if cylinder_heads >= heads * 1024 or heads > 16:
        per_track, heads = 31, 16
        cylinder_heads = sectors // per_track
    if cylinder_heads >= heads * 1024:
        per_track, heads = 63, 16
        cylinder_heads = sectors // per_track
    return cylinder_heads // heads, heads, per_track
