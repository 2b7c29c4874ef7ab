"""A store put together from parts of others: extents of a disk, segments of a logical volume."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from zeroseal.blocks.store import Extent, Store


class Piece(NamedTuple):
    """A part of another store; without a store it is zeros."""

    store: Store | None
    offset_bytes: int
    length: int


class PiecedStore(Store):
    """Pieces one after the other."""

    def __init__(self, pieces: Sequence[Piece]) -> None:
        self._pieces = [piece for piece in pieces if piece.length]
        self._starts: list[int] = []
        self.size_bytes = 0
        for piece in self._pieces:
            self._starts.append(self.size_bytes)
            self.size_bytes += piece.length

    @property
    def pieces(self) -> list[Piece]:
        """The pieces, in order."""
        return self._pieces

    def read(self, offset_bytes: int, length: int) -> bytes:  # noqa: D102 - as in Store
        self.check_range(offset_bytes, length)
        parts = [
            part.store.read(part.offset_bytes, part.length) if part.store else bytes(part.length)
            for part in self._parts(offset_bytes, length)
        ]
        return parts[0] if len(parts) == 1 else b"".join(parts)

    def iter_extents(self, offset_bytes: int, length: int) -> Iterator[Extent]:  # noqa: D102
        self.check_range(offset_bytes, length)
        for part in self._parts(offset_bytes, length):
            if part.store is None:
                yield Extent(offset_bytes, part.length, is_zero=True)
            else:
                moved = offset_bytes - part.offset_bytes
                for extent in part.store.iter_extents(part.offset_bytes, part.length):
                    yield extent._replace(offset_bytes=extent.offset_bytes + moved)
            offset_bytes += part.length

    def write(self, offset_bytes: int, data: bytes | memoryview) -> None:  # noqa: D102
        self.check_range(offset_bytes, len(data))
        view = memoryview(data)
        for part in self._parts(offset_bytes, len(data)):
            if part.store is None:
                raise TypeError("a piece without a store cannot be changed")
            part.store.write(part.offset_bytes, view[: part.length])
            view = view[part.length :]

    def zero(self, offset_bytes: int, length: int) -> None:  # noqa: D102
        self.check_range(offset_bytes, length)
        for part in self._parts(offset_bytes, length):
            if part.store is not None:
                part.store.zero(part.offset_bytes, part.length)

    def _parts(self, offset: int, length: int) -> Iterator[Piece]:
        """The pieces cut to a range, in order."""
        index = bisect_right(self._starts, offset) - 1
        while length > 0:
            store, start, size = self._pieces[index]
            skip = offset - self._starts[index]
            count = min(length, size - skip)
            yield Piece(store, start + skip, count)
            offset, length, index = offset + count, length - count, index + 1
