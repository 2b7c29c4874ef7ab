"""Master boot records: four primary partitions, and logical ones chained in an extended one.

The layout is the one of the IBM PC; Linux numbers logical partitions from 5 and makes PARTUUIDs of
the disk signature and the partition's number.
"""

from __future__ import annotations

from dataclasses import dataclass

from zeroseal.blocks.records import Record, at, record
from zeroseal.blocks.store import Store
from zeroseal.errors import DamagedError, UnsupportedError
from zeroseal.messages import volumes as messages
from zeroseal.volumes.gpt import Partition

SECTOR_BYTES = 512
SIGNATURE = b"\x55\xaa"
PROTECTIVE_TYPE = 0xEE
EXTENDED_TYPES = (0x05, 0x0F, 0x85)
_SIGNATURE_OFFSET, _ENTRIES_OFFSET = 440, 446
_MAX_LOGICAL = 60
_ALIGNED = 1 << 20

TYPE_NAMES = {
    0x07: "NTFS or exFAT",
    0x0B: "FAT32",
    0x0C: "FAT32 (LBA)",
    0x0E: "FAT16 (LBA)",
    0x82: "Linux swap",
    0x83: "Linux data",
    0x8E: "Linux LVM",
    0xEF: "EFI system",
    0xFD: "Linux RAID",
}


@record(size=16, byte_order="<", source="IBM PC master boot record, partition entry")
class MbrEntry(Record):
    """One of the four entries."""

    boot_flag: int = at(0, "B", "0x80 active, 0 not")
    type_code: int = at(4, "B")
    first_lba: int = at(8, "I", "relative to the table's base")
    sector_count: int = at(12, "I")


@dataclass(frozen=True)
class MbrTable:
    """A whole table; ``sectors`` are the offsets of all sectors that hold a part of it."""

    partitions: list[Partition]
    sectors: list[int]


def find_mbr(store: Store) -> MbrTable | None:
    """Reads the disk's MBR partitions; None where there is no such table."""
    if store.size_bytes < SECTOR_BYTES:
        return None
    sector = store.read(0, SECTOR_BYTES)
    if not _looks_like_table(sector):
        return None
    signature = int.from_bytes(sector[_SIGNATURE_OFFSET : _SIGNATURE_OFFSET + 4], "little")
    partitions: list[Partition] = []
    sectors = [0]
    for number, entry in enumerate(_entries(sector), 1):
        if entry.type_code in EXTENDED_TYPES:
            partitions += _read_logical(store, entry, signature, sectors)
        elif entry.type_code and entry.sector_count:
            partitions.append(_partition(store, number, entry.first_lba, entry, signature))
    return MbrTable(partitions, sectors) if partitions else None


def extend_partition(store: Store, number: int) -> int:
    """Lets a primary partition end where the disk does; returns its new size in bytes.

    Raises:
        UnsupportedError: it is a logical one, in an extended partition.
    """
    table = find_mbr(store)
    own = next(item for item in table.partitions if item.number == number) if table else None
    if number > 4 or own is None:
        raise UnsupportedError(messages.LOGICAL_PARTITION_NOT_GROWN.format(number=number))
    end = max(own.offset_bytes + own.size_bytes, usable_end(store))
    place_partition(store, number, own.offset_bytes, end)
    return end - own.offset_bytes


def usable_end(store: Store) -> int:
    """Where partitions may end: the last whole MiB that 32 bits can name."""
    return min(store.size_bytes, 0xFFFFFFFF * SECTOR_BYTES) // _ALIGNED * _ALIGNED


def place_partition(store: Store, number: int, offset_bytes: int, end_bytes: int) -> None:
    """Gives a primary partition other bounds; ``end_bytes`` is the first byte behind it.

    Raises:
        UnsupportedError: it is a logical one, in an extended partition.
    """
    if number > 4:
        raise UnsupportedError(messages.LOGICAL_PARTITION_NOT_GROWN.format(number=number))
    sector = bytearray(store.read(0, SECTOR_BYTES))
    start = _ENTRIES_OFFSET + (number - 1) * MbrEntry.SIZE
    entry = MbrEntry.parse(bytes(sector[start : start + MbrEntry.SIZE]))
    entry.first_lba = offset_bytes // SECTOR_BYTES
    entry.sector_count = (end_bytes - offset_bytes) // SECTOR_BYTES
    sector[start : start + MbrEntry.SIZE] = entry.build()
    store.write(0, bytes(sector))


def set_signature(store: Store, signature: int) -> None:
    """Gives the disk another signature, from which the PARTUUIDs of its partitions follow."""
    store.write(_SIGNATURE_OFFSET, signature.to_bytes(4, "little"))


def _looks_like_table(sector: bytes) -> bool:
    """A boot sector of a file system carries the same signature: the entries must make sense."""
    if sector[510:] != SIGNATURE or sector[3:11] in (b"NTFS    ", b"EXFAT   ", b"-FVE-FS-"):
        return False
    if sector[54:57] == b"FAT" or sector[82:85] == b"FAT":
        return False
    return all(entry.boot_flag in (0, 0x80) for entry in _entries(sector))


def _entries(sector: bytes) -> list[MbrEntry]:
    starts = range(_ENTRIES_OFFSET, 510, MbrEntry.SIZE)
    return [MbrEntry.parse(sector[start : start + MbrEntry.SIZE]) for start in starts]


def _partition(
    store: Store, number: int, first_lba: int, entry: MbrEntry, signature: int
) -> Partition:
    offset, size = first_lba * SECTOR_BYTES, entry.sector_count * SECTOR_BYTES
    if offset + size > store.size_bytes:
        raise DamagedError(messages.PARTITION_EXTENDS_OUTSIDE_DISK.format(number=number))
    return Partition(
        number=number,
        offset_bytes=offset,
        size_bytes=size,
        type_name=TYPE_NAMES.get(entry.type_code, f"type {entry.type_code:#04x}"),
        part_uuid=f"{signature:08x}-{number:02x}",
    )


def _read_logical(
    store: Store, extended: MbrEntry, signature: int, sectors: list[int]
) -> list[Partition]:
    """Follows the chain of extended boot records; it must go on forwards."""
    partitions: list[Partition] = []
    base = extended.first_lba
    table_lba = base
    while len(partitions) < _MAX_LOGICAL:
        if (table_lba + 1) * SECTOR_BYTES > store.size_bytes:
            raise DamagedError(messages.PARTITION_CHAIN_LEAVES_DISK)
        sector = store.read(table_lba * SECTOR_BYTES, SECTOR_BYTES)
        if sector[510:] != SIGNATURE:
            break
        sectors.append(table_lba * SECTOR_BYTES)
        logical, following = _entries(sector)[:2]
        if logical.type_code and logical.sector_count:
            number = 5 + len(partitions)
            first_lba = table_lba + logical.first_lba
            partitions.append(_partition(store, number, first_lba, logical, signature))
        if following.type_code not in EXTENDED_TYPES:
            break
        if base + following.first_lba <= table_lba:
            raise DamagedError(messages.PARTITION_CHAIN_CONTAINS_LOOP)
        table_lba = base + following.first_lba
    return partitions
