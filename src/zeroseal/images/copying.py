"""Copying a whole container file: shared blocks where the host can, else without its holes."""

from __future__ import annotations

import contextlib
import os
import sys
from pathlib import Path

from zeroseal.errors import environment_error
from zeroseal.images.host_file import HostFile

_FICLONE = 0x40049409  # linux/fs.h: the target shares the source's blocks until one is changed
_PIECE_BYTES = 16 << 20


def copy_image_file(source: Path, target: Path) -> None:
    """Copies a file to a new name; holes stay holes.

    Raises:
        MissingError: the source cannot be read.
        UnfinishedError: no space, or another failure of the host; the target may be half there.
    """
    reading = HostFile(source)
    try:
        flags = os.O_RDWR | os.O_CREAT | os.O_EXCL | getattr(os, "O_BINARY", 0)
        try:
            descriptor = os.open(target, flags, 0o666)
        except OSError as error:
            raise environment_error(error, target, "writing") from error
        writing = HostFile(target, descriptor, writable=True)
        with contextlib.closing(writing):
            if not share_blocks(reading, writing):
                _copy_data(reading, writing)
            writing.flush()
    finally:
        reading.close()


def share_blocks(source: HostFile, target: HostFile) -> bool:
    """Lets a new file share the blocks of another one; whether the host could do that."""
    if sys.platform != "linux":
        return False
    import fcntl  # not on Windows

    try:
        fcntl.ioctl(target.descriptor, _FICLONE, source.descriptor)
    except OSError:
        return False
    return True


def _copy_data(source: HostFile, target: HostFile) -> None:
    target.resize(source.size_bytes)
    for extent in source.iter_extents(0, source.size_bytes):
        end = extent.offset_bytes + extent.length
        start = end if extent.is_zero else extent.offset_bytes
        while start < end:
            start += _copy_piece(source, target, start, min(_PIECE_BYTES, end - start))


def _copy_piece(source: HostFile, target: HostFile, start: int, length: int) -> int:
    """Copies bytes, inside the kernel where it does that; returns how many."""
    if sys.platform == "linux":
        with contextlib.suppress(OSError):  # between some file systems it does not
            count = os.copy_file_range(source.descriptor, target.descriptor, length, start, start)
            if count:
                return count
    target.write(start, source.read(start, length))
    return length
