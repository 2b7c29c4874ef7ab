"""The shelf's index: an SQLite file that says again what the entry files say.

It answers without opening each entry, and its lock keeps commands apart that change the shelf.
Before each answer the folders are looked through and what differs is read anew, so that a command
that was killed, a restored backup or a deleted index make no difference. A rollback journal is
used, not a write-ahead log: that one needs memory shared between hosts.
"""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path

from zeroseal.errors import (
    DamagedError,
    InUseError,
    UnfinishedError,
    UnsupportedError,
    ZeroSealError,
    environment_error,
)
from zeroseal.messages import templates as messages
from zeroseal.templates.shelf.entry import (
    ENTRY_FILE,
    ShelfEntry,
    build_entry,
    parse_entry,
    read_entry,
)

INDEX_FILE = "catalogue.sqlite"
_FORM = 1
_WAIT_SECONDS = 60.0
_TABLE = (
    "CREATE TABLE IF NOT EXISTS template (folder TEXT PRIMARY KEY, stamp TEXT NOT NULL, "
    "entry BLOB NOT NULL, problem TEXT NOT NULL) WITHOUT ROWID"
)


@dataclass(frozen=True)
class Row:
    """One folder of the shelf: its entry, or what is wrong with it."""

    folder: Path
    entry: ShelfEntry | None
    problem: str


class ShelfIndex:
    """The index over all entries of a shelf."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.path = folder / INDEX_FILE

    def rows(self) -> list[Row]:
        """All templates' folders, by name, as they are now.

        Raises:
            DamagedError, UnsupportedError: the index is damaged, or a newer version's.
            InUseError: another command has held it for a minute.
        """
        if not self.folder.is_dir():
            return []
        try:
            with self._opened() as database:
                return self._synchronised(database)
        except UnfinishedError:  # no room for it: what lies on the shelf is read all the same
            with self._opened(in_memory=True) as database:
                return self._synchronised(database)

    @contextmanager
    def locked(self) -> Iterator[list[Row]]:
        """Keeps other commands from changing the shelf; what was changed is taken in at the end.

        Yields:
            All templates' folders as they are now; the index is not asked again inside.

        Raises:
            UnfinishedError: the shelf cannot be written to.
            InUseError: another command has held it for a minute.
        """
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise environment_error(error, self.folder, "writing to") from error
        with self._opened(for_writing=True) as database:
            database.execute("BEGIN IMMEDIATE")
            yield self._synchronised(database)
            self._synchronised(database)

    def rebuild(self) -> list[Row]:
        """Builds the index again from what lies on the shelf."""
        try:
            for path in self.folder.glob(f"{INDEX_FILE}*"):
                path.unlink()
        except OSError as error:
            raise environment_error(error, self.path, "removing") from error
        return self.rows()

    # -- inside

    @contextmanager
    def _opened(
        self, for_writing: bool = False, in_memory: bool = False
    ) -> Iterator[sqlite3.Connection]:
        # a shelf that may only be read has its index in memory
        may_write = for_writing or (os.access(self.folder, os.W_OK) and not in_memory)
        name = str(self.path) if may_write else ":memory:"
        try:
            with closing(sqlite3.connect(name, _WAIT_SECONDS, isolation_level=None)) as database:
                form = database.execute("PRAGMA user_version").fetchone()[0]
                if form > _FORM:
                    raise UnsupportedError(
                        messages.WRITTEN_BY_NEWER_VERSION.format(path=self.path, folder=self.folder)
                    )
                if not form:
                    database.execute(_TABLE)
                    database.execute(f"PRAGMA user_version = {_FORM}")
                try:
                    yield database
                finally:
                    if database.in_transaction:
                        database.execute("COMMIT")
        except sqlite3.DatabaseError as error:
            raise self._told(error) from error

    def _told(self, error: sqlite3.DatabaseError) -> ZeroSealError:
        text = str(error)
        if "locked" in text:
            return InUseError(
                messages.INDEX_LOCKED.format(path=self.path, wait_seconds=_WAIT_SECONDS)
            )
        if "malformed" in text or "not a database" in text or "no such" in text:
            return DamagedError(
                messages.INDEX_DAMAGED.format(path=self.path, reason=text, folder=self.folder)
            )
        return UnfinishedError(messages.INDEX_UNUSABLE.format(path=self.path, reason=text))

    def _synchronised(self, database: sqlite3.Connection) -> list[Row]:
        found = dict(self._stamps())
        known = {
            row[0]: row[1:]
            for row in database.execute("SELECT folder, stamp, entry, problem FROM template")
        }
        rows: list[Row] = []
        changes: list[tuple[str, str, bytes, str]] = []
        for name, stamp in found.items():
            row = self._known_row(name, stamp, known.get(name))
            if row is None:
                row = self._read(self.folder / name)
                entry = build_entry(row.entry) if row.entry else b""
                changes.append((name, stamp, entry, row.problem))
            rows.append(row)
        gone = [(name,) for name in known.keys() - found.keys()]
        if changes or gone:
            if not database.in_transaction:
                database.execute("BEGIN IMMEDIATE")
            database.executemany("INSERT OR REPLACE INTO template VALUES (?, ?, ?, ?)", changes)
            database.executemany("DELETE FROM template WHERE folder = ?", gone)
        return sorted(rows, key=lambda row: row.folder)

    def _known_row(self, name: str, stamp: str, known: tuple[str, bytes, str] | None) -> Row | None:
        if known is None or known[0] != stamp:
            return None
        try:
            return Row(self.folder / name, parse_entry(known[1]) if known[1] else None, known[2])
        except (ValueError, ZeroSealError):
            return None

    def _stamps(self) -> Iterator[tuple[str, str]]:
        """(``NAME/VERSION``, what changes when its entry file does) of every template's folder."""
        for path in self.folder.glob(f"[!.]*/[!.]*/{ENTRY_FILE}"):
            try:
                facts = path.stat()
            except OSError:
                continue  # it goes just now
            name = path.parent.relative_to(self.folder).as_posix()
            yield name, f"{facts.st_ino} {facts.st_size} {facts.st_mtime_ns}"

    def _read(self, folder: Path) -> Row:
        try:
            return Row(folder, read_entry(folder), "")
        except DamagedError as error:
            return Row(folder, None, error.message)
