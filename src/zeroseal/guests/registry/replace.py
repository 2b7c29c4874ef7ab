"""Putting other bytes in the place of some, all over a hive: names, values, classes, rights.

New bytes are as long as old ones, so that no cell moves. Lists of keys are sorted by name and carry
hashes of names: those of renamed keys are made anew. A large value lies in segments, and may hold
old bytes across the border of two.
"""

from __future__ import annotations

import re
import struct
from bisect import bisect_right
from collections.abc import Iterator, Sequence
from itertools import pairwise

from zeroseal.guests.registry import layout
from zeroseal.guests.registry.hive_cells import HiveCells
from zeroseal.guests.registry.layout import BinHeader, KeyCell

Pairs = Sequence[tuple[bytes, bytes]]


class HiveReplacer(HiveCells):
    """Replaces bytes in a hive that is being edited."""

    def replace_bytes(self, pairs: Pairs) -> int:
        """Replaces everything; returns how many places changed.

        Args:
            pairs: (old, new), of the same length.
        """
        body = self._cells.body
        places = [
            found.start()
            for old, _new in pairs
            for found in re.finditer(re.escape(old), bytes(body))
        ]
        cells = list(_iter_used(body))
        parents = self._parents_of_named(places, cells)
        for old, new in pairs:
            for found in list(re.finditer(re.escape(old), bytes(body))):
                body[found.start() : found.end()] = new
        crossing = self._replace_across(cells, pairs)
        self._names.clear()
        self._indexed = layout.NONE
        for parent in parents:
            cell = self._key(parent)
            self._set_subkeys(cell, self._subkeys(cell))
            self._write_key(parent, cell)
        return len(places) + crossing

    def _parents_of_named(self, places: list[int], cells: list[int]) -> set[int]:
        """The keys above those in whose names something is replaced."""
        found = set()
        for place in places:
            number = bisect_right(cells, place) - 1
            content = self._cells.content(cells[number]) if number >= 0 else b""
            if content[:2] == b"nk" and cells[number] != self._base.root:
                found.add(KeyCell.parse(content[: KeyCell.SIZE]).parent)
        return found

    def _replace_across(self, cells: list[int], pairs: Pairs) -> int:
        """Replaces what lies across the segments of large values."""
        count = 0
        for cell in cells:
            if self._cells.body[cell + 4 : cell + 6] != b"db":
                continue
            _list, segments = self._segments(cell)
            for first, second in pairwise(segments):
                count += self._replace_at_border(first, second, pairs)
        return count

    def _replace_at_border(self, first: int, second: int, pairs: Pairs) -> int:
        count, body = 0, self._cells.body
        for old, new in pairs:
            margin = len(old) - 1
            end = first + 4 + layout.SEGMENT_BYTES
            head = body[end - margin : end]
            joined = bytes(head + body[second + 4 : second + 4 + margin])
            place = joined.find(old)
            if place >= 0:
                made = joined[:place] + new + joined[place + len(old) :]
                body[end - margin : end] = made[:margin]
                body[second + 4 : second + 4 + margin] = made[margin:]
                count += 1
        return count


def _iter_used(body: bytearray) -> Iterator[int]:
    """Yields the offsets of the cells in use, in order."""
    place = 0
    while place < len(body):
        header = BinHeader.parse(bytes(body[place : place + BinHeader.SIZE]))
        at, end = place + layout.BIN_HEADER_BYTES, place + header.length
        while at < end:
            (size,) = struct.unpack_from("<i", body, at)
            if size < 0:
                yield at
            at += abs(size)
        place = end
