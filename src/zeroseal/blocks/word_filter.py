"""Finding many byte strings by four of their 32-bit words, one for each way a string may lie.

A filter over whole windows (numpy, caseless) leaves few places to compare in full. It costs the
same for six strings as for six hundred.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from zeroseal.blocks.literals import MIN_BYTES

_BLOCK_WORDS = 1 << 16  # what fits a core's cache
_FOLD = 0x20202020  # makes letters of either case one, and a few signs too: compared in full later
_MULTIPLIER = np.uint32(2654435761)


class WordFilter:
    """A search by words; used by several threads at once. As ``literals.Literals``."""

    def __init__(self, patterns: Sequence[tuple[bytes, bool]]) -> None:
        self._patterns = list(patterns)
        self._by_word: dict[int, list[tuple[int, int]]] = {}  # word to (number, place in it)
        for number, (pattern, _is_caseless) in enumerate(patterns):
            first = _rarest_place(pattern)
            for place in range(first, first + 4):
                word = int.from_bytes(pattern[place : place + 4], "little") | _FOLD
                self._by_word.setdefault(word, []).append((number, place))
        self._words = np.array(sorted(self._by_word), dtype=np.uint32)
        self._table = np.zeros(1 << 16, dtype=bool)
        self._table[_hash(self._words)] = True

    def find(self, window: bytes) -> list[tuple[int, int]]:
        """(offset, number of the string) of every hit."""
        found: dict[tuple[int, int], None] = {}
        window = window.ljust(-(-len(window) // 4) * 4 + 4, b"\xff")  # read by whole words
        end_at = len(window)
        words = np.frombuffer(window, dtype="<u4")
        for start in range(0, len(words), _BLOCK_WORDS):
            block = words[start : start + _BLOCK_WORDS] | np.uint32(_FOLD)
            places = np.flatnonzero(self._table.take(_hash(block), mode="clip"))
            if not len(places):
                continue
            places = places[np.isin(block[places], self._words)]
            for place in places.tolist():
                for number, shift in self._by_word[int(block[place])]:
                    offset = (start + place) * 4 - shift
                    if 0 <= offset < end_at and self._fits(window, offset, number):
                        found[offset, number] = None
        return list(found)

    def _fits(self, window: bytes, offset: int, number: int) -> bool:
        pattern, is_caseless = self._patterns[number]
        text = window[offset : offset + len(pattern)]
        return (text.lower() if is_caseless else text) == pattern


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
