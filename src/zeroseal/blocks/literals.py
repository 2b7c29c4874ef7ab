"""Finding many byte strings at once in a window of bytes.

``CompiledLiterals`` hands them to the hyperscan library, as literals only; ``WordFilter`` finds the
same by our own means where that library is missing or does not know the processor. Neither looks at
what stands beside a hit: ``search.py`` does.
"""

from __future__ import annotations

import importlib.util
import threading
from collections.abc import Sequence
from typing import Protocol

MIN_BYTES = 7  # what the word filter needs: four words, one behind the other, each a byte further
_MOST_SCANNED = 1 << 30  # bytes at once; the library counts in 32 bits
_MOST_COMPILED = 256  # bytes of a pattern


class Literals(Protocol):
    """Byte strings to look for."""

    def find(self, window: bytes) -> list[tuple[int, int]]:
        """(offset, number of the literal) of every hit, overlapping ones too, in any order."""


def compile_literals(patterns: Sequence[tuple[bytes, bool]]) -> Literals:
    """Makes a search for (pattern, whether it is caseless).

    Patterns have at least ``MIN_BYTES`` bytes, and are in lower case where they are caseless.
    Only the letters of ASCII have two cases.
    """
    if not _is_library_there():
        return _word_filter(patterns)
    import hyperscan

    try:
        return CompiledLiterals(patterns)
    except hyperscan.error:  # a processor that it does not know
        return _word_filter(patterns)


class CompiledLiterals:
    """A search by the hyperscan library; used by several threads at once.

    Its own interface for literals ends them at their first byte of zero (as of its Python binding
    0.9), so every byte is given as an escape of an expression; only the first ``_MOST_COMPILED``
    bytes of a pattern are, and the rest is compared here.

    Raises:
        hyperscan.error: it does not run on this processor.
    """

    def __init__(self, patterns: Sequence[tuple[bytes, bool]]) -> None:
        import hyperscan

        self._patterns = list(patterns)
        self._compiled = [min(len(pattern), _MOST_COMPILED) for pattern, _is_caseless in patterns]
        self._longest = max(len(pattern) for pattern, _is_caseless in patterns)
        self._database = hyperscan.Database(mode=hyperscan.HS_MODE_BLOCK)
        self._make_scratch = hyperscan.Scratch
        self._own = threading.local()
        self._database.compile(
            expressions=[_escaped(pattern[:_MOST_COMPILED]) for pattern, _is_caseless in patterns],
            ids=list(range(len(patterns))),
            elements=len(patterns),
            flags=[
                hyperscan.HS_FLAG_CASELESS if is_caseless else 0
                for _pattern, is_caseless in patterns
            ],
        )

    def find(self, window: bytes) -> list[tuple[int, int]]:
        """As in ``Literals``."""
        found: list[tuple[int, int]] = []
        view = memoryview(window)
        for start in range(0, len(window), _MOST_SCANNED):
            self._scan(view[start : start + _MOST_SCANNED + self._longest], start, found)
        return [hit for hit in dict.fromkeys(found) if self._fits(window, *hit)]

    def _scan(self, window: memoryview, start: int, found: list[tuple[int, int]]) -> None:
        lengths = self._compiled

        def take(number: int, _begin: int, end: int, _flags: int, _context: object) -> None:
            found.append((start + end - lengths[number], number))

        scratch = getattr(self._own, "scratch", None)
        if scratch is None:
            scratch = self._own.scratch = self._make_scratch(self._database)
        self._database.scan(window, match_event_handler=take, scratch=scratch)  # type: ignore[type-var]  # its stub knows no memoryview

    def _fits(self, window: bytes, offset: int, number: int) -> bool:
        pattern, is_caseless = self._patterns[number]
        if len(pattern) <= _MOST_COMPILED:
            return True
        text = window[offset : offset + len(pattern)]
        return (text.lower() if is_caseless else text) == pattern


def _is_library_there() -> bool:
    return importlib.util.find_spec("hyperscan") is not None


def _word_filter(patterns: Sequence[tuple[bytes, bool]]) -> Literals:
    from zeroseal.blocks.word_filter import WordFilter  # numpy, where nothing better is there

    return WordFilter(patterns)


def _escaped(pattern: bytes) -> bytes:
    return b"".join(b"\\x%02x" % byte for byte in pattern)
