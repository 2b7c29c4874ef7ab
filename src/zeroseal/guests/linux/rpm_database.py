"""RPM's database of installed packages, in each of its three forms, and the headers in it.

Sources: rpm's manual, "RPM v4 package format" and ``rpmtag.h`` (header blobs); ``lib/backend``:
``sqlite.c``, ``ndb/rpmpkg.c``; for the old form Berkeley DB's ``dbinc/db_page.h`` (hash pages and
overflow chains, in the byte order of a little-endian machine).
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass

from zeroseal.guests.guest import Guest

FOLDERS = ("/var/lib/rpm", "/usr/lib/sysimage/rpm")
_LONGEST_DATABASE = 1 << 30
_MOST_ENTRIES, _MOST_BLOB_BYTES = 4096, 64 << 20

_NAME, _VERSION, _RELEASE, _EPOCH, _ARCHITECTURE = 1000, 1001, 1002, 1003, 1022
_VENDOR, _SOURCE = 1011, 1044
_STATES, _DIGESTS, _FLAGS = 1029, 1035, 1037
_FOLDER_INDEXES, _BASE_NAMES, _FOLDER_NAMES, _DIGEST_KIND = 1116, 1117, 1118, 5011
_INT16, _INT32, _STRING, _STRINGS, _TEXTS = 3, 4, 6, 8, 9  # types of entries
_CHARACTER = 1
_IS_SETTING = 1  # flag of a file
_NORMAL = 0  # state of a file

_SQLITE_MAGIC = b"SQLite format 3\0"
_NDB_MAGIC, _SLOT_MAGIC, _BLOB_MAGIC = b"RpmP", b"Slot", b"BlbS"
_NDB_PAGE, _NDB_HEAD, _SLOT_BYTES, _BLOB_UNIT = 4096, 32, 16, 16
_HASH_MAGIC_AT, _HASH_MAGIC = 12, 0x061561
_HASH_PAGES, _OVERFLOW_PAGE = (2, 13), 7
_KEY_DATA, _OFF_PAGE = 1, 3
_PAGE_HEAD = 26


@dataclass(frozen=True)
class RpmFile:
    """A file of a package.

    Attributes:
        digest: of its content as it was shipped, hexadecimal; empty for folders and links.
        is_setting: whether it is a configuration file.
    """

    path: str
    digest: str
    is_setting: bool


@dataclass(frozen=True)
class RpmPackage:
    """An installed package.

    Attributes:
        digest_kind: the number of the digests' algorithm, as in OpenPGP: 1 MD5, 8 SHA-256.
        source: the name of the source package.
        maker: the vendor.
    """

    name: str
    version: str
    architecture: str
    digest_kind: int
    files: tuple[RpmFile, ...]
    source: str = ""
    maker: str = ""


def has_database(guest: Guest) -> bool:
    """Whether a guest has a database that is read here."""
    return bool(database_files(guest))


def database_files(guest: Guest) -> list[str]:
    """The paths of a guest's databases, one as a rule."""
    return [path for path in _places() if guest.is_file(path)]


def read_rpm_packages(guest: Guest) -> list[RpmPackage]:
    """All installed packages; none where there is no database, or it is damaged."""
    for path in _places():
        if guest.is_file(path):
            raw = guest.read_file(path, _LONGEST_DATABASE)
            log = f"{path}-wal"
            more = guest.read_file(log, _LONGEST_DATABASE) if guest.is_file(log) else b""
            return list(iter_packages(raw, more))
    return []


def iter_packages(database: bytes, log: bytes = b"") -> Iterator[RpmPackage]:
    """Yields the packages of a database; headers that are damaged are left out.

    The write-ahead log is of an SQLite database.
    """
    if database.startswith(_SQLITE_MAGIC):
        blobs = _from_sqlite(database, log)
    elif database.startswith(_NDB_MAGIC):
        blobs = _from_ndb(database)
    elif database[_HASH_MAGIC_AT : _HASH_MAGIC_AT + 4] == struct.pack("<I", _HASH_MAGIC):
        blobs = _from_hash(database)
    else:
        return
    for blob in blobs:
        try:
            package = parse_header(blob)
        except (ValueError, struct.error, IndexError):
            continue
        if package.name != "gpg-pubkey":  # a key that signs packages is listed like one
            yield package


def parse_header(blob: bytes) -> RpmPackage:
    """A package from its header blob.

    Raises:
        ValueError, struct.error, IndexError: it is damaged.
    """
    count, size = struct.unpack_from(">II", blob)
    if not 0 < count <= _MOST_ENTRIES or size > _MOST_BLOB_BYTES:
        raise ValueError("header")
    data = memoryview(blob)[8 + 16 * count : 8 + 16 * count + size]
    entries = {
        tag: (kind, offset, number)
        for tag, kind, offset, number in struct.iter_unpack(">IIiI", blob[8 : 8 + 16 * count])
    }

    def texts(tag: int) -> list[str]:
        kind, offset, number = entries.get(tag, (_STRING, 0, 0))
        if not number or kind not in (_STRING, _STRINGS, _TEXTS):
            return []
        parts = bytes(data[offset:]).split(b"\0", number)
        return [part.decode("utf-8", "surrogateescape") for part in parts[:number]]

    def numbers(tag: int) -> list[int]:
        kind, offset, number = entries.get(tag, (_INT32, 0, 0))
        code = {_CHARACTER: "B", 2: "B", _INT16: "H", _INT32: "I"}.get(kind)
        if code is None or number > size:
            return []
        return list(struct.unpack_from(f">{number}{code}", data, offset))

    version = "-".join([*texts(_VERSION)[:1], *texts(_RELEASE)[:1]])
    epoch = numbers(_EPOCH)
    folders, indexes, names = texts(_FOLDER_NAMES), numbers(_FOLDER_INDEXES), texts(_BASE_NAMES)
    digests, flags, states = texts(_DIGESTS), numbers(_FLAGS), numbers(_STATES)
    files = tuple(
        RpmFile(
            folders[indexes[at]] + name,
            digests[at] if at < len(digests) else "",
            bool(at < len(flags) and flags[at] & _IS_SETTING),
        )
        for at, name in enumerate(names)
        if at >= len(states) or states[at] == _NORMAL
    )
    return RpmPackage(
        name=texts(_NAME)[0],
        version=f"{epoch[0]}:{version}" if epoch else version,
        architecture=next(iter(texts(_ARCHITECTURE)), ""),
        digest_kind=next(iter(numbers(_DIGEST_KIND)), 1),
        files=files,
        # NAME-VERSION-RELEASE.src.rpm
        source=next(iter(texts(_SOURCE)), "").rsplit("-", 2)[0],
        maker=next(iter(texts(_VENDOR)), ""),
    )


# -- inside


def _places() -> Iterator[str]:
    for folder in FOLDERS:
        for name in ("rpmdb.sqlite", "Packages.db", "Packages"):
            yield f"{folder}/{name}"


def _from_sqlite(database: bytes, log: bytes) -> Iterator[bytes]:
    import sqlite3  # of no use to other guests

    from zeroseal.guests.sqlite_files import opened, with_log

    try:
        with opened(with_log(database, log)) as connection:
            for (blob,) in connection.execute("SELECT blob FROM Packages ORDER BY hnum"):
                if isinstance(blob, bytes):
                    yield blob
    except (sqlite3.Error, UnicodeDecodeError):  # it quotes names of a damaged schema
        return


def _from_ndb(database: bytes) -> Iterator[bytes]:
    """Slots say where each blob begins, in units of sixteen bytes."""
    pages = int.from_bytes(database[12:16], "little")
    for at in range(
        _NDB_HEAD, min(pages * _NDB_PAGE, len(database)) - _SLOT_BYTES + 1, _SLOT_BYTES
    ):
        if database[at : at + 4] != _SLOT_MAGIC:
            continue
        number, place, _units = struct.unpack_from("<III", database, at + 4)
        start = place * _BLOB_UNIT
        head = database[start : start + 16]
        if number and head[:4] == _BLOB_MAGIC and head[4:8] == struct.pack("<I", number):
            length = int.from_bytes(head[12:16], "little")
            yield database[start + 16 : start + 16 + min(length, _MOST_BLOB_BYTES)]


def _from_hash(database: bytes) -> Iterator[bytes]:
    """Pairs of key and data on hash pages; a header is large, and lies in a chain of others."""
    size = int.from_bytes(database[20:24], "little")
    if size not in (512, 1024, 2048, 4096, 8192, 16384, 32768, 65536):
        return
    for start in range(0, len(database) - size + 1, size):
        page = database[start : start + size]
        if page[25] not in _HASH_PAGES:
            continue
        count = int.from_bytes(page[20:22], "little")
        places = struct.unpack_from(f"<{min(count, (size - _PAGE_HEAD) // 2)}H", page, _PAGE_HEAD)
        for at in range(1, len(places), 2):
            place, end = places[at], places[at - 1]
            if place < _PAGE_HEAD or place >= size:
                continue
            if page[place] == _OFF_PAGE and place + 12 <= size:
                number, length = struct.unpack_from("<II", page, place + 4)
                yield _chain(database, size, number, min(length, _MOST_BLOB_BYTES))
            elif page[place] == _KEY_DATA and place < end <= size:
                yield page[place + 1 : end]


def _chain(database: bytes, size: int, number: int, length: int) -> bytes:
    """The content of overflow pages, each with the number of the next."""
    made = bytearray()
    seen: set[int] = set()
    while number and number not in seen and len(made) < length:
        seen.add(number)
        page = database[number * size : (number + 1) * size]
        if len(page) < size or page[25] != _OVERFLOW_PAGE:
            break
        used = int.from_bytes(page[22:24], "little")
        made += page[_PAGE_HEAD : _PAGE_HEAD + used]
        number = int.from_bytes(page[16:20], "little")
    return bytes(made[:length])
