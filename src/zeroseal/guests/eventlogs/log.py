"""An event log that is empty and valid; and how many records, of which computer, are in one."""

from __future__ import annotations

import zlib
from collections.abc import Iterator
from dataclasses import dataclass

from zeroseal.errors import DamagedError, UnsupportedError
from zeroseal.guests.eventlogs import layout
from zeroseal.guests.eventlogs.layout import ChunkHeader, FileHeader, RecordHeader
from zeroseal.messages import guests as messages

_MOST_CHUNKS = 1 << 16
_NO_RECORD = 0xFFFFFFFFFFFFFFFF
_COMPUTER = "Computer".encode("utf-16-le") + b"\0\0"
_TEXT_TOKEN, _TEXT_TYPE = 0x05, 0x01
_MOST_NAME_GAP, _MOST_NAME_UNITS = 16, 255


@dataclass(frozen=True)
class LogFacts:
    """What is in a log.

    Attributes:
        records: how many.
        computers: the names that their ``Computer`` elements bear, in order, each once.
        is_dirty: whether it was not closed.
    """

    records: int
    computers: tuple[str, ...]
    is_dirty: bool


def empty_log(minor: int = 1) -> bytes:
    """A log without records: a header and one empty chunk, as for one that was just cleared.

    Args:
        minor: 1 or 2, of version 3.
    """
    header = FileHeader.blank(
        magic=layout.FILE_MAGIC,
        next_record=1,
        header_bytes=layout.HEADER_BYTES,
        minor=minor,
        major=3,
        block_bytes=layout.FILE_HEADER_BYTES,
        chunks=1,
    )
    header.crc = zlib.crc32(header.build()[: layout.CHECKED_BYTES])
    chunk = ChunkHeader.blank(
        magic=layout.CHUNK_MAGIC,
        first_number=1,
        last_number=_NO_RECORD,
        first_id=_NO_RECORD,
        last_id=_NO_RECORD,
        header_bytes=layout.HEADER_BYTES,
        free_offset=layout.CHUNK_TABLES_BYTES,
        data_crc=zlib.crc32(b""),
    )
    tables = bytes(layout.CHUNK_TABLES_BYTES - layout.HEADER_BYTES)
    chunk.crc = zlib.crc32(chunk.build()[: layout.CHECKED_BYTES] + tables)
    return (
        header.build().ljust(layout.FILE_HEADER_BYTES, b"\0")
        + chunk.build()
        + bytes(layout.CHUNK_BYTES - layout.HEADER_BYTES)
    )


def read_log(raw: bytes, where: str = "the event log") -> LogFacts:
    """Tells what is in a log.

    Raises:
        DamagedError: it is none, or a checksum or record contradicts itself.
        UnsupportedError: another version.
    """
    header = read_header(raw, where)
    records, computers = 0, dict[str, None]()
    for chunk, body in iter_chunks(raw, where):
        if chunk.free_offset < layout.CHUNK_TABLES_BYTES or chunk.free_offset > len(body):
            raise DamagedError(messages.INCONSISTENT_CHUNK.format(where=where))
        records += _count_records(body, chunk.free_offset, where)
        computers |= dict.fromkeys(_computers_in(body[: chunk.free_offset]))
    return LogFacts(records, tuple(computers), bool(header.flags & layout.DIRTY))


def read_header(raw: bytes, where: str) -> FileHeader:
    """The header of a log.

    Raises:
        DamagedError, UnsupportedError: as ``read_log``.
    """
    if len(raw) < layout.FILE_HEADER_BYTES or raw[:8] != layout.FILE_MAGIC:
        raise DamagedError(messages.NOT_EVENT_LOG.format(where=where))
    header = FileHeader.parse(raw[: FileHeader.SIZE])
    if header.crc != zlib.crc32(raw[: layout.CHECKED_BYTES]):
        raise DamagedError(messages.DAMAGED_HEADER_FAILS_CHECKSUM.format(where=where))
    if header.major != 3 or header.minor not in (1, 2):
        raise UnsupportedError(
            messages.EVENT_LOG_OF_VERSION.format(
                where=where, major=header.major, minor=header.minor
            )
        )
    return header


def iter_chunks(raw: bytes, where: str) -> Iterator[tuple[ChunkHeader, bytes]]:
    """Yields (header, bytes) of the chunks that are in use.

    Raises:
        DamagedError: one fails its checksum.
    """
    count = min(_MOST_CHUNKS, (len(raw) - layout.FILE_HEADER_BYTES) // layout.CHUNK_BYTES)
    for number in range(count):
        start = layout.FILE_HEADER_BYTES + number * layout.CHUNK_BYTES
        body = raw[start : start + layout.CHUNK_BYTES]
        if body[:8] != layout.CHUNK_MAGIC:
            continue
        chunk = ChunkHeader.parse(body[: ChunkHeader.SIZE])
        checked = body[: layout.CHECKED_BYTES]
        checked += body[layout.HEADER_BYTES : layout.CHUNK_TABLES_BYTES]
        data = body[layout.CHUNK_TABLES_BYTES : max(chunk.free_offset, layout.CHUNK_TABLES_BYTES)]
        if chunk.crc != zlib.crc32(checked) or chunk.data_crc != zlib.crc32(data):
            raise DamagedError(messages.DAMAGED_CHUNK_FAILS_CHECKSUM.format(where=where))
        yield chunk, body


def _count_records(body: bytes, end: int, where: str) -> int:
    """How many records a chunk has; each must be sound."""
    place, count = layout.CHUNK_TABLES_BYTES, 0
    while place + RecordHeader.SIZE <= end:
        record = RecordHeader.parse(body[place : place + RecordHeader.SIZE])
        length = record.length
        again = body[place + length - 4 : place + length]
        fits = RecordHeader.SIZE + 4 <= length <= end - place
        if record.magic != layout.RECORD_MAGIC or not fits or again != length.to_bytes(4, "little"):
            raise DamagedError(messages.DAMAGED_RECORD_INCONSISTENT.format(where=where))
        place, count = place + length, count + 1
    return count


def _computers_in(body: bytes) -> Iterator[str]:
    """The texts of ``Computer`` elements: a name, the end of its tag, then a text with its length.

    The name stands once a chunk; later elements point back to it, but their texts are the same.
    """
    at = body.find(_COMPUTER)
    while at >= 0:
        start = at + len(_COMPUTER)
        for place in range(start, min(start + _MOST_NAME_GAP, len(body) - 4)):
            if body[place] == _TEXT_TOKEN and body[place + 1] == _TEXT_TYPE:
                units = int.from_bytes(body[place + 2 : place + 4], "little")
                text = body[place + 4 : place + 4 + 2 * units]
                if 0 < units <= _MOST_NAME_UNITS and len(text) == 2 * units:
                    yield text.decode("utf-16-le", "replace")
                break
        at = body.find(_COMPUTER, at + 1)
