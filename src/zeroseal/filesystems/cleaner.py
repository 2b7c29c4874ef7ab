"""What every file system says of what lies beside its files, and how that is cleaned."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from enum import Enum
from typing import Protocol, TypeVar

import numpy as np

from zeroseal.blocks.store import Extent, Store

ByteRange = tuple[int, int]  # (offset, length)
AnyRange = TypeVar("AnyRange", ByteRange, tuple[int, int, int])
_PIECE_BYTES = 1 << 20
_NEAR_BYTES = 32 << 10  # so little in between is read faster than left out


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
                is_dirty = is_dirty or has_content(store, extent)
    return stored if is_dirty else 0


def iter_near(ranges: Iterable[AnyRange]) -> Iterator[list[AnyRange]]:
    """Groups (offset, length, ...) in order of their offsets that one reading may cover."""
    group: list[AnyRange] = []
    end = 0
    for item in ranges:
        if group and (item[0] > end + _NEAR_BYTES or item[0] > group[0][0] + _PIECE_BYTES):
            yield group
            group = []
        group.append(item)
        end = item[0] + item[1]
    if group:
        yield group


def count_stale(stale: bytes, clean: bytes) -> int:
    """How many bytes are not as they should be; both are of one length."""
    there, wanted = np.frombuffer(stale, np.uint8), np.frombuffer(clean, np.uint8)
    return int(np.count_nonzero(there != wanted))


def zero_all(store: Store, ranges: Iterable[ByteRange]) -> None:
    """Zeroes ranges; they are listed first, because they may be found by what is zeroed."""
    for offset, length in list(ranges):
        store.zero(offset, length)


def has_content(store: Store, extent: Extent, piece_bytes: int = 1 << 16) -> bool:
    """Whether anything but zeros lies in an extent; reading stops at the first that does."""
    end = extent.offset_bytes + extent.length
    for start in range(extent.offset_bytes, end, piece_bytes):
        content = store.read(start, min(piece_bytes, end - start))
        if content != bytes(len(content)):
            return True
    return False
