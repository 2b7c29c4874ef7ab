"""Sets of byte (or block) ranges: sorted, not overlapping, not touching."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator


class RangeSet:
    """A set of half-open ranges ``[start, end)`` that merges neighbours as they come."""

    def __init__(self, ranges: Iterable[tuple[int, int]] = ()) -> None:
        self._starts: list[int] = []
        self._ends: list[int] = []
        for start, end in ranges:
            self.add(start, end)

    def __iter__(self) -> Iterator[tuple[int, int]]:
        return zip(self._starts, self._ends, strict=True)

    def __len__(self) -> int:
        return len(self._starts)

    def __contains__(self, point: int) -> bool:
        index = bisect_right(self._starts, point) - 1
        return index >= 0 and point < self._ends[index]

    @property
    def total(self) -> int:
        """How many points the set covers."""
        return sum(self._ends) - sum(self._starts)

    def add(self, start: int, end: int) -> None:
        """Adds ``[start, end)``; an empty range changes nothing."""
        if start >= end:
            return
        first = bisect_left(self._ends, start)  # the first range that ends at or after start
        last = bisect_right(self._starts, end)  # one past the last that starts at or before end
        if first < last:
            start = min(start, self._starts[first])
            end = max(end, self._ends[last - 1])
        self._starts[first:last] = [start]
        self._ends[first:last] = [end]

    def discard(self, start: int, end: int) -> None:
        """Takes ``[start, end)`` out of the set."""
        if start >= end:
            return
        first = bisect_right(self._ends, start)
        last = bisect_left(self._starts, end)
        if first >= last:
            return
        kept = []
        if self._starts[first] < start:
            kept.append((self._starts[first], start))
        if self._ends[last - 1] > end:
            kept.append((end, self._ends[last - 1]))
        self._starts[first:last] = [piece[0] for piece in kept]
        self._ends[first:last] = [piece[1] for piece in kept]

    def within(self, start: int, end: int) -> Iterator[tuple[int, int]]:
        """Yields the set's ranges cut to ``[start, end)``, in order."""
        index = bisect_right(self._ends, start)
        while index < len(self._starts) and self._starts[index] < end:
            yield max(start, self._starts[index]), min(end, self._ends[index])
            index += 1
