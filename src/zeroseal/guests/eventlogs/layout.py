"""On-disk records of event logs, as windows' own service writes them and python-evtx reads them."""

from __future__ import annotations

from zeroseal.blocks.records import Record, at, record

_SOURCE = "evtx, as python-evtx reads it; a real log of Windows was of version 3.2"
FILE_MAGIC, CHUNK_MAGIC, RECORD_MAGIC = b"ElfFile\0", b"ElfChnk\0", b"**\0\0"
FILE_HEADER_BYTES, CHUNK_BYTES, CHUNK_TABLES_BYTES = 4096, 65536, 512
HEADER_BYTES, CHECKED_BYTES = 128, 120
DIRTY = 1


@record(size=HEADER_BYTES, byte_order="<", source=_SOURCE)
class FileHeader(Record):
    """The header of a log."""

    magic: bytes = at(0, "8s")
    first_chunk: int = at(8, "Q")
    last_chunk: int = at(16, "Q")
    next_record: int = at(24, "Q")
    header_bytes: int = at(32, "I", "128")
    minor: int = at(36, "H")
    major: int = at(38, "H")
    block_bytes: int = at(40, "H", "4096")
    chunks: int = at(42, "H")
    flags: int = at(120, "I")
    crc: int = at(124, "I", "of the first 120 bytes")


@record(size=HEADER_BYTES, byte_order="<", source=_SOURCE)
class ChunkHeader(Record):
    """The header of a chunk, before its tables."""

    magic: bytes = at(0, "8s")
    first_number: int = at(8, "Q")
    last_number: int = at(16, "Q")
    first_id: int = at(24, "Q")
    last_id: int = at(32, "Q")
    header_bytes: int = at(40, "I", "128")
    last_offset: int = at(44, "I")
    free_offset: int = at(48, "I", "512 in an empty one")
    data_crc: int = at(52, "I", "of the records")
    flags: int = at(120, "I")
    crc: int = at(124, "I", "of the first 120 bytes and the tables")


@record(size=24, byte_order="<", source=_SOURCE)
class RecordHeader(Record):
    """The header of a record."""

    magic: bytes = at(0, "4s")
    length: int = at(4, "I", "of all of it; stands at its end again")
    number: int = at(8, "Q")
    written: int = at(16, "Q", "100 ns since 1601")
