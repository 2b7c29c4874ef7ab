"""VHDX on disk: headers, region table, metadata, block table entries, log; all little-endian."""

from __future__ import annotations

import uuid

import crc32c

from zeroseal.blocks.records import Record, at, record

FILE_SIGNATURE = b"vhdxfile"
KIB64, MIB = 64 << 10, 1 << 20
HEADER_OFFSETS = (KIB64, 2 * KIB64)
REGION_OFFSETS = (3 * KIB64, 4 * KIB64)
REGION_TABLE_BYTES = METADATA_TABLE_BYTES = KIB64
MAX_REGIONS, MAX_METADATA = 2047, 2047
LOG_SECTOR = 4096
VERSION = 1
MAX_DISK_BYTES = 64 << 40


def _guid(text: str) -> bytes:
    return uuid.UUID(text).bytes_le


BAT_REGION = _guid("2DC27766-F623-4200-9D64-115E9BFD4A08")
METADATA_REGION = _guid("8B7CA206-4790-4B9A-B8FE-575F050F886E")
FILE_PARAMETERS = _guid("CAA16737-FA36-4D43-B3B6-33F0AA44E76B")
DISK_SIZE = _guid("2FA54224-CD1B-4876-B211-5DBED83BF4B8")
DISK_ID = _guid("BECA12AB-B2E6-4523-93EF-C309E000C746")
LOGICAL_SECTOR = _guid("8141BF1D-A96F-4709-BA47-F233A8FAAB5F")
PHYSICAL_SECTOR = _guid("CDA348C7-445D-4471-9CC9-E9885251C556")
PARENT_LOCATOR = _guid("A8D35F2D-B30B-454D-ABF7-D3D84834AB0C")
KNOWN_METADATA = (
    FILE_PARAMETERS,
    DISK_SIZE,
    DISK_ID,
    LOGICAL_SECTOR,
    PHYSICAL_SECTOR,
    PARENT_LOCATOR,
)

PARAMETER_FIXED, PARAMETER_HAS_PARENT = 1 << 0, 1 << 1
METADATA_VIRTUAL_DISK, METADATA_REQUIRED = 1 << 1, 1 << 2

STATE_MASK = 7
OFFSET_MASK = 0xFFFFFFFF_FFF00000
NOT_PRESENT, UNDEFINED, ZEROED, UNMAPPED, FULL, PARTIAL = 0, 1, 2, 3, 6, 7


@record(size=4096, byte_order="<", source="MS-VHDX 2.2.2, Headers")
class Header(Record):
    """One of the two headers."""

    signature: bytes = at(0, "4s", "head")
    checksum: int = at(4, "I", "CRC-32C of all 4096 bytes with this field zero")
    sequence: int = at(8, "Q")
    file_write_id: bytes = at(16, "16s", "new at the first change after opening")
    data_write_id: bytes = at(32, "16s", "new when the disk's contents change")
    log_id: bytes = at(48, "16s", "zero when there is nothing to replay")
    log_version: int = at(64, "H")
    version: int = at(66, "H")
    log_bytes: int = at(68, "I")
    log_offset: int = at(72, "Q")


@record(size=16, byte_order="<", source="MS-VHDX 2.2.3, Region Table Header")
class RegionTable(Record):
    """The head of a region table."""

    signature: bytes = at(0, "4s", "regi")
    checksum: int = at(4, "I", "CRC-32C of all 65536 bytes with this field zero")
    entries: int = at(8, "I")


@record(size=32, byte_order="<", source="MS-VHDX 2.2.3, Region Table Entry")
class RegionEntry(Record):
    """Where a region lies."""

    kind: bytes = at(0, "16s")
    offset: int = at(16, "Q")
    length: int = at(24, "I")
    required: int = at(28, "I")


@record(size=32, byte_order="<", source="MS-VHDX 2.6.1, Metadata Table Header")
class MetadataTable(Record):
    """The head of the metadata table."""

    signature: bytes = at(0, "8s", "metadata")
    entries: int = at(10, "H")


@record(size=32, byte_order="<", source="MS-VHDX 2.6.1, Metadata Table Entry")
class MetadataEntry(Record):
    """Where an item of metadata lies, from the region's start."""

    kind: bytes = at(0, "16s")
    offset: int = at(16, "I")
    length: int = at(20, "I")
    flags: int = at(24, "I", "bit 0 user, bit 1 of the virtual disk, bit 2 required")


@record(size=64, byte_order="<", source="MS-VHDX 2.3.1.1, Log Entry Header")
class LogEntry(Record):
    """The head of a log entry."""

    signature: bytes = at(0, "4s", "loge")
    checksum: int = at(4, "I", "CRC-32C of the whole entry with this field zero")
    entry_bytes: int = at(8, "I")
    tail: int = at(12, "I", "where the oldest entry of the sequence lies in the log")
    sequence: int = at(16, "Q")
    descriptors: int = at(24, "I")
    log_id: bytes = at(32, "16s")
    flushed_file_bytes: int = at(48, "Q")
    last_file_bytes: int = at(56, "Q")


@record(size=32, byte_order="<", source="MS-VHDX 2.3.1.2 and 2.3.1.3, Descriptors")
class LogDescriptor(Record):
    """A zero descriptor (``zero``) or a data descriptor (``desc``)."""

    signature: bytes = at(0, "4s")
    trailing: bytes = at(4, "4s", "data: the sector's last 4 bytes")
    leading: bytes = at(8, "8s", "data: its first 8 bytes; zero: how many bytes")
    file_offset: int = at(16, "Q")
    sequence: int = at(24, "Q")


def checksum_of(raw: bytes) -> int:
    """CRC-32C with the four bytes at 4 taken as zero."""
    return crc32c.crc32c(raw[8:], crc32c.crc32c(raw[:4] + bytes(4)))


def with_checksum(raw: bytes) -> bytes:
    """The structure's bytes with its checksum set."""
    return raw[:4] + checksum_of(raw).to_bytes(4, "little") + raw[8:]
