"""What removed keys and values left in the free cells of a hive."""

from __future__ import annotations

import struct
from collections.abc import Iterator

from zeroseal.errors import DamagedError
from zeroseal.guests.registry import layout
from zeroseal.guests.registry.hive import Hive
from zeroseal.guests.registry.layout import BinHeader

_SMALLEST = 8


def count_stale(hive: Hive) -> int:
    """How many bytes in free cells are not zero.

    Raises:
        DamagedError: bins or cells do not fill the hive.
    """
    return sum(len(content) - content.count(0) for content in iter_free(hive))


def iter_free(hive: Hive) -> Iterator[bytes]:
    """Yields the contents of the free cells."""
    place = 0
    while place < hive.size:
        head = BinHeader.parse(hive.read(place, BinHeader.SIZE))
        if head.magic != layout.BIN_MAGIC or not head.length or head.length % layout.PAGE_BYTES:
            raise hive.damaged("a bin is none")
        yield from _free_in(hive, hive.read(place, head.length))
        place += head.length


def _free_in(hive: Hive, raw: bytes) -> Iterator[bytes]:
    at, end = layout.BIN_HEADER_BYTES, len(raw)
    while at < end:
        (size,) = struct.unpack_from("<i", raw, at)
        length = abs(size)
        if length < _SMALLEST or at + length > end:
            raise _no_cell(hive)
        if size > 0:
            yield raw[at + 4 : at + length]
        at += length


def _no_cell(hive: Hive) -> DamagedError:
    return hive.damaged("a cell is none")
