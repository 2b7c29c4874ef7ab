"""The redo journal: how a change in place happens whole or not at all.

Beside the image comes ``NAME.redo``: every final write to the container file, then, flushed after
them, a mark over their digest. Before the mark, the image is untouched and the journal worthless.
After it, the writes are carried out, as often as it takes: they are final values, so that doing
them twice changes nothing. A journal holds the new contents only, nothing of what is being removed.

Layout: ``MAGIC``, length of the head (32 bit), the head in JSON; entries of (kind, offset, length),
with the bytes behind those of kind ``D``; the mark. Numbers are little-endian. A journal that is
being removed begins with another word.
"""

from __future__ import annotations

import contextlib
import json
import os
import struct
from collections.abc import Iterator
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Literal

from blake3 import blake3

from zeroseal.blocks.store import Extent
from zeroseal.errors import RefusedError, UnfinishedError, ZeroSealError, environment_error
from zeroseal.images.container_file import StagedFile
from zeroseal.images.host_file import HostFile
from zeroseal.images.output import flush_folder, replace_small_file

_MAGIC, _MARK, _OVER = b"ZSREDO1\n", b"ZSDONE1\n", b"ZSOVER1\n"
_ENTRY = struct.Struct("<cQQ")
_DATA, _ZERO, _END = b"D", b"Z", b"E"
_PIECE_BYTES = 1 << 20
_MAX_HEAD = 64 << 20

Outcome = Literal["", "carried through", "dropped"]


@dataclass(frozen=True)
class Head:
    """What a journal is for.

    Attributes:
        inode: of the image, so that a journal is never laid over another file of its name.
        companion: name of a file beside the image that comes with the change; empty for none.
        companion_text: its content.
    """

    inode: int
    size_before: int
    size_after: int
    companion: str = ""
    companion_text: str = ""


_SUFFIX = ".redo"


def journal_path(image: Path) -> Path:
    """Where the journal of a change to an image is made."""
    return Path(f"{image.resolve()}{_SUFFIX}")


def find_journal(image: Path) -> Path | None:
    """The journal of an image in its folder: by its name, or of the same file under another."""
    own = journal_path(image)
    if own.is_file():
        return own
    try:
        inode = image.stat().st_ino
        journals = [path for path in own.parent.iterdir() if path.suffix == _SUFFIX]
    except OSError:
        return None
    return next((path for path in journals if _inode_of(path) == inode), None)


def _inode_of(path: Path) -> int:
    """The image that a journal is for, by the number of its file; 0 where it does not say."""
    try:
        journal = HostFile(path)
    except ZeroSealError:
        return 0
    try:
        is_whole = journal.size_bytes > len(_MAGIC) + 4 and journal.read(0, len(_MAGIC)) == _MAGIC
        return _read_head(journal).inode if is_whole else 0
    except (ZeroSealError, ValueError, TypeError):
        return 0
    finally:
        journal.close()


def commit_staged(
    host: HostFile, staged: StagedFile, companion: str = "", companion_text: str = ""
) -> None:
    """Brings what is staged into the file, whole or not at all.

    Raises:
        UnfinishedError: no space, or another failure of the host; the message says what holds now.
    """
    path = journal_path(host.path)
    head = Head(
        inode=host.inode,
        size_before=host.size_bytes,
        size_after=staged.size_bytes,
        companion=companion,
        companion_text=companion_text,
    )
    journal = _create(path)
    try:
        _write_journal(journal, head, staged)
        for extent in staged.iter_changes():
            if not extent.is_zero:
                host.take_room(extent.offset_bytes, extent.length)
        _write_mark(journal)
        flush_folder(path.parent)
    except BaseException:
        _discard(journal, path)
        raise
    try:
        try:
            _carry_out(journal, host)
        except KeyboardInterrupt:  # it is decided: finish first
            _carry_out(journal, host)
            _discard(journal, path)
            raise
    except ZeroSealError as error:
        journal.close()
        raise UnfinishedError(
            f"{error.message}; the change of {host.path} is decided and kept in {path}: when the "
            "cause is gone, any zeroseal command on the image carries it through"
        ) from error
    _discard(journal, path)


def finish_interrupted(image: Path) -> Outcome:
    """Looks for a journal of an image; carries it through or drops it.

    Raises:
        InUseError: the change is still going on.
        RefusedError: the journal belongs to another file.
    """
    path = find_journal(image)
    if path is None:
        return ""
    host = HostFile(image.resolve(), writable=True)
    try:
        host.lock()
        if not path.is_file():  # whoever held the lock has finished
            return ""
        journal = HostFile(path, writable=True)
        if not _is_marked(journal):
            was_over = _is_over(journal)
            _discard(journal, path)
            return "" if was_over else "dropped"
        head = _read_head(journal)
        # cut off while it was carried through, the file may have grown by a part
        sizes = sorted((head.size_before, head.size_after))
        if head.inode != host.inode or not sizes[0] <= host.size_bytes <= sizes[1]:
            journal.close()
            raise RefusedError(
                f"{path} holds an unfinished change of another file than {image} is now: if the "
                "image was restored from a copy, remove the journal; else put the image back"
            )
        _carry_out(journal, host)
        _discard(journal, path)
    finally:
        host.close()
    return "carried through"


def check_no_journal(image: Path) -> None:
    """Raises RefusedError where an interrupted change waits to be finished."""
    path = find_journal(image)
    if path:
        raise RefusedError(
            f"a change of {image} in place was interrupted, and {path} holds the rest of it: run "
            f"zeroseal survey on that image to have it finished"
        )


def _create(path: Path) -> HostFile:
    flags = os.O_RDWR | os.O_CREAT | os.O_EXCL | getattr(os, "O_BINARY", 0)
    try:
        return HostFile(path, os.open(path, flags, 0o600), writable=True)
    except OSError as error:
        raise environment_error(error, path, "writing") from error


def _write_journal(journal: HostFile, head: Head, staged: StagedFile) -> None:
    raw = json.dumps(asdict(head)).encode()
    journal.write(0, _MAGIC + struct.pack("<I", len(raw)) + raw)
    for extent in staged.iter_changes():
        for piece in _pieces(extent):
            kind = _ZERO if piece.is_zero else _DATA
            entry = _ENTRY.pack(kind, piece.offset_bytes, piece.length)
            if not piece.is_zero:
                entry += staged.read(piece.offset_bytes, piece.length)
            journal.write(journal.size_bytes, entry)
    journal.write(journal.size_bytes, _ENTRY.pack(_END, 0, 0))
    journal.flush()


def _pieces(extent: Extent) -> Iterator[Extent]:
    """Data in pieces that fit the memory; zeros whole."""
    if extent.is_zero:
        yield extent
        return
    end = extent.offset_bytes + extent.length
    for start in range(extent.offset_bytes, end, _PIECE_BYTES):
        yield Extent(start, min(_PIECE_BYTES, end - start), False)


def _write_mark(journal: HostFile) -> None:
    journal.write(journal.size_bytes, _MARK + _digest(journal, journal.size_bytes))
    journal.flush()


def _is_marked(journal: HostFile) -> bool:
    end = journal.size_bytes - len(_MARK) - 32
    if end < len(_MAGIC) or journal.read(0, len(_MAGIC)) != _MAGIC:
        return False
    mark = journal.read(end, len(_MARK) + 32)
    return mark == _MARK + _digest(journal, end)


def _is_over(journal: HostFile) -> bool:
    """Whether it was being removed: the change had been carried through, or given up."""
    return journal.size_bytes >= len(_OVER) and journal.read(0, len(_OVER)) == _OVER


def _digest(journal: HostFile, end: int) -> bytes:
    hasher = blake3()
    for start in range(0, end, _PIECE_BYTES):
        hasher.update(journal.read(start, min(_PIECE_BYTES, end - start)))
    return hasher.digest()


def _read_head(journal: HostFile) -> Head:
    return Head(**json.loads(_head_bytes(journal)))


def _head_bytes(journal: HostFile) -> bytes:
    start = len(_MAGIC)
    (length,) = struct.unpack("<I", journal.read(start, 4))
    return journal.read(start + 4, min(length, _MAX_HEAD))


def _carry_out(journal: HostFile, host: HostFile) -> None:
    """Does all that the journal says; may be done again at any time."""
    head = _read_head(journal)
    position = len(_MAGIC) + 4 + len(_head_bytes(journal))
    while True:
        kind, offset, length = _ENTRY.unpack(journal.read(position, _ENTRY.size))
        position += _ENTRY.size
        if kind == _END:
            break
        if kind == _ZERO:
            host.punch(offset, length)
        else:
            host.write(offset, journal.read(position, length))
            position += length
    if host.size_bytes != head.size_after:
        host.resize(head.size_after)
    host.flush()
    if head.companion:
        replace_small_file(host.path.with_name(head.companion), head.companion_text.encode())


def _discard(journal: HostFile, path: Path) -> None:
    """Wipes and removes a journal; that it is over is said first, so that nobody asks it again."""
    with contextlib.suppress(UnfinishedError):
        journal.write(0, _OVER)
        journal.flush()
        for start in range(len(_OVER), journal.size_bytes, _PIECE_BYTES):
            journal.zero(start, min(_PIECE_BYTES, journal.size_bytes - start))
        journal.flush()
    journal.close()
    path.unlink(missing_ok=True)
    flush_folder(path.parent)
