"""Files of the host by offset: the only place where image bytes meet the operating system."""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Iterator
from pathlib import Path
from threading import Lock
from typing import Protocol

from zeroseal.blocks.store import Extent
from zeroseal.errors import (
    InUseError,
    MissingError,
    NoSpaceError,
    TruncatedError,
    environment_error,
)
from zeroseal.images.container_file import ContainerFile
from zeroseal.images.holes import punch_hole, take_room
from zeroseal.images.locks import lock_image
from zeroseal.messages import images as messages
from zeroseal.progress import Progress, Step, quiet

_WIPE_BYTES = 1 << 20
_MOST_OVERWRITTEN = 64 << 20  # of a file that is given up: half a second of a usual disk
_HASHED_BYTES = 4 << 20


class Hasher(Protocol):
    """Takes bytes and gives a hash of them all."""

    def update(self, data: bytes, /) -> object:
        """Takes the next bytes."""

    def hexdigest(self) -> str:
        """The hash, in hexadecimal."""


class HostFile(ContainerFile):
    """One regular file of the host, or a block device, as a store.

    A device is opened exclusively: one that is mounted, or that another program claims, is refused.

    Args:
        path: the file.
        descriptor: an open descriptor to take over; without one the file is opened for reading.
        writable: whether ``write`` and ``zero`` are allowed; writing past the end grows the file.

    Raises:
        MissingError: the path is neither a readable regular file nor a device.
        InUseError: the device is mounted, or claimed by another program.
    """

    def __init__(self, path: Path, descriptor: int | None = None, writable: bool = False) -> None:
        self.path = path
        self._writable = writable
        self._lock = Lock()
        self._closed = False
        if descriptor is None:
            descriptor = _open_regular(path, writable)
        self._descriptor = descriptor
        facts = os.fstat(descriptor)
        self.is_device = stat.S_ISBLK(facts.st_mode)
        self.size_bytes = facts.st_size
        if self.is_device:
            self.size_bytes = os.lseek(descriptor, 0, os.SEEK_END)

    @property
    def allocated_bytes(self) -> int:
        """How much of the host's disk the file takes."""
        facts = os.fstat(self._descriptor)
        if self.is_device:
            return self.size_bytes
        blocks: int | None = getattr(facts, "st_blocks", None)
        return facts.st_size if blocks is None else blocks * 512

    @property
    def descriptor(self) -> int:
        """The open descriptor, for calls that only the host knows."""
        return self._descriptor

    @property
    def inode(self) -> int:
        """The file's number on its file system."""
        return os.fstat(self._descriptor).st_ino

    def read(self, offset_bytes: int, length: int) -> bytes:  # noqa: D102 - as in Store
        self._check_present(offset_bytes, length)
        pieces = []
        while length:
            try:
                piece = self._read_some(offset_bytes, length)
            except OSError as error:
                raise environment_error(error, self.path, "reading") from error
            if not piece:
                raise TruncatedError(messages.BECAME_SHORTER_WHILE_READ.format(path=self.path))
            pieces.append(piece)
            offset_bytes += len(piece)
            length -= len(piece)
        return pieces[0] if len(pieces) == 1 else b"".join(pieces)

    def write(self, offset_bytes: int, data: bytes | memoryview) -> None:  # noqa: D102
        if not self._writable:
            raise TypeError(f"{self.path} was opened for reading")
        view = memoryview(data)
        while view:
            try:
                count = self._write_some(offset_bytes, view)
            except OSError as error:
                raise environment_error(error, self.path, "writing") from error
            offset_bytes += count
            view = view[count:]
        self.size_bytes = max(self.size_bytes, offset_bytes)

    def zero(self, offset_bytes: int, length: int) -> None:
        """Overwrites the range with zeros; see ``punch`` for giving its room back."""
        for start in range(offset_bytes, offset_bytes + length, _WIPE_BYTES):
            self.write(start, bytes(min(_WIPE_BYTES, offset_bytes + length - start)))

    def iter_extents(self, offset_bytes: int, length: int) -> Iterator[Extent]:
        """Yields holes as zero extents where the host's file system tells them."""
        self.check_range(offset_bytes, length)
        end = offset_bytes + length
        while offset_bytes < end:
            data_start = self._seek_data(offset_bytes, end)
            if data_start > offset_bytes:
                yield Extent(offset_bytes, data_start - offset_bytes, is_zero=True)
            if data_start >= end:
                return
            data_end = self._seek_hole(data_start, end)
            yield Extent(data_start, data_end - data_start, is_zero=False)
            offset_bytes = data_end

    def lock(self) -> None:
        """Keeps other programs from changing the file, and refuses where one already does.

        Raises:
            InUseError: another program stands against it.
        """
        lock_image(self._descriptor, self.path, self._writable)

    def resize(self, size_bytes: int) -> None:
        """Makes the file this long; what is added is a hole. A device stays as large as it is.

        Raises:
            NoSpaceError: the device is too small.
        """
        if self.is_device:
            if size_bytes > self.size_bytes:
                raise NoSpaceError(
                    messages.DEVICE_TOO_SMALL.format(
                        path=self.path, size_bytes=self.size_bytes, needed_bytes=size_bytes
                    )
                )
            return
        try:
            os.ftruncate(self._descriptor, size_bytes)
        except OSError as error:
            raise environment_error(error, self.path, "writing") from error
        self.size_bytes = size_bytes

    def flush(self) -> None:
        """Returns when the file's bytes are on the host's disk."""
        try:
            os.fsync(self._descriptor)
        except OSError as error:
            raise environment_error(error, self.path, "writing") from error

    def punch(self, offset_bytes: int, length: int) -> None:
        """Makes the range a hole where the host can, and zeros where it cannot; never grows."""
        length = min(length, self.size_bytes - offset_bytes)
        if length > 0 and not punch_hole(self._descriptor, offset_bytes, length):
            for extent in list(self.iter_extents(offset_bytes, length)):
                if not extent.is_zero:
                    self.zero(extent.offset_bytes, extent.length)

    def take_room(self, offset_bytes: int, length: int) -> None:
        """Makes sure that writing a range cannot run out of space; what it reads as stays.

        Raises:
            NoSpaceError: there is none.
        """
        try:
            take_room(self._descriptor, offset_bytes, length)
        except OSError as error:
            raise environment_error(error, self.path, "reserving space for") from error

    def reserve(self, size_bytes: int) -> None:
        """Takes room for this many bytes on the host's disk, so that writing cannot run out of it.

        Raises:
            NoSpaceError: there is not so much.
        """
        if not hasattr(os, "posix_fallocate"):
            return
        try:
            os.posix_fallocate(self._descriptor, 0, size_bytes)
        except OSError as error:
            raise environment_error(error, self.path, "reserving space for") from error
        self.size_bytes = max(self.size_bytes, size_bytes)

    def wipe(self) -> None:
        """Overwrites the data of a file that is removed next with zeros.

        Whoever interrupts a command waits for that, so it is done for small files only
        (``_MOST_OVERWRITTEN``): of a large one, whose disk its source holds too, the host's file
        system may keep what was written already.
        """
        extents = [item for item in self.iter_extents(0, self.size_bytes) if not item.is_zero]
        if sum(extent.length for extent in extents) > _MOST_OVERWRITTEN:
            return
        for extent in extents:
            self.zero(extent.offset_bytes, extent.length)
        self.flush()

    def close(self) -> None:  # noqa: D102
        if not self._closed:
            self._closed = True
            os.close(self._descriptor)

    def _check_present(self, offset_bytes: int, length: int) -> None:
        if offset_bytes + length > self.size_bytes:
            raise TruncatedError(
                messages.TRUNCATED_OR_DAMAGED.format(
                    path=self.path,
                    size_bytes=self.size_bytes,
                    offset_bytes=offset_bytes,
                    end_bytes=offset_bytes + length,
                ),
                path=str(self.path),
                offset=offset_bytes,
                expected=length,
                got=self.size_bytes,
            )

    def _read_some(self, offset: int, length: int) -> bytes:
        if hasattr(os, "pread"):
            return os.pread(self._descriptor, min(length, 1 << 30), offset)
        with self._lock:
            os.lseek(self._descriptor, offset, os.SEEK_SET)
            return os.read(self._descriptor, min(length, 1 << 30))

    def _write_some(self, offset: int, data: memoryview) -> int:
        if hasattr(os, "pwrite"):
            return os.pwrite(self._descriptor, data, offset)
        with self._lock:
            os.lseek(self._descriptor, offset, os.SEEK_SET)
            return os.write(self._descriptor, data)

    def _seek_data(self, offset: int, end: int) -> int:
        if not hasattr(os, "SEEK_DATA"):
            return offset
        with self._lock:
            try:
                return min(os.lseek(self._descriptor, offset, os.SEEK_DATA), end)
            except OSError as error:
                return end if error.errno == errno.ENXIO else offset

    def _seek_hole(self, offset: int, end: int) -> int:
        if not hasattr(os, "SEEK_HOLE"):
            return end
        with self._lock:
            try:
                return min(os.lseek(self._descriptor, offset, os.SEEK_HOLE), end)
            except OSError:
                return end


def _open_regular(path: Path, writable: bool) -> int:
    flags = (os.O_RDWR if writable else os.O_RDONLY) | getattr(os, "O_BINARY", 0)
    flags |= getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_CLOEXEC", 0)
    if path.is_block_device():
        flags |= os.O_EXCL  # open(2): fails with EBUSY where the system uses the device
    try:
        descriptor = os.open(path, flags)
    except OSError as error:
        if error.errno == errno.EBUSY:
            raise InUseError(
                messages.MOUNTED_OR_IN_USE.format(path=path),
                path=str(path),
            ) from error
        reason = (error.strerror or str(error)).lower()
        raise MissingError(
            messages.CANNOT_OPEN.format(path=path, reason=reason), path=str(path)
        ) from error
    mode = os.fstat(descriptor).st_mode
    if not stat.S_ISREG(mode) and not stat.S_ISBLK(mode):
        os.close(descriptor)
        raise MissingError(
            messages.NOT_A_FILE_OR_DEVICE.format(path=path),
            path=str(path),
        )
    return descriptor


def hash_file(path: Path, hasher: Hasher, stage: str, progress: Progress = quiet) -> str:
    """The hash of a file's bytes, in hexadecimal.

    Args:
        path: the file.
        hasher: what takes them, such as one of ``hashlib``.
        stage: what the progress calls this.
        progress: told how far it is.

    Raises:
        UnfinishedError: it cannot be read.
    """
    try:
        size = path.stat().st_size
        with path.open("rb") as file:
            while piece := file.read(_HASHED_BYTES):
                hasher.update(piece)
                progress(Step(stage, file.tell(), size))
            return hasher.hexdigest()
    except OSError as error:
        raise environment_error(error, path, "reading") from error
