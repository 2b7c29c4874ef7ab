"""Output files: whole or not at all, never over another file, and nothing left when they fail."""

from __future__ import annotations

import contextlib
import errno
import os
import secrets
from pathlib import Path
from types import TracebackType
from typing import NoReturn, Self

from zeroseal.errors import OutputExistsError, UnfinishedError, environment_error
from zeroseal.images.host_file import HostFile
from zeroseal.messages import images as messages


class OutputFile:
    """A file that comes to be at ``target`` when it is committed.

    Until then it is a hidden temporary file beside the target, readable by its owner only. When the
    block is left without a commit, it is wiped (``HostFile.wipe``) and unlinked.

    Raises:
        OutputExistsError: the target is there already.
        UnfinishedError: its folder is missing or cannot be written to.
    """

    def __init__(self, target: Path) -> None:
        self.target = target
        if os.path.lexists(target):
            raise OutputExistsError(
                messages.ALREADY_EXISTS.format(target=target),
                path=str(target),
            )
        if not target.parent.is_dir():
            raise UnfinishedError(messages.FOLDER_NOT_FOUND.format(parent=target.parent))
        self._temporary = target.parent / f".{target.name}.{secrets.token_hex(4)}.part"
        flags = os.O_RDWR | os.O_CREAT | os.O_EXCL | getattr(os, "O_BINARY", 0)
        try:
            descriptor = os.open(self._temporary, flags, 0o600)
        except OSError as error:
            raise environment_error(error, target, "writing") from error
        self.file = HostFile(self._temporary, descriptor, writable=True)
        self._is_committed = False

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        if not self._is_committed:
            with contextlib.suppress(UnfinishedError):
                self.file.wipe()
        self.file.close()
        self._temporary.unlink(missing_ok=True)

    def commit(self, mode: int = 0o666) -> None:
        """Flushes the file and gives it its name; ``mode`` is cut by the user's mask.

        Raises:
            OutputExistsError: something took the name in the meantime.
        """
        try:
            self.file.flush()
            _give_name(self._temporary, self.target)
            self.target.chmod(mode & ~_umask())
            flush_folder(self.target.parent)
        except FileExistsError:
            raise OutputExistsError(
                messages.CREATED_IN_THE_MEANTIME.format(target=self.target)
            ) from None
        except OSError as error:
            raise environment_error(error, self.target, "writing") from error
        self._is_committed = True


class OutputDevice:
    """A block device that is overwritten: what it held is gone from the first moment on.

    Args:
        target: the device.
        disk_bytes: of the disk that is to be written.

    Raises:
        InUseError: it is mounted, or another program uses it.
        MissingError: it cannot be written to.
        NoSpaceError: it is smaller than the disk; it stays as it is.
    """

    def __init__(self, target: Path, disk_bytes: int) -> None:
        self.target = target
        self.file = HostFile(target, writable=True)
        self._is_committed = False
        try:
            self.file.lock()
            self.file.resize(disk_bytes)  # of a device: refuses one that is too small
            self.file.punch(0, self.file.size_bytes)
        except BaseException:
            self.file.close()
            raise

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        if not self._is_committed:
            with contextlib.suppress(UnfinishedError):
                self.file.punch(0, self.file.size_bytes)
        self.file.close()

    def commit(self) -> None:
        """Returns when all of it is on the device."""
        self.file.flush()
        self._is_committed = True


def open_output(
    target: Path, may_overwrite_device: bool, disk_bytes: int
) -> OutputFile | OutputDevice:
    """A new file, or a block device that the user said may be overwritten.

    Raises:
        OutputExistsError: the target is there already, or is a device and nobody said so.
        UnfinishedError: the file's folder is missing or cannot be written to.
    """
    if not target.is_block_device():
        return OutputFile(target)
    if not may_overwrite_device:
        refuse_device(target)
    return OutputDevice(target, disk_bytes)


def refuse_device(target: Path) -> NoReturn:
    """Raises OutputExistsError: nobody said that a device may be overwritten."""
    raise OutputExistsError(
        messages.DEVICE_NEEDS_OVERWRITE_OPTION.format(target=target),
        path=str(target),
    )


def write_small_file(target: Path, content: bytes, mode: int = 0o666) -> None:
    """Writes a small file whole or not at all; ``mode`` is cut by the user's mask."""
    with OutputFile(target) as output:
        output.file.write(0, content)
        output.commit(mode)


def replace_small_file(target: Path, content: bytes, mode: int = 0o666) -> None:
    """Writes a small file whole, in place of one that may be there; ``mode`` is cut by the mask."""
    temporary = target.with_name(f".{target.name}.{secrets.token_hex(4)}.part")
    write_small_file(temporary, content, mode)
    try:
        temporary.replace(target)
        flush_folder(target.parent)
    except OSError as error:
        raise environment_error(error, target, "writing") from error


def _give_name(temporary: Path, target: Path) -> None:
    """A hard link fails where the name is taken, which a rename would not."""
    try:
        os.link(temporary, target)
    except OSError as error:
        if error.errno not in (errno.EPERM, errno.ENOTSUP, errno.EOPNOTSUPP, errno.ENOSYS):
            raise
        if os.path.lexists(target):
            raise FileExistsError(errno.EEXIST, "file exists", str(target)) from error
        temporary.rename(target)


def _umask() -> int:
    mask = os.umask(0o077)
    os.umask(mask)
    return mask


def flush_folder(folder: Path) -> None:
    """Makes new and lost names in a folder lasting, where the system can."""
    if os.name != "posix":
        return
    descriptor = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)
