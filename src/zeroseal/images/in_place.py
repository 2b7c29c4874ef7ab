"""Changing an image in place: staged in the container's bytes, committed whole or not at all."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from types import TracebackType
from typing import Self

from zeroseal.blocks.staged import StagedStore
from zeroseal.blocks.store import Store
from zeroseal.errors import InUseError, MissingError, RefusedError, UsageError
from zeroseal.images.container_file import BorrowedFile, StagedFile
from zeroseal.images.detect import open_container, open_image
from zeroseal.images.host_file import HostFile
from zeroseal.images.image import Image, WritableImage
from zeroseal.images.reach import OWN_FOLDER, Reach
from zeroseal.images.redo import commit_staged
from zeroseal.images.redo_head import journal_folder
from zeroseal.images.writable import open_writable
from zeroseal.messages import images as messages
from zeroseal.progress import Progress, quiet


class InPlaceChange:
    """An image with changes that are not in its file yet.

    Args:
        path: a file, or a block device that holds a raw disk.
        reach: what the user said of the image.
        device_folder: where the journal of a device goes, and what comes with the change.

    Attributes:
        image: the disk; what is written to it stays staged until ``commit``.
        folder: where the journal goes.

    Raises:
        InUseError: another program uses the image.
        RefusedError, UnsupportedError: this kind of container is not changed in place.
    """

    image: WritableImage

    def __init__(
        self, path: Path, reach: Reach = OWN_FOLDER, device_folder: Path | None = None
    ) -> None:
        self.path = path
        is_device = path.is_block_device()
        if path.is_symlink() and not is_device:
            raise RefusedError(
                messages.SYMBOLIC_LINK_NOT_CHANGED.format(path=path, target=path.resolve())
            )
        if is_device:
            _check_folder(path, device_folder)
        elif device_folder:
            raise UsageError(messages.FILE_NEEDS_NO_JOURNAL_FOLDER.format(path=path))
        self.folder = journal_folder(path, device_folder)
        reading = open_image(path, reach=reach)
        self._reach = replace(reach, format_name=reading.format_name)
        self._parents = reading
        before = reading.file.size_bytes, path.stat().st_mtime_ns
        for file in reading.files:
            file.close()
        if is_device and reading.format_name != "raw":
            raise RefusedError(
                messages.CONTAINER_ON_DEVICE_NOT_CHANGED.format(
                    path=path, format_name=reading.format_name
                )
            )
        self._host = HostFile(path, writable=True)
        try:
            self._host.lock()
            if before != (self._host.size_bytes, path.stat().st_mtime_ns):
                raise InUseError(messages.JUST_CHANGED_BY_ANOTHER_PROGRAM.format(path=path))
            self._staged = StagedFile(self._host, self.folder)
            self.image = open_writable(self._staged, reading)
        except BaseException:
            self._host.close()
            reading.close()
            raise

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()

    def close(self) -> None:
        """Gives up what was not committed."""
        self.image.close()
        self._parents.close()

    def take(self, staged: StagedStore) -> None:
        """Puts all changes of a staged disk into the container, still staged."""
        for extent in list(staged.iter_changes()):
            if extent.is_zero:
                self.image.zero(extent.offset_bytes, extent.length)
            else:
                _copy(staged, self.image, extent.offset_bytes, extent.length)
        self.image.flush()

    def reopen_before(self) -> Image:
        """The disk as the file holds it now, without any change.

        Only for reading, and only while this object is open.
        """
        return open_container(BorrowedFile(self._host), [self.path.resolve()], self._reach)

    def reopen(self) -> Image:
        """The disk as the container's bytes will say it is after ``commit``, read anew.

        Only for reading, and only while this object is open.
        """
        return open_container(BorrowedFile(self._staged), [self.path.resolve()], self._reach)

    def commit(
        self, companion: str = "", companion_text: str = "", progress: Progress = quiet
    ) -> None:
        """Brings everything into the file; a companion is a small text file that comes with it.

        Raises:
            UnfinishedError: the host failed us; the message says what holds now.
        """
        self.image.flush()
        with_file = companion, companion_text
        commit_staged(self._host, self._staged, *with_file, self.folder, progress)


def _check_folder(device: Path, folder: Path | None) -> None:
    if folder is None:
        raise RefusedError(messages.DEVICE_NEEDS_JOURNAL_FOLDER.format(device=device))
    if not folder.is_dir():
        raise MissingError(messages.FOLDER_FOR_JOURNAL_NOT_FOUND.format(folder=folder))


def _copy(source: Store, target: Store, offset: int, length: int) -> None:
    for start in range(offset, offset + length, 1 << 20):
        count = min(1 << 20, offset + length - start)
        target.write(start, source.read(start, count))
