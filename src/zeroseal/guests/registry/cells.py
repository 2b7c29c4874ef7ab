"""The cells of a hive in memory: given, taken back, joined with free neighbours, zeroed."""

from __future__ import annotations

from bisect import bisect_left, insort

from zeroseal.errors import DamagedError
from zeroseal.guests.registry import layout
from zeroseal.guests.registry.layout import BinHeader
from zeroseal.messages import registry as messages

_SMALLEST = 8


class Cells:
    """All bins of a hive as one array of bytes; offsets count from the first bin.

    Attributes:
        body: the bins.

    Raises:
        DamagedError: the bins or cells do not fill it.
    """

    def __init__(self, body: bytes, where: str) -> None:
        self.body = bytearray(body)
        self._where = where
        self._free: list[tuple[int, int]] = []  # (length, offset), shortest first
        self._free_at: dict[int, int] = {}
        self._free_end: dict[int, int] = {}
        place = 0
        while place < len(self.body):
            header = BinHeader.parse(bytes(self.body[place : place + BinHeader.SIZE]))
            length = header.length
            fits = length and length % layout.PAGE_BYTES == 0 and place + length <= len(self.body)
            if header.magic != layout.BIN_MAGIC or not fits:
                raise DamagedError(messages.BIN_HEADER_MISSING_IN_HIVE.format(where=where))
            self._read_bin(place + layout.BIN_HEADER_BYTES, place + length)
            place += length

    def _read_bin(self, place: int, end: int) -> None:
        while place < end:
            size = int.from_bytes(self.body[place : place + 4], "little", signed=True)
            length = abs(size)
            if length < _SMALLEST or length % layout.CELL_ALIGNMENT or place + length > end:
                raise DamagedError(messages.INVALID_CELL_IN_HIVE.format(where=self._where))
            if size > 0:
                self._note_free(place, length)
            place += length

    def give(self, content: bytes, room: int = 0) -> int:
        """Puts content into a new cell, of at least ``room`` bytes; returns its offset."""
        needed = 4 + max(len(content), room)
        needed = -(-needed // layout.CELL_ALIGNMENT) * layout.CELL_ALIGNMENT
        at = bisect_left(self._free, (needed, 0))
        if at == len(self._free):
            self._add_bin(needed)
            at = bisect_left(self._free, (needed, 0))
        length, offset = self._free[at]
        self._forget_free(offset, length)
        if length - needed >= _SMALLEST:
            self._set_free(offset + needed, length - needed)
        else:
            needed = length
        self.body[offset : offset + needed] = bytes(needed)
        self.body[offset : offset + 4] = (-needed).to_bytes(4, "little", signed=True)
        self.body[offset + 4 : offset + 4 + len(content)] = content
        return offset

    def take_back(self, offset: int) -> None:
        """Frees a cell: it is zeroed, and joined with the free ones beside it."""
        length = self.length(offset)
        start, end = offset, offset + length
        behind = self._free_at.get(end)
        if behind:  # a bin's header lies between cells of two bins: none begins where one ends
            self._forget_free(end, behind)
            end += behind
        before = self._free_end.get(offset)
        if before is not None:
            self._forget_free(before, offset - before)
            start = before
        self.body[start:end] = bytes(end - start)
        self._set_free(start, end - start)

    def zero_free(self) -> None:
        """Zeroes what free cells hold."""
        for offset, length in self._free_at.items():
            self.body[offset + 4 : offset + length] = bytes(length - 4)

    def length(self, offset: int) -> int:
        """How long a cell in use is, its own length counted."""
        size = -int.from_bytes(self.body[offset : offset + 4], "little", signed=True)
        if not _SMALLEST <= size <= len(self.body) - offset or size % layout.CELL_ALIGNMENT:
            raise DamagedError(messages.INVALID_CELL_IN_HIVE.format(where=self._where))
        return size

    def content(self, offset: int) -> bytes:
        """What a cell in use holds."""
        return bytes(self.body[offset + 4 : offset + self.length(offset)])

    def set_content(self, offset: int, content: bytes) -> None:
        """Writes over the beginning of a cell in use."""
        if len(content) > self.length(offset) - 4:
            raise ValueError(messages.DOES_NOT_FIT_INTO_CELL)
        self.body[offset + 4 : offset + 4 + len(content)] = content

    def put(self, offset: int, content: bytes, room: int = 0) -> int:
        """Gives a cell other content, in its place where that fits; returns its offset."""
        if len(content) <= self.length(offset) - 4:
            self.body[offset + 4 : offset + self.length(offset)] = content.ljust(
                self.length(offset) - 4, b"\0"
            )
            return offset
        self.take_back(offset)
        return self.give(content, room)

    # -- inside

    def _set_free(self, offset: int, length: int) -> None:
        self.body[offset : offset + 4] = length.to_bytes(4, "little", signed=True)
        self._note_free(offset, length)

    def _note_free(self, offset: int, length: int) -> None:
        insort(self._free, (length, offset))
        self._free_at[offset] = length
        self._free_end[offset + length] = offset

    def _forget_free(self, offset: int, length: int) -> None:
        del self._free[bisect_left(self._free, (length, offset))]
        del self._free_at[offset]
        del self._free_end[offset + length]

    def _add_bin(self, needed: int) -> None:
        length = -(-(needed + layout.BIN_HEADER_BYTES) // layout.PAGE_BYTES) * layout.PAGE_BYTES
        offset = len(self.body)
        if offset + length > layout.MOST_HIVE_BYTES:
            raise ValueError(messages.HIVE_WOULD_BECOME_TOO_LARGE)
        header = BinHeader.blank(magic=layout.BIN_MAGIC, offset=offset, length=length)
        self.body += header.build() + bytes(length - BinHeader.SIZE)
        self._set_free(offset + BinHeader.SIZE, length - BinHeader.SIZE)
