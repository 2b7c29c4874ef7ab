"""Raw images: the virtual disk byte for byte; holes of the file are zeros."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.blocks.store import Extent
from zeroseal.images.container_file import ContainerFile
from zeroseal.images.image import SECTOR_BYTES, WritableImage


class RawImage(WritableImage):
    """A raw image. A file that ends inside a sector reads as if zeros filled that sector."""

    format_name = "raw"

    def __init__(self, file: ContainerFile, size_bytes: int | None = None) -> None:
        self._file = file
        self.path = file.path
        self.size_bytes = -(-file.size_bytes // SECTOR_BYTES) * SECTOR_BYTES
        if size_bytes is not None:
            self.size_bytes = size_bytes

    @property
    def file(self) -> ContainerFile:  # noqa: D102 - as in Image
        return self._file

    def read(self, offset_bytes: int, length: int) -> bytes:  # noqa: D102
        self.check_range(offset_bytes, length)
        stored = max(0, min(length, self._file.size_bytes - offset_bytes))
        return (
            self._file.read(offset_bytes, stored).ljust(length, b"\0") if stored else bytes(length)
        )

    def write(self, offset_bytes: int, data: bytes | memoryview) -> None:  # noqa: D102
        self.check_range(offset_bytes, len(data))
        self._file.write(offset_bytes, data)

    def zero(self, offset_bytes: int, length: int) -> None:
        """Writes zeros over what the file stores of the range; past its end it is zero already."""
        self.check_range(offset_bytes, length)
        stored = max(0, min(length, self._file.size_bytes - offset_bytes))
        for extent in list(self._file.iter_extents(offset_bytes, stored)):
            if not extent.is_zero:
                self._file.zero(extent.offset_bytes, extent.length)

    def iter_extents(self, offset_bytes: int, length: int) -> Iterator[Extent]:  # noqa: D102
        self.check_range(offset_bytes, length)
        stored = max(0, min(length, self._file.size_bytes - offset_bytes))
        if stored:
            yield from self._file.iter_extents(offset_bytes, stored)
        if length > stored:
            yield Extent(offset_bytes + stored, length - stored, is_zero=True)

    def flush(self) -> None:
        """Returns when the image is on the host's disk."""
        self._file.flush()

    def close(self) -> None:  # noqa: D102
        self._file.close()
