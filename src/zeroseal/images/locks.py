"""Locks: those of QEMU and others on images, and our own on the files and folders that we fill.

QEMU's: each permission has two bytes of the file: a *read* lock (of an open file description) on
byte ``100 + n`` says that it is held, one on byte ``200 + n`` that it is not shared with others. To
find out whether others stand against us, a *write* lock is asked for, not taken, on the bytes that
would contradict. Source: QEMU, ``block/file-posix.c`` and
``docs/system/qemu-block-drivers.rst.inc``, "Disk image file locking"; tried against QEMU 7.2 in
both directions.

Linux only; elsewhere, and on file systems without such locks, nothing is locked and nothing found.
"""

from __future__ import annotations

import errno
import os
import struct
import sys
from pathlib import Path

from zeroseal.errors import InUseError
from zeroseal.messages import images as messages

_CONSISTENT_READ, _WRITE, _RESIZE = 0, 1, 3
_HELD, _UNSHARED = 100, 200
_OFD_GETLK, _OFD_SETLK = 36, 37
_FLOCK = struct.Struct("hhqqi4x")  # l_type, l_whence, l_start, l_len, l_pid (0 with these locks)
_READ_LOCK, _WRITE_LOCK, _UNLOCKED = 0, 1, 2
_NOT_HERE = (errno.EINVAL, errno.ENOLCK, errno.ENOSYS, errno.EOPNOTSUPP, errno.ENOTSUP)


def lock_image(descriptor: int, path: Path, writable: bool) -> None:
    """Takes the locks of a reader or writer of an image; they last until the file is closed.

    A reader lets others read but not write; a writer lets nobody do either.

    Raises:
        InUseError: another program stands against it.
    """
    if sys.platform != "linux":
        return
    permissions = [_CONSISTENT_READ, *([_WRITE, _RESIZE] if writable else [])]
    unshared = [_WRITE, _RESIZE]
    mine = [_HELD + bit for bit in permissions] + [_UNSHARED + bit for bit in unshared]
    against = [_UNSHARED + bit for bit in permissions] + [_HELD + bit for bit in unshared]
    try:
        for byte in mine:
            _call(descriptor, _OFD_SETLK, _READ_LOCK, byte)
        in_use = any(
            _call(descriptor, _OFD_GETLK, _WRITE_LOCK, byte) != _UNLOCKED for byte in against
        )
    except OSError as error:
        if error.errno in _NOT_HERE:
            return
        in_use = True
    if in_use:
        raise InUseError(
            messages.OPEN_IN_ANOTHER_PROGRAM.format(path=path),
            path=str(path),
        )


def _call(descriptor: int, command: int, kind: int, byte: int) -> int:
    """One fcntl call about one byte; returns the kind of lock that it answers with."""
    import fcntl  # not on Windows

    asked = _FLOCK.pack(kind, os.SEEK_SET, byte, 1, 0)
    answer: int = _FLOCK.unpack(fcntl.fcntl(descriptor, command, asked))[0]
    return answer


def try_lock(descriptor: int) -> bool:
    """Keeps our own commands off a file until it is closed; False where another one holds it.

    Where there are no such locks (Windows), nothing is held and nobody stands against it.
    """
    if sys.platform == "win32":
        return True
    import fcntl  # not on Windows

    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return False
    return True


def open_locked(path: Path) -> int | None:
    """Opens a file, which is made where it is missing, and locks it; its owner unlinks it.

    Returns:
        A descriptor; None while another command holds it.

    Raises:
        OSError: it cannot be opened.
    """
    descriptor = os.open(path, os.O_RDWR | os.O_CREAT, 0o600)
    try:
        if try_lock(descriptor) and os.path.samestat(os.fstat(descriptor), path.stat()):
            return descriptor
    except FileNotFoundError:
        pass  # its owner has just come to its end: there is a new one to lock
    os.close(descriptor)
    return None
