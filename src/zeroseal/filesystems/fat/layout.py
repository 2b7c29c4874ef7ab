"""FAT on disk: the boot sector, the sector of hints, directory entries; all little-endian."""

from __future__ import annotations

from zeroseal.blocks.records import Record, at, record

ENTRY_BYTES = 32
DELETED, END = 0xE5, 0x00
ATTRIBUTE_VOLUME, ATTRIBUTE_FOLDER, ATTRIBUTE_ARCHIVE = 0x08, 0x10, 0x20
ATTRIBUTE_LONG_NAME = 0x0F
LAST_LONG_ENTRY = 0x40
LONG_NAME_UNITS = 13
MAX_LONG_ENTRIES = 20
LOWER_BASE, LOWER_EXTENSION = 0x08, 0x10  # of ``name_case``
MAX_FAT12, MAX_FAT16 = 4085, 65525  # fewer clusters than this
FSINFO_LEAD, FSINFO_STRUCTURE = b"RRaA", b"rrAa"
STATE_DIRTY = 1

_SOURCE = "FAT32 File System Specification 1.03"


@record(size=512, byte_order="<", source=f"{_SOURCE}, Boot Sector and BPB")
class BootSector(Record):
    """The boot sector; FAT12 and FAT16 have other fields from byte 36 on."""

    sector_bytes: int = at(11, "H")
    cluster_sectors: int = at(13, "B")
    reserved_sectors: int = at(14, "H")
    table_count: int = at(16, "B")
    root_entries: int = at(17, "H", "0 with FAT32")
    total_sectors_16: int = at(19, "H")
    media: int = at(21, "B")
    table_sectors_16: int = at(22, "H", "0 with FAT32")
    total_sectors_32: int = at(32, "I")
    table_sectors_32: int = at(36, "I")
    flags_32: int = at(40, "H", "bit 7: only one table is in use")
    version_32: int = at(42, "H")
    root_cluster: int = at(44, "I")
    fsinfo_sector: int = at(48, "H")
    copy_sector: int = at(50, "H", "of this sector; 0 where there is none")
    signature: bytes = at(510, "2s")


STATE_OFFSET_16, STATE_OFFSET_32 = 37, 65
SERIAL_OFFSET_16, SERIAL_OFFSET_32 = 39, 67


@record(size=512, byte_order="<", source=f"{_SOURCE}, FSInfo Sector")
class FsInfo(Record):
    """Hints of FAT32: how many clusters are free, where to look for one."""

    lead: bytes = at(0, "4s")
    structure: bytes = at(484, "4s")
    free_count: int = at(488, "I")
    next_free: int = at(492, "I")


@record(size=ENTRY_BYTES, byte_order="<", source=f"{_SOURCE}, Directory Structure")
class Entry(Record):
    """A directory entry with a short name."""

    name: bytes = at(0, "11s")
    attributes: int = at(11, "B")
    name_case: int = at(12, "B")
    created_tenths: int = at(13, "B")
    created_time: int = at(14, "H")
    created_date: int = at(16, "H")
    accessed_date: int = at(18, "H")
    cluster_hi: int = at(20, "H", "FAT32 only")
    modified_time: int = at(22, "H")
    modified_date: int = at(24, "H")
    cluster_lo: int = at(26, "H")
    size: int = at(28, "I")


@record(size=ENTRY_BYTES, byte_order="<", source=f"{_SOURCE}, Long Directory Entries")
class LongEntry(Record):
    """A part of a long name; the last part comes first."""

    order: int = at(0, "B")
    first: bytes = at(1, "10s", "UTF-16")
    attributes: int = at(11, "B")
    kind: int = at(12, "B")
    checksum: int = at(13, "B", "of the short name")
    middle: bytes = at(14, "12s")
    last: bytes = at(28, "4s")


def short_name_checksum(name: bytes) -> int:
    """Of the eleven bytes of a short name."""
    total = 0
    for byte in name:
        total = ((total & 1) << 7) + (total >> 1) + byte & 0xFF
    return total
