"""The staged layer: all changes of a seal, held apart from the image they are for.

Nothing is written to the layer below. Written bytes are kept in pages, beyond a bound in a
temporary file; ranges that were zeroed are kept as ranges, to the byte: zeroing a terabyte of free
space costs one entry, and zeroing the tail behind a file reads nothing.
"""

from __future__ import annotations

import heapq
from collections.abc import Iterator
from pathlib import Path

from zeroseal.blocks.pages import PAGE_BYTES, Pages
from zeroseal.blocks.ranges import RangeSet
from zeroseal.blocks.store import Extent, Store


class StagedStore(Store):
    """A copy-on-write store over ``below``.

    A page that was written wins over a zeroed range, which wins over the layer below. Of a page
    that is neither, parts may be zeroed. ``close`` gives up what is staged; the layer below stays
    open.

    Args:
        below: what is changed in appearance only.
        spill_folder: where pages beyond the bound in memory are kept for the time being.
    """

    def __init__(self, below: Store, spill_folder: Path | None = None) -> None:
        self._below = below
        self._pages = Pages(spill_folder)
        self._zeroed = RangeSet()  # page numbers
        self._cuts: dict[int, tuple[int, ...]] = {}  # page number to starts and ends within it
        self.size_bytes = below.size_bytes

    def read(self, offset_bytes: int, length: int) -> bytes:  # noqa: D102 - as in Store
        self.check_range(offset_bytes, length)
        first, skip = divmod(offset_bytes, PAGE_BYTES)
        if skip + length <= PAGE_BYTES:  # what is asked most
            if first in self._pages:
                return bytes(self._pages.read(first)[skip : skip + length])
            if first in self._zeroed:
                return bytes(length)
            return self._read_below(offset_bytes, length)
        pieces = []
        for extent, page_no in self._iter_layers(offset_bytes, length):
            if page_no is not None:
                start = extent.offset_bytes - page_no * PAGE_BYTES
                pieces.append(bytes(self._pages.read(page_no)[start : start + extent.length]))
            elif extent.is_zero:
                pieces.append(bytes(extent.length))
            else:
                pieces.append(self._read_below(extent.offset_bytes, extent.length))
        return b"".join(pieces)

    def write(self, offset_bytes: int, data: bytes | memoryview) -> None:  # noqa: D102
        self.check_range(offset_bytes, len(data))
        position = 0
        while position < len(data):
            page_no, start = divmod(offset_bytes + position, PAGE_BYTES)
            count = min(PAGE_BYTES - start, len(data) - position)
            self._page_for_change(page_no, count)[start : start + count] = data[
                position : position + count
            ]
            position += count

    def zero(self, offset_bytes: int, length: int) -> None:  # noqa: D102
        self.check_range(offset_bytes, length)
        end = offset_bytes + length
        first_page = -(-offset_bytes // PAGE_BYTES)
        end_page = end // PAGE_BYTES
        if end == self.size_bytes:
            end_page = -(-end // PAGE_BYTES)  # the last page may be a short one
        if first_page > end_page:  # inside one page
            self._cut(offset_bytes, end)
            return
        self._cut(offset_bytes, min(first_page * PAGE_BYTES, end))
        self._cut(min(end_page * PAGE_BYTES, end), end)
        self._zero_pages(first_page, end_page)

    def iter_extents(self, offset_bytes: int, length: int) -> Iterator[Extent]:  # noqa: D102
        self.check_range(offset_bytes, length)
        for extent, page_no in self._iter_layers(offset_bytes, length):
            if page_no is not None or extent.is_zero:
                yield extent
            else:
                yield from self._below.iter_extents(extent.offset_bytes, extent.length)

    def iter_changes(self) -> Iterator[Extent]:
        """Yields, in order, what differs (or may differ) from the layer below."""
        whole = (
            extent
            for extent, page_no in self._iter_layers(0, self.size_bytes)
            if page_no is not None or extent.is_zero
        )
        yield from heapq.merge(whole, self._iter_cuts(sorted(self._cuts)))

    def over(self, below: Store) -> StagedStore:
        """The same changes, shared, over another layer of the same size; only for reading."""
        view = StagedStore(below)
        view._pages, view._zeroed, view._cuts = self._pages, self._zeroed, self._cuts
        return view

    def close(self) -> None:
        """Gives up what is staged."""
        self._pages.close()

    @property
    def written_bytes(self) -> int:
        """How many bytes were written, in whole pages."""
        return len(self._pages) * PAGE_BYTES

    def _iter_layers(self, offset: int, length: int) -> Iterator[tuple[Extent, int | None]]:
        """Yields (extent, number of the written page or None), covering the range in order."""
        end = offset + length
        first_page, end_page = offset // PAGE_BYTES, -(-end // PAGE_BYTES)
        for number in self._pages.numbers_within(first_page, end_page):
            page_start = max(offset, number * PAGE_BYTES)
            page_end = min(end, (number + 1) * PAGE_BYTES)
            yield from self._iter_unwritten(offset, page_start)
            yield Extent(page_start, page_end - page_start, is_zero=False), number
            offset = page_end
        yield from self._iter_unwritten(offset, end)

    def _iter_unwritten(self, start: int, end: int) -> Iterator[tuple[Extent, None]]:
        if start >= end:
            return
        for first, last in self._zeroed.within(start // PAGE_BYTES, -(-end // PAGE_BYTES)):
            zero_start, zero_end = max(start, first * PAGE_BYTES), min(end, last * PAGE_BYTES)
            if start < zero_start:
                yield Extent(start, zero_start - start, is_zero=False), None
            yield Extent(zero_start, zero_end - zero_start, is_zero=True), None
            start = zero_end
        if start < end:
            yield Extent(start, end - start, is_zero=False), None

    def _page_for_change(self, page_no: int, changed: int) -> bytearray:
        page = self._pages.get_for_change(page_no)
        if page is None:
            start = page_no * PAGE_BYTES
            count = min(PAGE_BYTES, self.size_bytes - start)
            if changed == count or page_no in self._zeroed:
                page = bytearray(count)
            else:
                page = bytearray(self._read_below(start, count))
            self._cuts.pop(page_no, None)
            self._pages.put(page_no, page)
        return page

    def _zero_pages(self, first: int, end: int) -> None:
        if first >= end:
            return
        self._pages.drop_within(first, end)
        for number in self._cut_pages(first, end):
            del self._cuts[number]
        self._zeroed.add(first, end)

    def _cut(self, start: int, end: int) -> None:
        """Zeroes a part of one page."""
        if start >= end:
            return
        page_no = start // PAGE_BYTES
        begin, stop = start - page_no * PAGE_BYTES, end - page_no * PAGE_BYTES
        page = self._pages.get_for_change(page_no)
        if page is not None:
            page[begin:stop] = bytes(stop - begin)
        elif page_no not in self._zeroed:
            cuts = RangeSet(_pairs(self._cuts.get(page_no, ())))
            cuts.add(begin, stop)
            if cuts.total == min(PAGE_BYTES, self.size_bytes - page_no * PAGE_BYTES):
                self._zero_pages(page_no, page_no + 1)
            else:
                self._cuts[page_no] = tuple(place for pair in cuts for place in pair)

    def _read_below(self, offset: int, length: int) -> bytes:
        """Bytes of the layer below, without what was cut out of them."""
        content = self._below.read(offset, length)
        end = offset + length
        cut = self._cut_pages(offset // PAGE_BYTES, -(-end // PAGE_BYTES)) if self._cuts else []
        if not cut:
            return content
        changed = bytearray(content)
        for extent in self._iter_cuts(cut):
            begin = max(0, extent.offset_bytes - offset)
            stop = min(length, extent.offset_bytes + extent.length - offset)
            if begin < stop:
                changed[begin:stop] = bytes(stop - begin)
        return bytes(changed)

    def _cut_pages(self, first: int, end: int) -> list[int]:
        """The numbers of pages in ``[first, end)`` of which parts were zeroed, in order."""
        if end - first < len(self._cuts):
            return [number for number in range(first, end) if number in self._cuts]
        return sorted(number for number in self._cuts if first <= number < end)

    def _iter_cuts(self, pages: list[int]) -> Iterator[Extent]:
        for number in pages:
            for start, end in _pairs(self._cuts[number]):
                yield Extent(number * PAGE_BYTES + start, end - start, is_zero=True)


def _pairs(places: tuple[int, ...]) -> Iterator[tuple[int, int]]:
    return zip(places[::2], places[1::2], strict=True)
