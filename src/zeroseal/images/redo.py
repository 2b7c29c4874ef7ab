"""The redo journal: how a change in place happens whole or not at all.

A file of its own (``redo_head.py`` says where) takes every final write to the container file, then,
flushed after them, a mark over their digest. Before the mark, the image is untouched and the
journal worthless. After it, the writes are carried out, as often as it takes: they are final
values, so that doing them twice changes nothing. A journal holds the new contents only, nothing of
what is being removed.

Layout: ``MAGIC``, length of the head (32 bit), the head in JSON; entries of (kind, offset, length),
with the bytes behind those of kind ``D``; the mark. Numbers are little-endian. A journal that is
being removed begins with another word.
"""

from __future__ import annotations

import contextlib
import os
import struct
from collections.abc import Iterator
from pathlib import Path
from typing import Literal

from blake3 import blake3

from zeroseal.blocks.store import Extent
from zeroseal.errors import RefusedError, UnfinishedError, ZeroSealError, environment_error
from zeroseal.images.container_file import StagedFile
from zeroseal.images.host_file import HostFile
from zeroseal.images.output import flush_folder, replace_small_file
from zeroseal.images.redo_head import (
    MAGIC,
    Head,
    find_journal,
    journal_path,
    pack_head,
    read_head,
    samples_of,
)
from zeroseal.messages import images as messages
from zeroseal.progress import Progress, Step, quiet

_MARK, _OVER = b"ZSDONE1\n", b"ZSOVER1\n"
_ENTRY = struct.Struct("<cQQ")
_DATA, _ZERO, _END = b"D", b"Z", b"E"
_PIECE_BYTES = 1 << 20

Outcome = Literal["", "carried through", "dropped"]


def commit_staged(
    host: HostFile,
    staged: StagedFile,
    companion: str = "",
    companion_text: str = "",
    folder: Path | None = None,
    progress: Progress = quiet,
) -> None:
    """Brings what is staged into the file, whole or not at all.

    Args:
        host: the image, open for writing and locked.
        staged: what it is to be.
        companion: name of a small file that comes with it, beside the journal; empty for none.
        companion_text: its content.
        folder: of the journal, where the image is a block device.
        progress: told how far it is.

    Raises:
        UnfinishedError: no space, or another failure of the host; the message says what holds now.
    """
    path = journal_path(host.path, folder)
    head = Head(
        inode=host.inode,
        size_before=host.size_bytes,
        size_after=staged.size_bytes,
        companion=companion,
        companion_text=companion_text,
        device=str(host.path.absolute()) if host.is_device else "",
        samples=samples_of(host, staged.iter_changes()) if host.is_device else "",
    )
    journal = _create(path)
    try:
        _write_journal(journal, head, staged, progress)
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
            _carry_out(journal, host, progress)
        except KeyboardInterrupt:  # it is decided: finish first
            _carry_out(journal, host)
            _discard(journal, path)
            raise
    except ZeroSealError as error:
        journal.close()
        where = f" from the folder {path.parent.resolve()}" if host.is_device else ""
        raise UnfinishedError(
            messages.CHANGE_KEPT_IN_JOURNAL.format(
                message=error.message, path=host.path, journal=path, where=where
            )
        ) from error
    _discard(journal, path)


def finish_interrupted(image: Path, folder: Path | None = None) -> Outcome:
    """Looks for a journal of an image; carries it through or drops it.

    Args:
        image: a file or a block device.
        folder: where the journal of a device is looked for; None for the current one.

    Raises:
        InUseError: the change is still going on.
        RefusedError: the journal belongs to another file.
    """
    path = find_journal(image, folder)
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
        if not _fits(journal, host):
            journal.close()
            raise RefusedError(messages.JOURNAL_OF_ANOTHER_DISK.format(path=path, image=image))
        _carry_out(journal, host)
        _discard(journal, path)
    finally:
        host.close()
    return "carried through"


def _create(path: Path) -> HostFile:
    flags = os.O_RDWR | os.O_CREAT | os.O_EXCL | getattr(os, "O_BINARY", 0)
    try:
        return HostFile(path, os.open(path, flags, 0o600), writable=True)
    except OSError as error:
        raise environment_error(error, path, "writing") from error


def _write_journal(journal: HostFile, head: Head, staged: StagedFile, progress: Progress) -> None:
    journal.write(0, pack_head(head))
    total = sum(extent.length for extent in staged.iter_changes() if not extent.is_zero)
    for extent in staged.iter_changes():
        for piece in _pieces(extent):
            kind = _ZERO if piece.is_zero else _DATA
            entry = _ENTRY.pack(kind, piece.offset_bytes, piece.length)
            if not piece.is_zero:
                entry += staged.read(piece.offset_bytes, piece.length)
            journal.write(journal.size_bytes, entry)
            progress(Step("writing the journal", min(journal.size_bytes, total), total))
    journal.write(journal.size_bytes, _ENTRY.pack(_END, 0, 0))
    journal.flush()


def _pieces(extent: Extent) -> Iterator[Extent]:
    """Data in pieces that fit the memory; zeros whole."""
    if extent.is_zero:
        yield extent
        return
    end = extent.offset_bytes + extent.length
    for start in range(extent.offset_bytes, end, _PIECE_BYTES):
        yield Extent(start, min(_PIECE_BYTES, end - start), is_zero=False)


def _write_mark(journal: HostFile) -> None:
    journal.write(journal.size_bytes, _MARK + _digest(journal, journal.size_bytes))
    journal.flush()


def _is_marked(journal: HostFile) -> bool:
    end = journal.size_bytes - len(_MARK) - 32
    if end < len(MAGIC) or journal.read(0, len(MAGIC)) != MAGIC:
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


def _carry_out(journal: HostFile, host: HostFile, progress: Progress = quiet) -> None:
    """Does all that the journal says; may be done again at any time."""
    head, _start = read_head(journal)
    for extent, position in _iter_entries(journal):
        if extent.is_zero:
            host.punch(extent.offset_bytes, extent.length)
        else:
            host.write(extent.offset_bytes, journal.read(position, extent.length))
        progress(Step("writing the change", position, journal.size_bytes))
    if host.size_bytes != head.size_after:
        host.resize(head.size_after)
    host.flush()
    if head.companion:
        replace_small_file(journal.path.with_name(head.companion), head.companion_text.encode())


def _iter_entries(journal: HostFile) -> Iterator[tuple[Extent, int]]:
    """Each write, and where in the journal its data lies."""
    _head, position = read_head(journal)
    while True:
        kind, offset, length = _ENTRY.unpack(journal.read(position, _ENTRY.size))
        position += _ENTRY.size
        if kind == _END:
            return
        yield Extent(offset, length, kind == _ZERO), position
        position += length if kind == _DATA else 0


def _fits(journal: HostFile, host: HostFile) -> bool:
    """Whether the image is still the one that a journal was written for."""
    head, _start = read_head(journal)
    if host.is_device:
        changes = (extent for extent, _position in _iter_entries(journal))
        return (
            bool(head.device)
            and host.size_bytes == head.size_before
            and samples_of(host, changes) == head.samples
        )
    # cut off while it was carried through, the file may have grown by a part
    sizes = sorted((head.size_before, head.size_after))
    return head.inode == host.inode and sizes[0] <= host.size_bytes <= sizes[1]


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
