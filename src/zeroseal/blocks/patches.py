"""Patches: ranges of a store that are stale, and what is to lie there instead.

A file system, a table or LVM says which ranges are stale; a seal writes exactly those. A long range
costs no memory, because zeros and regular patterns are not kept as bytes.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple, Protocol, TypeVar

import numpy as np

from zeroseal.blocks.store import Extent, Store

ByteRange = tuple[int, int]  # (offset, length)
AnyRange = TypeVar("AnyRange", ByteRange, tuple[int, int, int])
_PIECE_BYTES = 1 << 20
_NEAR_BYTES = 32 << 10  # so little in between is read faster than left out
_APART_BYTES = 64  # differences of a structure nearer than that are one patch


class Pattern(Protocol):
    """A long content that is not kept in memory."""

    def read(self, start: int, length: int) -> bytes:
        """The bytes from ``start`` on, counted from the beginning of the patch."""


class OnesPattern:
    """Every bit is set."""

    def read(self, start: int, length: int) -> bytes:
        """So many bytes of 0xFF."""
        del start
        return b"\xff" * length


class Patch(NamedTuple):
    """A stale range of a store.

    Attributes:
        offset_bytes: where it begins, with ``length`` in bytes.
        what: what lies there, in words.
        clean: what is to lie there: bytes of that length, a pattern, or None for zeros.
        stale_bytes: how many bytes are not as they should be; of a long range all that is stored.
    """

    offset_bytes: int
    length: int
    what: str
    clean: bytes | Pattern | None = None
    stale_bytes: int = 0

    @property
    def end_bytes(self) -> int:
        """Where it ends, exclusive."""
        return self.offset_bytes + self.length

    def apply(self, store: Store) -> None:
        """Makes the range as it should be."""
        if self.clean is None:
            store.zero(self.offset_bytes, self.length)
        elif isinstance(self.clean, bytes):
            store.write(self.offset_bytes, self.clean)
        else:
            for start in range(0, self.length, _PIECE_BYTES):
                piece = self.clean.read(start, min(_PIECE_BYTES, self.length - start))
                store.write(self.offset_bytes + start, piece)


def zero_patches(store: Store, ranges: Iterable[ByteRange], what: str) -> list[Patch]:
    """Patches for ranges that are to be zeros: what of them is stored, or nothing.

    Reading stops at the first byte that is not zero: a used disk costs no more than a sealed one.
    """
    patches: list[Patch] = []
    is_dirty = False
    for offset, length in ranges:
        for extent in store.iter_extents(offset, length):
            if not extent.is_zero:
                start, size = extent.offset_bytes, extent.length
                patches.append(Patch(start, size, what, stale_bytes=size))
                is_dirty = is_dirty or has_content(store, extent)
    return patches if is_dirty else []


def differing_patches(offset: int, stale: bytes, clean: bytes, what: str) -> Iterator[Patch]:
    """Patches that make a structure as it should be; only what differs is in them.

    Args:
        offset: where the structure lies.
        stale: its bytes as they are.
        clean: its bytes as they should be, of the same length.
        what: what it is.
    """
    if stale == clean:
        return
    there, wanted = np.frombuffer(stale, np.uint8), np.frombuffer(clean, np.uint8)
    places = np.flatnonzero(there != wanted)
    breaks = np.flatnonzero(np.diff(places) > _APART_BYTES) + 1
    for group in np.split(places, breaks):
        first, end = int(group[0]), int(group[-1]) + 1
        piece = clean[first:end]
        is_zero = piece.count(0) == len(piece)
        yield Patch(offset + first, end - first, what, None if is_zero else piece, len(group))


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


def has_content(store: Store, extent: Extent, piece_bytes: int = 1 << 16) -> bool:
    """Whether anything but zeros lies in an extent; reading stops at the first that does."""
    end = extent.offset_bytes + extent.length
    for start in range(extent.offset_bytes, end, piece_bytes):
        content = store.read(start, min(piece_bytes, end - start))
        if content != bytes(len(content)):
            return True
    return False
