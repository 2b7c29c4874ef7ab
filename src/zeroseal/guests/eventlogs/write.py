"""An event log with records, as a stand-in for a running Windows leaves it behind.

Records are small: one element with the computer's name. Real ones say more, in the same form.
"""

from __future__ import annotations

import struct
import zlib

from zeroseal.guests.eventlogs import layout
from zeroseal.guests.eventlogs.layout import ChunkHeader, FileHeader, RecordHeader
from zeroseal.messages import guests as messages

_TICKS = 10**7
_EPOCH_SECONDS = 11_644_473_600  # from 1601 to 1970
_MOST_RECORDS = 300  # all fit into one chunk
_ALIGNMENT = 8


def log_with_records(computer: str, count: int, now: int) -> bytes:
    """A log with records of one computer.

    Args:
        computer: its name.
        count: how many records, at most as many as fit into a chunk.
        now: when they were written, seconds since 1970.

    Raises:
        ValueError: more records than fit.
    """
    if not 0 < count <= _MOST_RECORDS:
        raise ValueError(messages.TOO_MANY_EVENT_RECORDS.format(most_records=_MOST_RECORDS))
    written = (now + _EPOCH_SECONDS) * _TICKS
    records = [_record(number, computer, written) for number in range(1, count + 1)]
    body = b"".join(records)
    free = layout.CHUNK_TABLES_BYTES + len(body)
    chunk = ChunkHeader.blank(
        magic=layout.CHUNK_MAGIC,
        first_number=1,
        last_number=count,
        first_id=1,
        last_id=count,
        header_bytes=layout.HEADER_BYTES,
        last_offset=free - len(records[-1]),
        free_offset=free,
        data_crc=zlib.crc32(body),
    )
    tables = bytes(layout.CHUNK_TABLES_BYTES - layout.HEADER_BYTES)
    chunk.crc = zlib.crc32(chunk.build()[: layout.CHECKED_BYTES] + tables)
    header = FileHeader.blank(
        magic=layout.FILE_MAGIC,
        next_record=count + 1,
        header_bytes=layout.HEADER_BYTES,
        minor=1,
        major=3,
        block_bytes=layout.FILE_HEADER_BYTES,
        chunks=1,
    )
    header.crc = zlib.crc32(header.build()[: layout.CHECKED_BYTES])
    head = header.build().ljust(layout.FILE_HEADER_BYTES, b"\0")
    return head + (chunk.build() + tables + body).ljust(layout.CHUNK_BYTES, b"\0")


def _record(number: int, computer: str, written: int) -> bytes:
    """A record with a ``Computer`` element, whose name stands where it is used first."""
    name, text = "Computer", computer.encode("utf-16-le")
    body = b"\x0f\x01\x01\0\x01\xff\xff" + bytes(8)
    if number == 1:
        body += bytes(4) + struct.pack("<HH", 0, len(name)) + name.encode("utf-16-le") + b"\0\0"
    body += b"\x02\x05\x01" + struct.pack("<H", len(computer)) + text + b"\0"
    length = -(-(RecordHeader.SIZE + len(body) + 4) // _ALIGNMENT) * _ALIGNMENT
    head = RecordHeader.blank(
        magic=layout.RECORD_MAGIC, length=length, number=number, written=written
    )
    return (head.build() + body).ljust(length - 4, b"\0") + length.to_bytes(4, "little")
