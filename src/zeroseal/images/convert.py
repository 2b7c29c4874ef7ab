"""Writing a whole disk into a new container, and proving that it can be read back."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from pathlib import Path

from zeroseal.blocks.digest import (
    CHUNK_BYTES,
    DigestBuilder,
    DiskDigest,
    digest_store,
    iter_ahead,
    iter_windows,
)
from zeroseal.blocks.sizes import size_text
from zeroseal.blocks.store import Store
from zeroseal.errors import NoSpaceError, NotProvenError
from zeroseal.images.container_file import BorrowedFile, ContainerFile
from zeroseal.images.create import ContainerSpec, ImageWriter, create_image
from zeroseal.images.detect import open_container, open_image
from zeroseal.images.reach import Reach
from zeroseal.progress import Progress, Step, quiet

_FLUSH_BYTES = 64 << 20  # the host writes to its disk while we go on


def write_disk(
    disk: Store,
    file: ContainerFile,
    spec: ContainerSpec,
    name: str,
    progress: Progress = quiet,
) -> DiskDigest:
    """Writes a disk into an empty file, hashing it on the way; zeros are left out.

    Args:
        disk: what is written.
        file: where to; empty.
        spec: the container.
        name: what the file will be called.
        progress: told how far it is.

    Raises:
        NoSpaceError: the target's folder has too little room; found before the work where possible.
    """
    if not file.is_device:
        check_space(disk, file.path.parent, spec)
    writer = create_image(file, spec, disk.size_bytes, name)
    with DigestBuilder(disk.size_bytes) as builder, closing(_Flusher()) as flusher:
        flushing, unflushed = flusher.submit(file.flush), 0
        for offset, window in iter_disk(disk, writer, progress):
            builder.add(offset // CHUNK_BYTES, window)
            unflushed += len(window)
            if unflushed >= _FLUSH_BYTES and flushing.done():
                flushing.result()
                flushing, unflushed = flusher.submit(file.flush), 0
        flushing.result()
        writer.finish()
        progress(Step("writing", disk.size_bytes, disk.size_bytes))
        return builder.finish()


class _Flusher(ThreadPoolExecutor):
    """Flushes beside the writing; when that ends by an error nobody waits for the host's disk."""

    def __init__(self) -> None:
        super().__init__(1)

    def close(self) -> None:
        """Gives up what is not done yet."""
        self.shutdown(wait=False, cancel_futures=True)


def iter_disk(
    disk: Store, writer: ImageWriter, progress: Progress = quiet
) -> Iterator[tuple[int, bytes]]:
    """Feeds a disk's data to a writer; yields (offset, window) of all that was looked at."""
    for number, window in iter_ahead(iter_windows(disk)):
        offset = number * CHUNK_BYTES
        for start, piece in _iter_stored(window, writer.granule_bytes):
            writer.write(offset + start, piece)
        yield offset, window
        progress(Step("writing", offset, disk.size_bytes))


def read_back(
    file: ContainerFile, digest: DiskDigest, format_name: str, progress: Progress = quiet
) -> None:
    """Opens what was written, by its bytes alone, and compares its contents.

    Args:
        file: the file, still open; a device cannot be opened a second time.
        digest: of what it must hold.
        format_name: the container that was written; a guest may have made a raw disk look like
            another one.
        progress: told how far it is.

    Raises:
        NotProvenError: they differ.
    """
    reach = Reach(format_name)
    image = (
        open_container(BorrowedFile(file), [file.path], reach)
        if file.is_device
        else open_image(file.path, reach=reach)
    )
    try:
        if digest_store(image, "reading back", progress).root != digest.root:
            raise NotProvenError(
                "what was written does not read back as it should: the target's disk may be failing"
            )
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
            f"{folder} has {size_text(free)} free, and the disk needs about {size_text(needed)}: "
            "free some, or choose another folder with -o",
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
