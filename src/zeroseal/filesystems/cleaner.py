"""What every file system says of what lies beside its files, and how that is cleaned."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from enum import Enum
from typing import Protocol

from zeroseal.blocks.store import Extent, Store

ByteRange = tuple[int, int]  # (offset, length)


class Part(Enum):
    """Where old content stays beside the files."""

    JOURNAL = "journal"
    FREE_INODES = "free inodes"
    FREE_SPACE = "free space"
    SLACK = "slack"


class Cleaner(Protocol):
    """Finds and cleans those parts of one volume; one that it does not have is clean."""

    def ranges(self, part: Part) -> Iterator[ByteRange]:
        """Yields where a part lies on the volume; slack is told only by how much it is."""

    def stored_bytes(self, part: Part) -> int:
        """How much of a part is stored, 0 where it is clean.

        Raises:
            DamagedError: the volume contradicts itself.
        """

    def blank(self, part: Part) -> None:
        """Cleans a part: zeros, or what the format has in their place."""


def stored_in(store: Store, ranges: Iterable[ByteRange]) -> int:
    """How much of some ranges is stored, 0 where all of them read as zeros.

    Reading stops at the first byte that is not zero: a used disk costs no more than a sealed one.
    """
    stored, is_dirty = 0, False
    for offset, length in ranges:
        for extent in store.iter_extents(offset, length):
            if not extent.is_zero:
                stored += extent.length
                is_dirty = is_dirty or _has_content(store, extent)
    return stored if is_dirty else 0


def zero_all(store: Store, ranges: Iterable[ByteRange]) -> None:
    """Zeroes ranges; they are listed first, because they may be found by what is zeroed."""
    for offset, length in list(ranges):
        store.zero(offset, length)


def _has_content(store: Store, extent: Extent, piece_bytes: int = 1 << 16) -> bool:
    end = extent.offset_bytes + extent.length
    for start in range(extent.offset_bytes, end, piece_bytes):
        content = store.read(start, min(piece_bytes, end - start))
        if content != bytes(len(content)):
            return True
    return False
