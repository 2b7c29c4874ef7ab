"""The store: a sized array of bytes that can be read, written and zeroed.

An image, a partition inside it and a staged layer over it are all stores, so that everything above
works the same on each of them. Offsets and lengths are bytes.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator
from threading import Lock
from typing import NamedTuple, NoReturn

from zeroseal.errors import NotProvenError, TruncatedError
from zeroseal.messages import general as messages
from zeroseal.progress import CancelToken


class Extent(NamedTuple):
    """A range of a store; ``is_zero`` says that it is known to read as zeros without reading it."""

    offset_bytes: int
    length: int
    is_zero: bool


class Store(ABC):
    """A sized array of bytes. A store that cannot be changed leaves out ``write`` and ``zero``."""

    size_bytes: int

    @abstractmethod
    def read(self, offset_bytes: int, length: int) -> bytes:
        """Returns exactly ``length`` bytes.

        Raises:
            TruncatedError: the range does not lie inside the store.
        """

    @abstractmethod
    def iter_extents(self, offset_bytes: int, length: int) -> Iterator[Extent]:
        """Yields extents that cover the range, in order, without gaps or overlaps."""

    def write(self, offset_bytes: int, data: bytes | memoryview) -> None:
        """Puts ``data`` at the offset; the store never grows."""
        raise TypeError(f"{type(self).__name__} is read-only")

    def zero(self, offset_bytes: int, length: int) -> None:
        """Makes the range read as zeros, and keeps it as a range where the store can."""
        raise TypeError(f"{type(self).__name__} is read-only")

    def close(self) -> None:  # noqa: B027 - most stores hold nothing open
        """Releases what the store holds open; closing twice is fine."""

    def check_range(self, offset_bytes: int, length: int) -> None:
        """Raises TruncatedError unless the range lies inside the store."""
        if offset_bytes < 0 or length < 0 or offset_bytes + length > self.size_bytes:
            raise TruncatedError(
                messages.BYTES_MISSING.format(
                    offset_bytes=offset_bytes,
                    end_bytes=offset_bytes + length,
                    size_bytes=self.size_bytes,
                ),
                offset=offset_bytes,
                expected=length,
                got=self.size_bytes,
            )


class MemoryStore(Store):
    """A store in memory, for small sources and for tests."""

    def __init__(self, content: bytes) -> None:
        self._content = bytearray(content)
        self.size_bytes = len(content)

    def read(self, offset_bytes: int, length: int) -> bytes:  # noqa: D102 - as in Store
        self.check_range(offset_bytes, length)
        return bytes(self._content[offset_bytes : offset_bytes + length])

    def iter_extents(self, offset_bytes: int, length: int) -> Iterator[Extent]:  # noqa: D102
        self.check_range(offset_bytes, length)
        if length:
            yield Extent(offset_bytes, length, is_zero=False)

    def write(self, offset_bytes: int, data: bytes | memoryview) -> None:  # noqa: D102
        self.check_range(offset_bytes, len(data))
        self._content[offset_bytes : offset_bytes + len(data)] = data

    def zero(self, offset_bytes: int, length: int) -> None:  # noqa: D102
        self.write(offset_bytes, bytes(length))


class CachedStore(Store):
    """A store for reading whose small reads are answered from blocks that were read whole.

    Tables of a file system are asked for record after record, folder after folder: most of these
    questions are about bytes beside those of the last ones. Used by several threads.

    Args:
        below: does not change while this is used.
    """

    _BLOCK_BYTES = 16384
    _MOST_BLOCKS = 1024

    def __init__(self, below: Store) -> None:
        self._below = below
        self._blocks: dict[int, bytes] = {}
        self._lock = Lock()
        self.size_bytes = below.size_bytes

    def read(self, offset_bytes: int, length: int) -> bytes:  # noqa: D102 - as in Store
        number, begin = divmod(offset_bytes, self._BLOCK_BYTES)
        if begin + length > self._BLOCK_BYTES or offset_bytes < 0:
            return self._below.read(offset_bytes, length)
        block = self._blocks.get(number)
        if block is None:
            block = self._read_block(number)
        if begin + length > len(block):  # the store ends here
            self.check_range(offset_bytes, length)
        return block[begin : begin + length]

    def iter_extents(self, offset_bytes: int, length: int) -> Iterator[Extent]:  # noqa: D102
        return self._below.iter_extents(offset_bytes, length)

    def _read_block(self, number: int) -> bytes:
        start = number * self._BLOCK_BYTES
        count = max(0, min(self._BLOCK_BYTES, self.size_bytes - start))
        block = self._below.read(start, count)
        with self._lock:
            if len(self._blocks) >= self._MOST_BLOCKS:
                del self._blocks[next(iter(self._blocks))]  # the oldest
            self._blocks[number] = block
        return block


class CancellableStore(Store):
    """A store for reading whose reads end the work when that was cancelled."""

    def __init__(self, below: Store, token: CancelToken) -> None:
        self._below, self._token = below, token
        self.size_bytes = below.size_bytes

    def read(self, offset_bytes: int, length: int) -> bytes:  # noqa: D102 - as in Store
        self._token.check()
        return self._below.read(offset_bytes, length)

    def iter_extents(self, offset_bytes: int, length: int) -> Iterator[Extent]:  # noqa: D102
        for extent in self._below.iter_extents(offset_bytes, length):
            self._token.check()
            yield extent


class PaddedStore(Store):
    """A store for reading with zeros behind its end, up to a larger size."""

    def __init__(self, below: Store, size_bytes: int) -> None:
        self._below, self._stored = below, below.size_bytes
        self.size_bytes = max(size_bytes, below.size_bytes)

    def read(self, offset_bytes: int, length: int) -> bytes:  # noqa: D102 - as in Store
        self.check_range(offset_bytes, length)
        stored = max(0, min(length, self._stored - offset_bytes))
        return (self._below.read(offset_bytes, stored) if stored else b"").ljust(length, b"\0")

    def iter_extents(self, offset_bytes: int, length: int) -> Iterator[Extent]:  # noqa: D102
        self.check_range(offset_bytes, length)
        stored = max(0, min(length, self._stored - offset_bytes))
        if stored:
            yield from self._below.iter_extents(offset_bytes, stored)
        if length > stored:
            yield Extent(offset_bytes + stored, length - stored, is_zero=True)


class TwinStore(Store):
    """Two stores that must hold the same, read as one.

    Args:
        expected: what the disk is to be.
        got: what was made of it.
        what: of ``got``, for the message.
    """

    def __init__(self, expected: Store, got: Store, what: str) -> None:
        self._expected, self._got, self._what = expected, got, what
        self.size_bytes = expected.size_bytes
        if expected.size_bytes != got.size_bytes:
            self._differ(0)

    def read(self, offset_bytes: int, length: int) -> bytes:
        """As in Store.

        Raises:
            NotProvenError: they differ here.
        """
        content = self._expected.read(offset_bytes, length)
        if self._got.read(offset_bytes, length) != content:
            self._differ(offset_bytes)
        return content

    def iter_extents(self, offset_bytes: int, length: int) -> Iterator[Extent]:
        """Yields as zeros what both know to be zeros."""
        end = offset_bytes + length
        both = [
            iter(store.iter_extents(offset_bytes, length)) for store in (self._expected, self._got)
        ]
        heads = [next(one, None) for one in both]
        while offset_bytes < end:
            for index, head in enumerate(heads):
                while head and head.offset_bytes + head.length <= offset_bytes:
                    head = heads[index] = next(both[index], None)
            known = [head for head in heads if head]
            stop = min(head.offset_bytes + head.length for head in known)
            is_zero = all(head.is_zero for head in known)
            yield Extent(offset_bytes, stop - offset_bytes, is_zero)
            offset_bytes = stop

    def _differ(self, offset: int) -> NoReturn:
        raise NotProvenError(
            messages.WOULD_BE_WRONG_AT_OR_AFTER.format(what=self._what, offset=offset),
            offset=offset,
        )


class SliceStore(Store):
    """A part of another store, seen as a store that begins at 0: a partition of a disk."""

    def __init__(self, parent: Store, offset_bytes: int, size_bytes: int) -> None:
        parent.check_range(offset_bytes, size_bytes)
        self._parent = parent
        self.offset_bytes = offset_bytes
        self.size_bytes = size_bytes

    def read(self, offset_bytes: int, length: int) -> bytes:  # noqa: D102
        self.check_range(offset_bytes, length)
        return self._parent.read(self.offset_bytes + offset_bytes, length)

    def iter_extents(self, offset_bytes: int, length: int) -> Iterator[Extent]:  # noqa: D102
        self.check_range(offset_bytes, length)
        for extent in self._parent.iter_extents(self.offset_bytes + offset_bytes, length):
            yield extent._replace(offset_bytes=extent.offset_bytes - self.offset_bytes)

    def write(self, offset_bytes: int, data: bytes | memoryview) -> None:  # noqa: D102
        self.check_range(offset_bytes, len(data))
        self._parent.write(self.offset_bytes + offset_bytes, data)

    def zero(self, offset_bytes: int, length: int) -> None:  # noqa: D102
        self.check_range(offset_bytes, length)
        self._parent.zero(self.offset_bytes + offset_bytes, length)
