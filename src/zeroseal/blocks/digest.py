"""The digest of a disk's contents: a tree over equal chunks of the virtual disk.

It is the same in every container format, a change can be located by chunk, and chunks of zeros
are left out, so that holes cost nothing. A chunk's leaf is the BLAKE3 hash of its bytes; the root
is the BLAKE3 hash of a header (a context string, disk size, chunk size) and of (number, leaf) of
every chunk that is not all zeros, numbers as little-endian 64-bit integers.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from blake3 import blake3

from zeroseal.blocks.staged import StagedStore
from zeroseal.blocks.store import Extent, Store
from zeroseal.blocks.workers import map_ordered, worker_count
from zeroseal.progress import Progress, Step, quiet

CHUNK_BYTES = 1 << 20
LEAF_BYTES = 32
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


def digest_before(
    source: Store, staged: StagedStore, digest: DiskDigest, progress: Progress = quiet
) -> str:
    """The digest of a disk before its staged changes: only what they touch is read.

    Args:
        source: the disk beneath.
        staged: the same disk with its changes; of the same size.
        digest: of the staged disk.
        progress: told how far it is.
    """
    touched = {number for extent in staged.iter_changes() for number in _chunks_of(extent)}
    leaves = {number: leaf for number, leaf in digest.leaves.items() if number not in touched}
    stored = [number for number in iter_stored_chunks(source) if number in touched]

    def read_leaf(number: int) -> tuple[int, bytes | None]:
        start = number * CHUNK_BYTES
        return number, leaf_of(source.read(start, min(CHUNK_BYTES, source.size_bytes - start)))

    for done, (number, leaf) in enumerate(map_ordered(read_leaf, stored, 2 * worker_count())):
        progress(Step("reading the source", done * CHUNK_BYTES, len(stored) * CHUNK_BYTES))
        if leaf is not None:
            leaves[number] = leaf
    return DiskDigest(source.size_bytes, leaves).root


def iter_stored_chunks(store: Store) -> Iterator[int]:
    """Yields, in order, numbers of the chunks that may hold data, as the container's tables say."""
    following = 0
    for extent in store.iter_extents(0, store.size_bytes):
        if not extent.is_zero:
            chunks = _chunks_of(extent)
            yield from range(max(following, chunks.start), chunks.stop)
            following = max(following, chunks.stop)


def leaf_of(content: bytes, begin: int = 0) -> bytes | None:
    """The hash of the chunk that begins there in a content; None for one of zeros only."""
    length = min(CHUNK_BYTES, len(content) - begin)
    if content.startswith(_zeros(length), begin):
        return None
    return blake3(memoryview(content)[begin : begin + length]).digest()


def _chunks_of(extent: Extent) -> range:
    last = (extent.offset_bytes + extent.length - 1) // CHUNK_BYTES
    return range(extent.offset_bytes // CHUNK_BYTES, last + 1)


def _zeros(length: int) -> bytes:
    return _ZEROS if length == CHUNK_BYTES else bytes(length)
