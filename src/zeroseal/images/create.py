"""Making a new image in a container format, from its contents in order."""

from __future__ import annotations

import zlib
from abc import ABC, abstractmethod
from collections import deque
from concurrent.futures import Future, ThreadPoolExecutor

from zeroseal.errors import UsageError
from zeroseal.images.host_file import HostFile
from zeroseal.images.qcow2.write import WritableQcow2

FORMATS = ("raw", "qcow2")
_WAITING_CLUSTERS = 64
_COMPRESSION_LEVEL = 6
_QCOW2_WINDOW_BITS = -12  # raw deflate, 4 KiB window: what readers of the format allow for


class ImageWriter(ABC):
    """Takes the data of a new image in ascending order; what is not given reads as zeros."""

    granule_bytes = 65536

    @abstractmethod
    def write(self, offset_bytes: int, data: bytes | memoryview) -> None:
        """Puts data; offsets are multiples of ``granule_bytes``, and only the last may be short."""

    @abstractmethod
    def finish(self) -> None:
        """Completes the container."""


def create_image(
    file: HostFile, format_name: str, size_bytes: int, compress: bool = False
) -> ImageWriter:
    """Begins a new image in an empty file.

    Raises:
        UsageError: no such format, or one that cannot be compressed.
    """
    if format_name == "raw":
        if compress:
            raise UsageError("a raw image cannot be compressed: use --format qcow2")
        return _RawWriter(file, size_bytes)
    if format_name == "qcow2":
        image = WritableQcow2.create(file, size_bytes)
        return _CompressingWriter(image) if compress else _Qcow2Writer(image)
    raise UsageError(f"there is no format {format_name!r}: choose from {', '.join(FORMATS)}")


class _RawWriter(ImageWriter):
    def __init__(self, file: HostFile, size_bytes: int) -> None:
        self._file = file
        file.resize(size_bytes)

    def write(self, offset_bytes: int, data: bytes | memoryview) -> None:
        self._file.write(offset_bytes, data)

    def finish(self) -> None:
        pass


class _Qcow2Writer(ImageWriter):
    def __init__(self, image: WritableQcow2) -> None:
        self._image = image

    def write(self, offset_bytes: int, data: bytes | memoryview) -> None:
        self._image.write(offset_bytes, data)

    def finish(self) -> None:
        self._image.flush()


class _CompressingWriter(_Qcow2Writer):
    """Compresses clusters on both cores; they are stored in order."""

    def __init__(self, image: WritableQcow2) -> None:
        super().__init__(image)
        self._pool = ThreadPoolExecutor(2)
        self._waiting: deque[tuple[int, bytes, Future[bytes]]] = deque()

    def write(self, offset_bytes: int, data: bytes | memoryview) -> None:
        size = self.granule_bytes
        for start in range(0, len(data), size):
            cluster = bytes(data[start : start + size]).ljust(size, b"\0")
            packed = self._pool.submit(_deflate, cluster)
            self._waiting.append((offset_bytes + start, cluster, packed))
            if len(self._waiting) > _WAITING_CLUSTERS:
                self._store_next()

    def finish(self) -> None:
        while self._waiting:
            self._store_next()
        self._pool.shutdown()
        super().finish()

    def _store_next(self) -> None:
        offset, cluster, future = self._waiting.popleft()
        packed = future.result()
        if len(packed) < len(cluster):
            self._image.write_compressed(offset, packed)
        else:
            stored = min(len(cluster), self._image.size_bytes - offset)
            self._image.write(offset, cluster[:stored])


def _deflate(cluster: bytes) -> bytes:
    deflater = zlib.compressobj(_COMPRESSION_LEVEL, zlib.DEFLATED, _QCOW2_WINDOW_BITS)
    return deflater.compress(cluster) + deflater.flush()
