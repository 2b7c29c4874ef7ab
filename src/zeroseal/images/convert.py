"""Writing a whole disk into a new container, and proving that it can be read back."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from pathlib import Path

from zeroseal.blocks.digest import DiskDigest
from zeroseal.blocks.pipeline import DiskReading, digest_store, read_disk_once
from zeroseal.blocks.search import Needle
from zeroseal.blocks.sizes import size_text
from zeroseal.blocks.store import Store
from zeroseal.errors import NoSpaceError, NotProvenError
from zeroseal.images.container_file import BorrowedFile, ContainerFile
from zeroseal.images.create import ContainerSpec, create_image
from zeroseal.images.detect import open_container
from zeroseal.images.hashed_file import HashedFile
from zeroseal.images.host_file import HostFile
from zeroseal.images.reach import Reach
from zeroseal.messages import images as messages
from zeroseal.progress import Progress, quiet

_FLUSH_BYTES = 64 << 20  # the host writes to its disk while we go on


def write_disk(
    disk: Store,
    file: ContainerFile,
    spec: ContainerSpec,
    name: str,
    progress: Progress = quiet,
    needles: list[Needle] | None = None,
) -> DiskReading:
    """Writes a disk into an empty file, digested and searched on the way; zeros are left out.

    Args:
        disk: what is written.
        file: where to; empty.
        spec: the container.
        name: what the file will be called.
        progress: told how far it is.
        needles: what to search for.

    Raises:
        NoSpaceError: the target's folder has too little room; found before the work where possible.
    """
    if not file.is_device:
        check_space(disk, file.path.parent, spec)
    writer = create_image(file, spec, disk.size_bytes, name)
    with closing(_Flusher(file)) as flusher:

        def take(offset: int, window: bytes) -> None:
            for start, piece in _iter_stored(window, writer.granule_bytes):
                writer.write(offset + start, piece)
            flusher.note(len(window))

        reading = read_disk_once(disk, "writing", progress, needles, take)
        flusher.finish()
        writer.finish()
        return reading


class _Flusher:
    """Flushes beside the writing; when that ends by an error nobody waits for the host's disk."""

    def __init__(self, file: ContainerFile) -> None:
        self._file = file
        self._pool = ThreadPoolExecutor(1)
        self._flushing = self._pool.submit(file.flush)
        self._unflushed = 0

    def note(self, length: int) -> None:
        """Counts what was written; flushes now and then."""
        self._unflushed += length
        if self._unflushed >= _FLUSH_BYTES and self._flushing.done():
            self._flushing.result()
            self._flushing, self._unflushed = self._pool.submit(self._file.flush), 0

    def finish(self) -> None:
        """Returns when what was begun is done."""
        self._flushing.result()

    def close(self) -> None:
        """Gives up what is not done yet."""
        self._pool.shutdown(wait=False, cancel_futures=True)


def read_back(
    file: ContainerFile, digest: DiskDigest, format_name: str, progress: Progress = quiet
) -> str:
    """Opens what was written, by its bytes alone, and compares its contents, all in one reading.

    Args:
        file: the file, still open; a device cannot be opened a second time.
        digest: of what it must hold.
        format_name: the container that was written; a guest may have made a raw disk look like
            another one.
        progress: told how far it is.

    Returns:
        The BLAKE3 hash of the file, in hexadecimal; empty for a raw one, whose bytes are the
        disk's, which has its own digest.

    Raises:
        NotProvenError: they differ.
    """
    hashed = None if format_name == "raw" else HashedFile(HostFile(file.path))
    image = open_container(hashed or BorrowedFile(file), [file.path], Reach(format_name))
    try:
        if digest_store(image, "reading back", progress).root != digest.root:
            raise NotProvenError(messages.DOES_NOT_READ_BACK)
        return hashed.hash_rest(progress) if hashed else ""
    finally:
        image.close()


def check_space(disk: Store, folder: Path, spec: ContainerSpec) -> None:
    """Refuses before the work what cannot end well; a compressed result may need less than this.

    Raises:
        NoSpaceError: the folder has too little room.
    """
    if spec.compress or spec.format_name == "ova":
        return
    needed = disk.size_bytes
    if not spec.preallocate:
        extents = disk.iter_extents(0, disk.size_bytes)
        needed = sum(extent.length for extent in extents if not extent.is_zero)
    free = shutil.disk_usage(folder).free
    if needed > free:
        raise NoSpaceError(
            messages.NOT_ENOUGH_SPACE.format(
                folder=folder, free=size_text(free), needed=size_text(needed)
            ),
            expected=needed,
            got=free,
        )


def _iter_stored(window: bytes, granule: int) -> Iterator[tuple[int, memoryview]]:
    """Yields (start, content) of the stretches that are not zeros, cut at granules."""
    zeros, view = bytes(granule), memoryview(window)
    begin = -1
    for start in range(0, len(window), granule):
        if window.startswith(zeros[: len(window) - start], start):
            if begin >= 0:
                yield begin, view[begin:start]
            begin = -1
        elif begin < 0:
            begin = start
    if begin >= 0:
        yield begin, view[begin:]
