"""The digest of a disk's contents: a tree over equal chunks of the virtual disk.

It is the same in every container format, a change can be located by chunk, and chunks of zeros
are left out, so that holes cost nothing. A chunk's leaf is the BLAKE3 hash of its bytes; the root
is the BLAKE3 hash of a header (a context string, disk size, chunk size) and of (number, leaf) of
every chunk that is not all zeros, numbers as little-endian 64-bit integers.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from queue import SimpleQueue
from types import TracebackType
from typing import Self

from blake3 import blake3

from zeroseal.blocks.staged import StagedStore
from zeroseal.blocks.store import Extent, Store
from zeroseal.progress import Progress, Step, quiet

CHUNK_BYTES = 1 << 20
LEAF_BYTES = 32
_WINDOW_CHUNKS = 8
_CONTEXT = b"zeroseal disk tree 1\0"
_ZEROS = bytes(CHUNK_BYTES)


@dataclass(frozen=True)
class DiskDigest:
    """The digest of one disk; ``leaves`` maps chunk numbers to hashes, zero chunks left out."""

    size_bytes: int
    leaves: dict[int, bytes]

    @property
    def root(self) -> str:
        """The hash over all, in hexadecimal."""
        hasher = blake3(_CONTEXT)
        hasher.update(self.size_bytes.to_bytes(8, "little") + CHUNK_BYTES.to_bytes(8, "little"))
        for number in sorted(self.leaves):
            hasher.update(number.to_bytes(8, "little") + self.leaves[number])
        return hasher.hexdigest()


class DigestBuilder:
    """Hashes chunks on another core while the caller reads or writes the next."""

    _MOST_WAITING = 32

    def __init__(self, size_bytes: int) -> None:
        self._size_bytes = size_bytes
        self._pool = ThreadPoolExecutor(1)
        self._waiting: SimpleQueue[tuple[int, Future[bytes]]] = SimpleQueue()
        self._leaves: dict[int, bytes] = {}

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._pool.shutdown(cancel_futures=True)

    def add(self, first_number: int, window: bytes) -> None:
        """Adds neighbouring chunks; those that are all zeros are left out."""
        view = memoryview(window)
        for start in range(0, len(window), CHUNK_BYTES):
            chunk = view[start : start + CHUNK_BYTES]
            if not window.startswith(_zeros(len(chunk)), start):
                number = first_number + start // CHUNK_BYTES
                self._waiting.put((number, self._pool.submit(_leaf, chunk)))
        while self._waiting.qsize() > self._MOST_WAITING:
            self._collect()

    def finish(self) -> DiskDigest:
        """The digest of all chunks added."""
        while not self._waiting.empty():
            self._collect()
        return DiskDigest(self._size_bytes, self._leaves)

    def _collect(self) -> None:
        number, future = self._waiting.get()
        self._leaves[number] = future.result()


def iter_windows(store: Store) -> Iterator[tuple[int, bytes]]:
    """Yields (number of the first chunk, content) of neighbouring chunks that may hold data.

    A window holds up to ``_WINDOW_CHUNKS`` chunks: few large reads let the other threads go on.
    """
    last = -1
    for extent in store.iter_extents(0, store.size_bytes):
        if extent.is_zero:
            continue
        first = max(extent.offset_bytes // CHUNK_BYTES, last + 1)
        last = (extent.offset_bytes + extent.length - 1) // CHUNK_BYTES
        for number in range(first, last + 1, _WINDOW_CHUNKS):
            start = number * CHUNK_BYTES
            end = min(number + _WINDOW_CHUNKS, last + 1) * CHUNK_BYTES
            yield number, store.read(start, min(end, store.size_bytes) - start)


def digest_store(store: Store, stage: str, progress: Progress = quiet) -> DiskDigest:
    """Digests a whole disk."""
    with DigestBuilder(store.size_bytes) as builder:
        for number, window in iter_ahead(iter_windows(store)):
            builder.add(number, window)
            progress(Step(stage, number * CHUNK_BYTES, store.size_bytes))
        progress(Step(stage, store.size_bytes, store.size_bytes))
        return builder.finish()


def digest_before(source: Store, staged: StagedStore, digest: DiskDigest) -> str:
    """The digest of a disk before its staged changes: only what they touch is read.

    Args:
        source: the disk beneath.
        staged: the same disk with its changes; of the same size.
        digest: of the staged disk.
    """
    touched = _chunks_of(staged.iter_changes())
    leaves = {number: leaf for number, leaf in digest.leaves.items() if number not in touched}
    for number in sorted(touched & stored_chunks(source)):
        start = number * CHUNK_BYTES
        chunk = source.read(start, min(CHUNK_BYTES, source.size_bytes - start))
        if chunk != _zeros(len(chunk)):
            leaves[number] = _leaf(chunk)
    return DiskDigest(source.size_bytes, leaves).root


def stored_chunks(store: Store) -> set[int]:
    """Numbers of the chunks that may hold data, as far as the container's tables say."""
    return _chunks_of(ext for ext in store.iter_extents(0, store.size_bytes) if not ext.is_zero)


def _chunks_of(extents: Iterable[Extent]) -> set[int]:
    numbers: set[int] = set()
    for extent in extents:
        last = (extent.offset_bytes + extent.length - 1) // CHUNK_BYTES
        numbers.update(range(extent.offset_bytes // CHUNK_BYTES, last + 1))
    return numbers


def _zeros(length: int) -> bytes:
    return _ZEROS if length == CHUNK_BYTES else bytes(length)


def iter_ahead(windows: Iterator[tuple[int, bytes]]) -> Iterator[tuple[int, bytes]]:
    """The same windows; the next is read on another core while the caller handles this one."""
    with ThreadPoolExecutor(1) as pool:
        waiting = pool.submit(next, windows, None)
        while (window := waiting.result()) is not None:
            waiting = pool.submit(next, windows, None)
            yield window


def _leaf(chunk: bytes | memoryview) -> bytes:
    return blake3(chunk).digest()
