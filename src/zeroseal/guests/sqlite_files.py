"""SQLite databases of a guest, opened in memory: nothing touches the host, and time is bounded.

Source: https://www.sqlite.org/fileformat2.html (header, write-ahead log).
"""

from __future__ import annotations

import sqlite3
import struct
from collections.abc import Iterator
from contextlib import closing, contextmanager

from zeroseal.messages import guests as messages

HEADER = b"SQLite format 3\0"
VERSIONS_AT, _ROLLBACK = 18, b"\1\1"  # of writing and reading; 2 means a write-ahead log
_LOG_MAGIC = (0x377F0682, 0x377F0683)  # sums over little-endian and big-endian words
_LOG_HEADER, _FRAME_HEADER = 32, 24
# what a schema that was made to do harm may cost: the size of a cell, and steps of the machine
_MOST_CELL_BYTES = 1 << 24
_STEPS_A_CALL, _MOST_CALLS = 100_000, 5_000


@contextmanager
def opened(database: bytes) -> Iterator[sqlite3.Connection]:
    """A database that is whole in its file, opened; texts are bytes.

    Raises:
        sqlite3.Error: it is damaged.
    """
    plain = database[:VERSIONS_AT] + _ROLLBACK + database[VERSIONS_AT + 2 :]
    with closing(sqlite3.connect(":memory:", isolation_level=None)) as connection:
        _bound(connection)
        connection.deserialize(plain)
        connection.text_factory = bytes
        yield connection


def _bound(connection: sqlite3.Connection) -> None:
    """Lets no schema take more than a bounded time and memory, or call what is not SQLite's."""
    calls = iter(range(_MOST_CALLS))
    connection.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, _MOST_CELL_BYTES)
    connection.set_progress_handler(lambda: int(next(calls, None) is None), _STEPS_A_CALL)
    connection.execute("PRAGMA trusted_schema = OFF")


def with_log(database: bytes, log: bytes) -> bytes:
    """A database with the committed pages of its write-ahead log.

    Frames count as far as their salts and running sums hold, and the last of them is a commit.
    """
    if len(log) < _LOG_HEADER:
        return database
    magic, page_bytes = (int.from_bytes(log[at : at + 4], "big") for at in (0, 8))
    if magic not in _LOG_MAGIC or page_bytes < 512:
        raise ValueError(messages.NOT_SQLITE_LOG)
    order = ("little", "big")[magic & 1]
    sums = _sum(log[:24], (0, 0), order)
    if sums != _pair(log, 24):
        return database
    pages: dict[int, bytes] = {}
    pending: dict[int, bytes] = {}
    count = 0
    for at in range(_LOG_HEADER, len(log) - page_bytes - _FRAME_HEADER + 1, page_bytes + 24):
        page = log[at + _FRAME_HEADER : at + _FRAME_HEADER + page_bytes]
        sums = _sum(page, _sum(log[at : at + 8], sums, order), order)
        if log[at + 8 : at + 16] != log[16:24] or sums != _pair(log, at + 16):
            break
        pending[int.from_bytes(log[at : at + 4], "big")] = page
        committed = int.from_bytes(log[at + 4 : at + 8], "big")
        if committed:
            pages |= pending
            pending, count = {}, committed
    if not count:
        return database
    made = bytearray(database[: count * page_bytes].ljust(count * page_bytes, b"\0"))
    for number, page in pages.items():
        if 1 <= number <= count:
            made[(number - 1) * page_bytes : number * page_bytes] = page
    return bytes(made)


def _pair(raw: bytes, at: int) -> tuple[int, int]:
    return int.from_bytes(raw[at : at + 4], "big"), int.from_bytes(raw[at + 4 : at + 8], "big")


def _sum(raw: bytes, before: tuple[int, int], order: str) -> tuple[int, int]:
    """The running sum of a log over words of 32 bits."""
    first, second = before
    words = struct.unpack(f"{'<' if order == 'little' else '>'}{len(raw) // 4}I", raw)
    for at in range(0, len(words), 2):
        first = (first + words[at] + second) & 0xFFFFFFFF
        second = (second + words[at + 1] + first) & 0xFFFFFFFF
    return first, second
