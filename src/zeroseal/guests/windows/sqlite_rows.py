"""Taking rows that name somebody out of an SQLite database, in memory: nothing touches the host.

A database that its program left with a write-ahead log is brought up to date first. Triggers are
set aside while rows go, because they call functions of their program; rows that referred to a row
that goes, go too. The result is packed (``VACUUM``), so that nothing of them stays in free pages.

Source: https://www.sqlite.org/fileformat2.html (header, write-ahead log); what the tables mean is
not known here.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence

from zeroseal.guests.sqlite_files import HEADER, VERSIONS_AT, opened, with_log
from zeroseal.messages import guests as messages

_MOST_ROUNDS = 64


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
    versions = database[VERSIONS_AT : VERSIONS_AT + 2]
    current = with_log(database, log) if log else database
    try:
        with opened(current) as connection:
            removed = _remove_rows(connection, names)
            if not removed and not log:
                return None
            connection.execute("VACUUM")
            made = connection.serialize()
    except sqlite3.Error as error:
        raise ValueError(messages.DATABASE_CANNOT_BE_CHANGED.format(error=error)) from error
    return made[:VERSIONS_AT] + versions + made[VERSIONS_AT + 2 :]


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
