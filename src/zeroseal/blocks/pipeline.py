"""One reading of a disk that serves everybody who needs its bytes: digest, search and writer.

Windows of the disk are read, digested and searched on all processors; then they are handed out in
the order of the disk. A few windows are under way at a time, so that the memory needed does not
grow with the disk.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import NamedTuple

from zeroseal.blocks.digest import CHUNK_BYTES, DiskDigest, iter_stored_chunks, leaf_of
from zeroseal.blocks.search import Hit, Needle, Searcher
from zeroseal.blocks.store import Store
from zeroseal.blocks.workers import map_ordered, worker_count
from zeroseal.progress import Progress, Step, quiet

MOST_EACH = 20_000  # places of one value that are told
WINDOW_CHUNKS = 2

Take = Callable[[int, bytes], None]


@dataclass(frozen=True)
class DiskReading:
    """What one reading of a disk gave.

    Attributes:
        digest: of all of it.
        hits: of the values that were searched for, in the order of the disk.
    """

    digest: DiskDigest
    hits: list[Hit]


class _Window(NamedTuple):
    """A stretch of whole chunks, and what was found in it."""

    start: int
    content: bytes
    leaves: dict[int, bytes]
    hits: list[tuple[int, int]]


def read_disk_once(
    store: Store,
    stage: str,
    progress: Progress = quiet,
    needles: list[Needle] | None = None,
    take: Take | None = None,
    most_each: int = MOST_EACH,
) -> DiskReading:
    """Reads all data of a disk.

    Args:
        store: the disk; read by several threads at once.
        stage: what the progress calls this.
        progress: told how far it is.
        needles: what to search for; of each value the first ``most_each`` places are told.
        take: is given (offset, content) of each window that may hold data, in order.
        most_each: see above.
    """
    collector = _HitCollector(store, needles or [], most_each)
    leaves: dict[int, bytes] = {}

    def work(window: tuple[int, int]) -> _Window:
        return _read_window(store, *window, collector.searcher)

    windows = list(_iter_windows(store))
    done, total = 0, sum(length for _start, length in windows)
    for window in map_ordered(work, windows, worker_count() + 1):
        leaves.update(window.leaves)
        collector.add(window)
        if take is not None:
            take(window.start, window.content)
        done += len(window.content)
        progress(Step(stage, done, total))
    collector.end()
    return DiskReading(DiskDigest(store.size_bytes, leaves), collector.hits)


def digest_store(store: Store, stage: str, progress: Progress = quiet) -> DiskDigest:
    """Digests a whole disk."""
    return read_disk_once(store, stage, progress).digest


def search_store(
    store: Store, needles: list[Needle], progress: Progress = quiet, most_each: int = MOST_EACH
) -> list[Hit]:
    """Searches all data of a store, in the order of the disk; reads nothing for no needles."""
    if not needles:
        return []
    stage = "searching values"
    return read_disk_once(store, stage, progress, needles, most_each=most_each).hits


def _iter_windows(store: Store) -> Iterator[tuple[int, int]]:
    """Yields (offset, length) of neighbouring chunks that may hold data."""
    first, count = -1, 0
    for number in iter_stored_chunks(store):
        if first >= 0 and number == first + count and count < WINDOW_CHUNKS:
            count += 1
            continue
        if first >= 0:
            yield _window_of(store, first, count)
        first, count = number, 1
    if first >= 0:
        yield _window_of(store, first, count)


def _window_of(store: Store, first: int, count: int) -> tuple[int, int]:
    start = first * CHUNK_BYTES
    return start, min(count * CHUNK_BYTES, store.size_bytes - start)


def _read_window(store: Store, start: int, length: int, searcher: Searcher) -> _Window:
    content = store.read(start, length)
    leaves = {}
    for begin in range(0, length, CHUNK_BYTES):
        leaf = leaf_of(content, begin)
        if leaf is not None:
            leaves[(start + begin) // CHUNK_BYTES] = leaf
    return _Window(start, content, leaves, searcher.find(content, start) if leaves else [])


class _HitCollector:
    """Joins the hits of windows that come in order; looks at their seams."""

    def __init__(self, store: Store, needles: list[Needle], most_each: int) -> None:
        self.searcher = Searcher(needles)
        self.hits: list[Hit] = []
        self._room = dict.fromkeys((needle.value_no for needle in needles), most_each)
        self._size_bytes = store.size_bytes
        self._end, self._tail = 0, b""  # of the window before

    def add(self, window: _Window) -> None:
        """Takes the next window."""
        longest = self.searcher.longest
        if longest:
            if window.start != self._end:
                self._look_behind()
                self._tail = bytes(min(longest, window.start))
            self._look_across(self._tail, window.content[:longest], window.start)
            self._tail = window.content[-longest:]
        self._end = window.start + len(window.content)
        self._keep(window.start, window.hits)

    def end(self) -> None:
        """Takes what is left: no window comes any more."""
        self._look_behind()

    def _look_behind(self) -> None:
        """Zeros follow the window before, up to the end of the disk or to a far window."""
        count = min(self.searcher.longest, self._size_bytes - self._end)
        if self._tail and count:
            self._look_across(self._tail, bytes(count), self._end)

    def _look_across(self, before: bytes, behind: bytes, begin: int) -> None:
        if before and behind:
            self._keep(begin, self.searcher.find_across(before, behind, begin))

    def _keep(self, begin: int, found: list[tuple[int, int]]) -> None:
        for offset, value_no in found:
            if self._room[value_no]:
                self.hits.append(Hit(begin + offset, value_no))
                self._room[value_no] -= 1
                if not self._room[value_no]:  # a disk full of one value costs no more
                    self.searcher = self.searcher.without({value_no})
