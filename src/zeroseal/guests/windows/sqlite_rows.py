"""Taking rows that name somebody out of an SQLite database, in memory: nothing touches the host.

A database that its program left with a write-ahead log is brought up to date first. Triggers are
set aside while rows go, because they call functions of their program; rows that referred to a row
that goes, go too. The result is packed (``VACUUM``), so that nothing of them stays in free pages.

Source: https://www.sqlite.org/fileformat2.html (header, write-ahead log); what the tables mean is
not known here.
"""

from __future__ import annotations

import sqlite3
import struct
from collections.abc import Sequence
from contextlib import closing

from zeroseal.messages import guests as messages

HEADER = b"SQLite format 3\0"
_VERSIONS_AT, _ROLLBACK = 18, b"\1\1"  # of writing and reading; 2 means a write-ahead log
_LOG_MAGIC = (0x377F0682, 0x377F0683)  # sums over little-endian and big-endian words
_LOG_HEADER, _FRAME_HEADER = 32, 24
_MOST_ROUNDS = 64
# what a schema that was made to do harm may cost: the size of a cell, and steps of the machine
_MOST_CELL_BYTES = 1 << 24
_STEPS_A_CALL, _MOST_CALLS = 100_000, 5_000


def without_rows(database: bytes, names: Sequence[bytes], log: bytes = b"") -> bytes | None:
    """The database without the rows that hold one of some byte strings.

    Args:
        database: the whole file.
        names: what rows are recognised by, as UTF-8 text in lower case or as binary identifiers;
            a text is found in any case.
        log: its write-ahead log; empty for none.

    Returns:
        The new content; None where no row holds a name and there is no log.

    Raises:
        ValueError: it is not a database that can be changed in this way.
    """
    if not database.startswith(HEADER):
        raise ValueError(messages.NOT_SQLITE)
    versions = database[_VERSIONS_AT : _VERSIONS_AT + 2]
    current = with_log(database, log) if log else database
    plain = current[:_VERSIONS_AT] + _ROLLBACK + current[_VERSIONS_AT + 2 :]
    try:
        with closing(sqlite3.connect(":memory:", isolation_level=None)) as connection:
            _bound(connection)
            connection.deserialize(plain)
            connection.text_factory = bytes
            removed = _remove_rows(connection, names)
            if not removed and not log:
                return None
            connection.execute("VACUUM")
            made = connection.serialize()
    except sqlite3.Error as error:
        raise ValueError(messages.DATABASE_CANNOT_BE_CHANGED.format(error=error)) from error
    return made[:_VERSIONS_AT] + versions + made[_VERSIONS_AT + 2 :]


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


def _remove_rows(connection: sqlite3.Connection, names: Sequence[bytes]) -> int:
    """Removes the rows that hold a name, and those that referred to them; returns how many."""
    schema = connection.execute(
        "SELECT type, name, sql FROM sqlite_master WHERE sql IS NOT NULL"
    ).fetchall()
    triggers = [(_quoted(name), sql) for kind, name, sql in schema if kind == b"trigger"]
    tables = [
        _quoted(name)
        for kind, name, sql in schema
        if kind == b"table"
        and not name.lower().startswith(b"sqlite_")
        and not sql.lstrip().lower().startswith(b"create virtual")
    ]
    connection.execute("PRAGMA foreign_keys = OFF")
    connection.execute("PRAGMA secure_delete = ON")
    before = _dangling(connection)
    connection.execute("BEGIN")
    for name, _sql in triggers:
        connection.execute(f"DROP TRIGGER {name}")
    removed = sum(_remove_from(connection, table, names) for table in tables)
    for _round in range(_MOST_ROUNDS if removed else 0):
        orphans = _dangling(connection) - before
        if not orphans:
            break
        for table, row in orphans:
            connection.execute(f"DELETE FROM {_quoted(table)} WHERE rowid = ?", (row,))
        removed += len(orphans)
    for _name, sql in triggers:
        connection.execute(sql.decode())
    connection.execute("COMMIT")
    if connection.execute("PRAGMA integrity_check").fetchone() != (b"ok",):
        raise ValueError(messages.DATABASE_NOT_SOUND)
    return removed


def _remove_from(connection: sqlite3.Connection, table: str, names: Sequence[bytes]) -> int:
    """Removes the rows of one table that hold a name."""
    found = []
    for row, *cells in connection.execute(f"SELECT rowid, * FROM {table}"):
        content = b"\n".join(cell for cell in cells if isinstance(cell, bytes))
        if _holds(content, names):
            found.append((row,))
    connection.executemany(f"DELETE FROM {table} WHERE rowid = ?", found)
    return len(found)


def _holds(content: bytes, names: Sequence[bytes]) -> bool:
    folded = content.lower()
    return any(name in folded or name in content for name in names)


def _dangling(connection: sqlite3.Connection) -> set[tuple[bytes, int]]:
    """(table, row) of what refers to a row that is missing."""
    rows = connection.execute("PRAGMA foreign_key_check").fetchall()
    return {(table, row) for table, row, *_rest in rows}


def _quoted(name: bytes) -> str:
    return '"' + name.decode().replace('"', '""') + '"'
