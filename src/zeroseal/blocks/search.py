"""Searching a whole disk for many values at once, at the speed of reading it.

Every value is looked for through four of its 32-bit words, one for each way it may lie against the
words of the disk. A filter over whole windows (numpy, caseless) leaves few places to compare in
full. It costs the same for six values as for six hundred.
"""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from itertools import islice
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from zeroseal.blocks.store import Store
from zeroseal.progress import Progress, Step, quiet

MOST_EACH = 20_000
MIN_BYTES = 7  # four words, one behind the other, each a byte further
_WINDOW_BYTES = 4 << 20
_BLOCK_WORDS = 1 << 16  # what fits a core's cache
_FOLD = 0x20202020  # makes letters of either case one, and a few signs too: compared in full later
_MULTIPLIER = np.uint32(2654435761)
_THREADS = 2
_SECTOR_BYTES = 512


class Needle(NamedTuple):
    """One form of a value.

    Attributes:
        value_no: which value it is a form of.
        pattern: at least ``MIN_BYTES`` bytes; lower case where ``caseless``.
        caseless: whether letters of either case fit.
        whole_word: whether a letter, digit, ``-``, ``_`` or ``.`` beside it makes it another word.
    """

    value_no: int
    pattern: bytes
    caseless: bool = False
    whole_word: bool = False


class Hit(NamedTuple):
    """Where a value was found."""

    offset_bytes: int
    value_no: int


class Searcher:
    """Looks for needles in bytes; made once, used by several threads."""

    def __init__(self, needles: list[Needle]) -> None:
        self._needles = needles
        self.longest = max((len(needle.pattern) for needle in needles), default=0)
        self._by_word: dict[int, list[tuple[Needle, int]]] = {}
        for needle in needles:
            first = _rarest_place(needle.pattern)
            for place in range(first, first + 4):
                word = int.from_bytes(needle.pattern[place : place + 4], "little") | _FOLD
                self._by_word.setdefault(word, []).append((needle, place))
        self._words = np.array(sorted(self._by_word), dtype=np.uint32)
        self._table = np.zeros(1 << 16, dtype=bool)
        self._table[_hash(self._words)] = True

    def find(self, window: bytes, most_from: int, begin: int = 0) -> list[tuple[int, int]]:
        """(offset, value number) of everything that begins before ``most_from`` in a window.

        ``begin`` is where the window begins on the disk: what lies in another sector is beside no
        word, as it may belong to another file.
        """
        found: set[tuple[int, int]] = set()
        words = np.frombuffer(window, dtype="<u4", count=len(window) // 4)
        for start in range(0, len(words), _BLOCK_WORDS):
            block = words[start : start + _BLOCK_WORDS] | np.uint32(_FOLD)
            places = np.flatnonzero(self._table.take(_hash(block), mode="clip"))
            if not len(places):
                continue
            places = places[np.isin(block[places], self._words)]
            for place in places.tolist():
                for needle, shift in self._by_word[int(block[place])]:
                    offset = (start + place) * 4 - shift
                    if 0 <= offset < most_from and _fits(window, offset, needle, begin):
                        found.add((offset, needle.value_no))
        return sorted(found)


def search_store(
    store: Store, needles: list[Needle], progress: Progress = quiet, most_each: int = MOST_EACH
) -> list[Hit]:
    """Searches all data of a store, in the order of the disk.

    Of each value the first ``most_each`` places are told; the search ends early only when every
    value was found so often.
    """
    if not needles:
        return []
    searcher, hits = Searcher(needles), []
    room = dict.fromkeys((needle.value_no for needle in needles), most_each)
    pool = ThreadPoolExecutor(_THREADS)
    try:
        windows = _iter_windows(store, searcher.longest)
        waiting = [
            (start, pool.submit(searcher.find, window, count, start))
            for start, window, count in islice(windows, 2 * _THREADS)
        ]
        while waiting:
            start, future = waiting.pop(0)
            for offset, value_no in future.result():
                if room[value_no]:
                    hits.append(Hit(start + offset, value_no))
                    room[value_no] -= 1
            progress(Step("searching values", start, store.size_bytes))
            if not any(room.values()):
                break
            for following, window, count in islice(windows, 1):
                waiting.append((following, pool.submit(searcher.find, window, count, following)))
    finally:
        pool.shutdown(wait=False, cancel_futures=True)  # the rest of it is of no use to anybody
    progress(Step("searching values", store.size_bytes, store.size_bytes))
    return hits


def _iter_windows(store: Store, longest: int) -> Iterator[tuple[int, bytes, int]]:
    """Yields (offset, content, how far its own part goes); contents overlap by a value's length.

    A window begins a little before its extent: a value may begin in what is known to be zeros only
    if it begins with zeros, which none of ours does.
    """
    for extent in store.iter_extents(0, store.size_bytes):
        if extent.is_zero:
            continue
        end = extent.offset_bytes + extent.length
        for start in range(extent.offset_bytes, end, _WINDOW_BYTES):
            count = min(_WINDOW_BYTES, end - start)
            stop = min(start + count + longest, store.size_bytes)
            yield start, store.read(start, stop - start).ljust(-(-(stop - start) // 4) * 4), count


def _hash(words: NDArray[np.uint32]) -> NDArray[np.intp]:
    """16 bits of each word, as numpy likes its indexes best."""
    return ((words * _MULTIPLIER) >> np.uint32(16)).astype(np.intp)


def _rarest_place(pattern: bytes) -> int:
    """Where seven bytes begin that are the least likely to stand in other texts."""

    def variety(place: int) -> int:
        part = pattern[place : place + MIN_BYTES]
        letters = sum(97 <= byte <= 122 for byte in part)
        return len(set(part)) * 2 - letters - part.count(0) * 3

    return max(range(len(pattern) - MIN_BYTES + 1), key=variety)


def _fits(window: bytes, offset: int, needle: Needle, begin: int) -> bool:
    end = offset + len(needle.pattern)
    text = window[offset:end]
    if (text.lower() if needle.caseless else text) != needle.pattern:
        return False
    if not needle.whole_word:
        return True
    before = window[max(0, offset - 1) : offset] if (begin + offset) % _SECTOR_BYTES else b""
    behind = window[end : end + 1] if (begin + end) % _SECTOR_BYTES else b""
    beside = before + behind
    return not any(chr(byte).isalnum() or byte in b"-_" for byte in beside if byte < 128)
