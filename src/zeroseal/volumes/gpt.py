"""GUID partition tables (UEFI specification 2.10, section 5.3)."""

from __future__ import annotations

import uuid
import zlib
from collections.abc import Mapping
from dataclasses import dataclass

from zeroseal.blocks.records import Record, at, record
from zeroseal.blocks.store import Store
from zeroseal.errors import DamagedError
from zeroseal.messages import volumes as messages

SIGNATURE = b"EFI PART"
SECTOR_SIZES = (512, 4096)
_MAX_ENTRIES = 1024
_ALIGNED = 1 << 20

TYPE_NAMES = {
    "c12a7328-f81f-11d2-ba4b-00a0c93ec93b": "EFI system",
    "21686148-6449-6e6f-744e-656564454649": "BIOS boot",
    "0fc63daf-8483-4772-8e79-3d69d8477de4": "Linux data",
    "0657fd6d-a4ab-43c4-84e5-0933c84b4f4f": "Linux swap",
    "4f68bce3-e8cd-4db1-96e7-fbcaf984b709": "Linux root (x86-64)",
    "b921b045-1df0-41c3-af44-4c6f280d3fae": "Linux root (ARM64)",
    "e6d6d379-f507-44c2-a23c-238f2a3df928": "Linux LVM",
    "a19d880f-05fc-4d3b-a006-743f0f84911e": "Linux RAID",
    "933ac7e1-2eb4-4f13-b844-0e14e2aef915": "Linux home",
    "bc13c2ff-59e6-4262-a352-b275fd6f7172": "Linux boot",
    "e3c9e316-0b5c-4db8-817d-f92df00215ae": "Microsoft reserved",
    "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7": "Microsoft data",
    "de94bba4-06d1-4d40-a16a-bfd50179d6ac": "Windows recovery",
}


@record(size=92, byte_order="<", source="UEFI 2.10, table 5.5")
class GptHeader(Record):
    """A table header, primary (LBA 1) or backup (last LBA)."""

    signature: bytes = at(0, "8s")
    revision: int = at(8, "I")
    header_bytes: int = at(12, "I")
    header_crc: int = at(16, "I", "CRC-32 of the header with this field zero")
    my_lba: int = at(24, "Q")
    alternate_lba: int = at(32, "Q")
    first_usable_lba: int = at(40, "Q")
    last_usable_lba: int = at(48, "Q", "inclusive")
    disk_guid: bytes = at(56, "16s")
    entries_lba: int = at(72, "Q")
    entry_count: int = at(80, "I")
    entry_bytes: int = at(84, "I")
    entries_crc: int = at(88, "I")


@record(size=128, byte_order="<", source="UEFI 2.10, table 5.6")
class GptEntry(Record):
    """One partition."""

    type_guid: bytes = at(0, "16s")
    part_guid: bytes = at(16, "16s")
    first_lba: int = at(32, "Q")
    last_lba: int = at(40, "Q", "inclusive")
    attributes: int = at(48, "Q")
    name: bytes = at(56, "72s", "UTF-16LE")


@dataclass(frozen=True)
class Partition:
    """A partition as its table describes it, in bytes."""

    number: int
    offset_bytes: int
    size_bytes: int
    type_name: str
    part_uuid: str
    label: str = ""


@dataclass(frozen=True)
class GptTable:
    """A whole table.

    Attributes:
        from_backup: whether the primary copy was damaged.
        table_ranges: (offset, length) of the first sector and of both copies.
    """

    sector_bytes: int
    disk_uuid: str
    partitions: list[Partition]
    from_backup: bool
    table_ranges: list[tuple[int, int]]


def find_gpt(store: Store) -> GptTable | None:
    """Reads the disk's GUID partition table; None where there is none.

    Raises:
        DamagedError: there is one, but both copies are damaged.
    """
    problem: DamagedError | None = None
    for sector in SECTOR_SIZES:
        if store.size_bytes < 4 * sector:
            continue
        for lba, from_backup in ((1, False), (store.size_bytes // sector - 1, True)):
            if store.read(lba * sector, 8) != SIGNATURE:
                continue
            try:
                return _read_table(store, sector, lba, from_backup)
            except DamagedError as error:
                problem = problem or error
    if problem:
        raise problem
    return None


def _read_table(store: Store, sector: int, lba: int, from_backup: bool) -> GptTable:
    raw = store.read(lba * sector, sector)
    header = GptHeader.parse(raw[: GptHeader.SIZE])
    if not GptHeader.SIZE <= header.header_bytes <= sector:
        raise DamagedError(messages.GPT_HEADER_LENGTH_WRONG.format(lba=lba))
    covered = raw[:16] + bytes(4) + raw[20 : header.header_bytes]
    _check_crc(covered, header.header_crc, f"the partition table header at sector {lba}")
    if header.entry_bytes < 128 or header.entry_bytes % 8 or header.entry_bytes > 4096:
        raise DamagedError(messages.GPT_ENTRY_SIZE_WRONG.format(entry_bytes=header.entry_bytes))
    if header.entry_count > _MAX_ENTRIES:
        raise DamagedError(messages.GPT_ENTRY_COUNT_WRONG.format(entry_count=header.entry_count))
    entries = store.read(header.entries_lba * sector, header.entry_count * header.entry_bytes)
    _check_crc(entries, header.entries_crc, "the partition entries")
    partitions = []
    for index in range(header.entry_count):
        start = index * header.entry_bytes
        entry = GptEntry.parse(entries[start : start + GptEntry.SIZE])
        if any(entry.type_guid):
            partitions.append(_partition_of(entry, index + 1, sector, store.size_bytes))
    ranges = _ranges_of(header, sector, len(entries))
    return GptTable(sector, _guid_text(header.disk_guid), partitions, from_backup, ranges)


def _ranges_of(header: GptHeader, sector: int, entries_bytes: int) -> list[tuple[int, int]]:
    """Both headers, and everything outside of what the table calls usable, where entries lie."""
    room = -(-entries_bytes // sector) * sector
    last = max(header.my_lba, header.alternate_lba)
    return [
        (0, 2 * sector),
        (header.entries_lba * sector, room),
        (2 * sector, room),
        (last * sector, sector),
        (last * sector - room, room),
    ]


def _partition_of(entry: GptEntry, number: int, sector: int, disk_bytes: int) -> Partition:
    end_lba = entry.last_lba + 1
    if entry.first_lba >= end_lba or end_lba * sector > disk_bytes:
        raise DamagedError(messages.PARTITION_EXTENDS_OUTSIDE_DISK.format(number=number))
    type_guid = _guid_text(entry.type_guid)
    return Partition(
        number=number,
        offset_bytes=entry.first_lba * sector,
        size_bytes=(end_lba - entry.first_lba) * sector,
        type_name=TYPE_NAMES.get(type_guid, type_guid),
        part_uuid=_guid_text(entry.part_guid),
        label=entry.name.decode("utf-16-le", "replace").split("\0")[0],
    )


def _check_crc(data: bytes, expected: int, what: str) -> None:
    if zlib.crc32(data) != expected:
        raise DamagedError(
            messages.FAILS_CHECKSUM.format(what=what), expected=expected, got=zlib.crc32(data)
        )


def _guid_text(raw: bytes) -> str:
    return str(uuid.UUID(bytes_le=raw))


def move_backup(store: Store) -> bool:
    """Fits the table to a disk that has grown: the backup goes to its new end.

    Returns:
        Whether there was a table.

    Raises:
        DamagedError: both copies are damaged.
    """
    sector = _find_sector(store)
    if sector is None:
        return False
    table = _read_table(store, sector, 1, from_backup=False)
    header = GptHeader.parse(store.read(sector, GptHeader.SIZE))
    entries_bytes = -(-header.entry_count * header.entry_bytes // sector) * sector
    entries = store.read(header.entries_lba * sector, entries_bytes)
    _zero_old_backup(store, table.sector_bytes, header.alternate_lba, entries_bytes)
    last_lba = store.size_bytes // sector - 1
    backup_entries = last_lba - entries_bytes // sector
    header.alternate_lba, header.last_usable_lba = last_lba, backup_entries - 1
    store.write(backup_entries * sector, entries)
    store.write(sector, _with_crc(header))
    header.my_lba, header.alternate_lba = last_lba, 1
    header.entries_lba = backup_entries
    store.write(last_lba * sector, _with_crc(header))
    _fit_protective_mbr(store, last_lba)
    return True


def place_partition(store: Store, number: int, offset_bytes: int, end_bytes: int) -> None:
    """Gives a partition other bounds, in both copies of the table.

    Args:
        store: the disk, whose backup table lies at its end.
        number: the partition's.
        offset_bytes: where it begins.
        end_bytes: where it ends, that byte left out; both are whole sectors.

    Raises:
        DamagedError: there is no sound table.
    """
    sector = _get_sector(store)
    _read_table(store, sector, 1, from_backup=False)
    header = GptHeader.parse(store.read(sector, GptHeader.SIZE))
    entries = _read_entries(store, sector, header)
    start = (number - 1) * header.entry_bytes
    entry = GptEntry.parse(bytes(entries[start : start + GptEntry.SIZE]))
    entry.first_lba, entry.last_lba = offset_bytes // sector, end_bytes // sector - 1
    entries[start : start + GptEntry.SIZE] = entry.build()
    for lba in (1, header.alternate_lba):
        copy = GptHeader.parse(store.read(lba * sector, GptHeader.SIZE))
        _write_copy(store, lba * sector, copy, copy.entries_lba * sector, entries)


def extend_partition(store: Store, number: int) -> int:
    """Lets a partition end where the table's usable sectors do; both copies are written.

    Args:
        store: the disk, whose backup table lies at its end.
        number: the partition's; nothing may lie behind it.

    Returns:
        The partition's new size in bytes.

    Raises:
        DamagedError: there is no sound table.
    """
    table = _read_table(store, _get_sector(store), 1, from_backup=False)
    own = next(item for item in table.partitions if item.number == number)
    end = max(own.offset_bytes + own.size_bytes, usable_end(store))
    place_partition(store, number, own.offset_bytes, end)
    return end - own.offset_bytes


def usable_end(store: Store) -> int:
    """Where partitions may end: the last whole MiB before the backup table, as partitioners do."""
    sector = _get_sector(store)
    header = GptHeader.parse(store.read(sector, GptHeader.SIZE))
    return (header.last_usable_lba + 1) * sector // _ALIGNED * _ALIGNED


def change_guids(store: Store, new: Mapping[str, str]) -> None:
    """Gives the disk and its partitions other GUIDs, in both copies of the table.

    Args:
        store: the disk.
        new: by the old GUID, in lower case.

    Raises:
        DamagedError: a copy of the table is damaged.
    """
    sector = _get_sector(store)
    first = GptHeader.parse(store.read(sector, GptHeader.SIZE))
    for lba in (first.alternate_lba, 1):
        _read_table(store, sector, lba, from_backup=lba != 1)
        header = GptHeader.parse(store.read(lba * sector, GptHeader.SIZE))
        entries = _read_entries(store, sector, header)
        at_guid = GptEntry.offset_of("part_guid")
        for start in range(at_guid, len(entries), header.entry_bytes):
            entries[start : start + 16] = _other_guid(bytes(entries[start : start + 16]), new)
        header.disk_guid = _other_guid(header.disk_guid, new)
        _write_copy(store, lba * sector, header, header.entries_lba * sector, entries)


def _find_sector(store: Store) -> int | None:
    """The sector size of the disk's table, by its primary copy; None where there is none."""
    for sector in SECTOR_SIZES:
        if store.size_bytes >= 4 * sector and store.read(sector, 8) == SIGNATURE:
            return sector
    return None


def _get_sector(store: Store) -> int:
    """The same, where there must be one; raises DamagedError."""
    sector = _find_sector(store)
    if sector is None:
        raise DamagedError(messages.NO_PARTITION_TABLE)
    return sector


def _read_entries(store: Store, sector: int, header: GptHeader) -> bytearray:
    """The entries that a copy of the table has."""
    length = header.entry_count * header.entry_bytes
    return bytearray(store.read(header.entries_lba * sector, length))


def _write_copy(
    store: Store, offset: int, header: GptHeader, entries_offset: int, entries: bytearray
) -> None:
    """Writes one copy of the table: its entries, then its header."""
    header.entries_crc = zlib.crc32(bytes(entries))
    store.write(entries_offset, bytes(entries))
    store.write(offset, _with_crc(header))


def _other_guid(raw: bytes, new: Mapping[str, str]) -> bytes:
    text = new.get(_guid_text(raw))
    return uuid.UUID(text).bytes_le if text else raw


def _zero_old_backup(store: Store, sector: int, lba: int, entries_bytes: int) -> None:
    start = lba * sector - entries_bytes
    is_inside = start > 0 and lba * sector + sector <= store.size_bytes
    if is_inside and store.read(lba * sector, 8) == SIGNATURE:
        store.zero(start, entries_bytes + sector)


def _with_crc(header: GptHeader) -> bytes:
    header.header_crc = 0
    header.header_crc = zlib.crc32(header.build())
    return header.build()


def _fit_protective_mbr(store: Store, last_lba: int) -> None:
    """The one entry of a protective MBR spans the disk, as far as 32 bits can say."""
    first = bytearray(store.read(0, 512))
    if first[450] == 0xEE and first[510:] == b"\x55\xaa":
        first[458:462] = min(last_lba, 0xFFFFFFFF).to_bytes(4, "little")
        store.write(0, bytes(first))
