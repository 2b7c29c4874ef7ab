"""The bytes of a container, wherever they lie: a host file, a part of one, or a staged one."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from zeroseal.blocks.staged import StagedStore
from zeroseal.blocks.store import Extent, PaddedStore, SliceStore, Store

_ENDLESS = 1 << 62


class ContainerFile(Store):
    """What a container format reads and writes.

    Attributes:
        path: what messages name.
        is_device: whether it is a block device, whose size cannot change.
    """

    path: Path
    is_device: bool = False

    @property
    def allocated_bytes(self) -> int:
        """How much of the host's disk it takes."""
        return self.size_bytes

    def resize(self, size_bytes: int) -> None:
        """Makes it this long; what is added is zeros."""
        raise TypeError(f"{type(self).__name__} has a fixed size")

    def reserve(self, size_bytes: int) -> None:
        """Takes room for this many bytes on the host's disk."""

    def flush(self) -> None:
        """Returns when the bytes are on the host's disk."""


class FileSlice(ContainerFile):
    """A stretch of another file, read-only: a disk inside an archive."""

    def __init__(self, file: ContainerFile, offset_bytes: int, size_bytes: int) -> None:
        self._file = file
        self._slice = SliceStore(file, offset_bytes, size_bytes)
        self.path = file.path
        self.size_bytes = size_bytes

    def read(self, offset_bytes: int, length: int) -> bytes:  # noqa: D102 - as in Store
        return self._slice.read(offset_bytes, length)

    def iter_extents(self, offset_bytes: int, length: int) -> Iterator[Extent]:  # noqa: D102
        return self._slice.iter_extents(offset_bytes, length)

    def close(self) -> None:  # noqa: D102
        self._file.close()


class BorrowedFile(FileSlice):
    """A whole file for reading, which somebody else closes."""

    def __init__(self, file: ContainerFile) -> None:
        super().__init__(file, 0, file.size_bytes)

    def close(self) -> None:
        """Leaves it open."""


class StagedFile(ContainerFile):
    """A file with changes that are not in it yet; it can grow and shrink in appearance.

    ``flush`` does nothing: what becomes of the changes is for ``images/in_place.py`` to say.
    """

    def __init__(self, below: ContainerFile, spill_folder: Path | None = None) -> None:
        self._below = below
        self._staged = StagedStore(PaddedStore(below, _ENDLESS), spill_folder or below.path.parent)
        self.path = below.path
        self.size_bytes = below.size_bytes

    @property
    def allocated_bytes(self) -> int:  # noqa: D102 - as in ContainerFile
        return self._below.allocated_bytes

    def read(self, offset_bytes: int, length: int) -> bytes:  # noqa: D102
        self.check_range(offset_bytes, length)
        return self._staged.read(offset_bytes, length)

    def write(self, offset_bytes: int, data: bytes | memoryview) -> None:
        """Puts data; writing past the end makes the file longer."""
        self._staged.write(offset_bytes, data)
        self.size_bytes = max(self.size_bytes, offset_bytes + len(data))

    def zero(self, offset_bytes: int, length: int) -> None:  # noqa: D102
        self._staged.zero(offset_bytes, length)
        self.size_bytes = max(self.size_bytes, offset_bytes + length)

    def resize(self, size_bytes: int) -> None:  # noqa: D102
        if size_bytes < self.size_bytes:
            self._staged.zero(size_bytes, self.size_bytes - size_bytes)
        self.size_bytes = size_bytes

    def iter_extents(self, offset_bytes: int, length: int) -> Iterator[Extent]:  # noqa: D102
        self.check_range(offset_bytes, length)
        return self._staged.iter_extents(offset_bytes, length)

    def iter_changes(self) -> Iterator[Extent]:
        """Yields, in order, what differs (or may differ) from the file below."""
        for extent in self._staged.iter_changes():
            if extent.offset_bytes >= self.size_bytes:
                return
            yield extent._replace(length=min(extent.length, self.size_bytes - extent.offset_bytes))

    def close(self) -> None:  # noqa: D102
        self._staged.close()
        self._below.close()
