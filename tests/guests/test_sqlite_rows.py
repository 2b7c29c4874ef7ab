"""Rows that go from an SQLite database: judged by SQLite itself, in a process of its own file."""

from __future__ import annotations

import random
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from zeroseal.guests.sqlite_files import HEADER, with_log
from zeroseal.guests.windows.sqlite_rows import without_rows

SID = b"s-1-5-21-1-2-3-1001"
RAW_SID = bytes.fromhex("010500000000000515000000010000000200000003000000e9030000")
SCHEMA = """
CREATE TABLE User(_UserID INTEGER PRIMARY KEY, UserSid TEXT NOT NULL UNIQUE COLLATE NOCASE);
CREATE TABLE Package(_PackageID INTEGER PRIMARY KEY, FullName TEXT NOT NULL);
CREATE TABLE PackageUser(_ID INTEGER PRIMARY KEY, Package INTEGER NOT NULL
    REFERENCES Package(_PackageID), User INTEGER NOT NULL REFERENCES User(_UserID));
CREATE TABLE Place(_ID INTEGER PRIMARY KEY, Of INTEGER REFERENCES PackageUser(_ID), Path TEXT);
CREATE TABLE Raw(_ID INTEGER PRIMARY KEY, Owner BLOB);
CREATE INDEX PlacePath ON Place(Path);
CREATE TRIGGER Gone AFTER DELETE ON User BEGIN SELECT function_of_windows(OLD._UserID); END;
"""


def make(path: Path, log: bool = False) -> tuple[bytes, bytes]:
    """A database and its write-ahead log, with two people."""
    with closing(sqlite3.connect(path, isolation_level=None)) as made:
        if log:
            made.execute("PRAGMA journal_mode = WAL")
            made.execute("PRAGMA wal_autocheckpoint = 0")
        made.executescript(SCHEMA)
        made.execute("INSERT INTO User VALUES (1, 'S-1-5-18'), (2, 'S-1-5-21-1-2-3-1001')")
        rows = [(number, f"Tideline.App_{number}") for number in range(1, 400)]
        made.executemany("INSERT INTO Package VALUES (?, ?)", rows)
        made.executemany("INSERT INTO PackageUser VALUES (?, ?, ?)",
                         [(n, n, 1 + n % 2) for n in range(1, 400)])  # fmt: skip
        made.executemany("INSERT INTO Place VALUES (?, ?, ?)",
                         [(n, n, rf"C:\Program Files\App {n}") for n in range(1, 400)])  # fmt: skip
        made.execute(r"INSERT INTO Place VALUES (900, NULL, 'c:\users\ADA.BRINE\AppData')")
        made.execute(
            "INSERT INTO Raw VALUES (1, ?), (2, ?)",
            (RAW_SID, bytes.fromhex("010100000000000512000000")),
        )
        before = path.with_name(path.name + "-wal")
        return path.read_bytes(), before.read_bytes() if log else b""


NAMES = (SID, RAW_SID, rb"c:\users\ada.brine")


@pytest.mark.parametrize("log", [False, True])
def test_rows_of_a_person_go_with_all_that_refers_to_them(tmp_path: Path, log: bool) -> None:
    database, content = make(tmp_path / "a.srd", log)
    made = without_rows(database, NAMES, content)
    assert made is not None
    for name in (*NAMES, b"ada.brine"):
        assert name not in made.lower()
    assert made[18:20] == (b"\2\2" if log else b"\1\1")
    (tmp_path / "b.srd").write_bytes(made)
    with closing(sqlite3.connect(tmp_path / "b.srd")) as read:
        assert read.execute("PRAGMA integrity_check").fetchall() == [("ok",)]
        assert read.execute("PRAGMA foreign_key_check").fetchall() == []
        assert read.execute("SELECT * FROM User").fetchall() == [(1, "S-1-5-18")]
        counts = [read.execute(f"SELECT count(*) FROM {table}").fetchone()[0]
                  for table in ("Package", "PackageUser", "Place", "Raw")]  # fmt: skip
        assert counts == [399, 199, 199, 1]
        names = {row[0] for row in read.execute("SELECT name FROM sqlite_master")}
        assert {"Gone", "PlacePath"} <= names
    assert without_rows(made, NAMES) is None


def test_a_log_counts_as_far_as_it_was_committed(tmp_path: Path) -> None:
    database, log = make(tmp_path / "a.srd", log=True)
    whole = with_log(database, log)
    (tmp_path / "c.srd").write_bytes(whole[:18] + b"\1\1" + whole[20:])
    with closing(sqlite3.connect(tmp_path / "c.srd")) as read:
        assert read.execute("PRAGMA integrity_check").fetchall() == [("ok",)]
        assert read.execute("SELECT count(*) FROM Place").fetchone() == (400,)
    damaged = bytearray(log)
    damaged[32 + 24 + 100] ^= 1  # in the first page: nothing behind it holds
    assert with_log(database, bytes(damaged)) == database
    assert with_log(database, log[:20]) == database
    assert len(with_log(database, log[: len(log) // 2])) <= len(whole)


@pytest.mark.parametrize("content", [b"", b"no database", HEADER + bytes(4000)])
def test_what_is_no_sound_database_is_not_changed(content: bytes) -> None:
    with pytest.raises(ValueError, match="database"):
        without_rows(content, NAMES)


def test_a_damaged_database_is_not_changed(tmp_path: Path) -> None:
    database, _log = make(tmp_path / "a.srd")
    page = 4096
    damaged = database[: 3 * page] + bytes(2 * page) + database[5 * page :]
    with pytest.raises(ValueError, match="database"):
        without_rows(damaged, NAMES)


@pytest.mark.parametrize(
    "schema",
    [
        "CREATE TABLE t(a, b GENERATED ALWAYS AS (hex(zeroblob(90000000 + a))) VIRTUAL)",
        "CREATE TABLE t(a TEXT); CREATE TABLE u(a TEXT COLLATE tides)",
    ],
)
def test_a_schema_that_does_harm_is_not_followed(tmp_path: Path, schema: str) -> None:
    path = tmp_path / "a.srd"
    with closing(sqlite3.connect(path, isolation_level=None)) as made:
        made.create_collation("tides", lambda one, other: (one > other) - (one < other))
        made.executescript(schema)
        made.executemany("INSERT INTO t(a) VALUES (?)", [(1,), (2,)])
    try:
        assert without_rows(path.read_bytes(), NAMES) is None
    except ValueError as error:
        assert "database" in str(error)


@pytest.mark.parametrize("seed", range(3))
def test_mutated_databases_end_with_an_answer(tmp_path: Path, seed: int) -> None:
    database, log = make(tmp_path / "a.srd", log=True)
    whole, dice = with_log(database, log), random.Random(seed)
    for _round in range(12):
        mutant = bytearray(whole)
        for _change in range(dice.randint(1, 6)):
            mutant[dice.randrange(100, len(mutant))] = dice.randrange(256)
        try:
            made = without_rows(bytes(mutant), NAMES)
        except ValueError:
            continue
        assert made is None or made.startswith(HEADER)
