"""Searching bytes for many values at once."""

from __future__ import annotations

from typing import NamedTuple

from zeroseal.blocks.literals import MIN_BYTES, compile_literals

__all__ = ["MIN_BYTES", "Hit", "Needle", "Searcher"]

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
    """Looks for needles in bytes; made once, used by several threads. No needles find nothing."""

    def __init__(self, needles: list[Needle]) -> None:
        self._needles = needles
        self.longest = max((len(needle.pattern) for needle in needles), default=0)
        self._literals = (
            compile_literals([(needle.pattern, needle.caseless) for needle in needles])
            if needles
            else None
        )

    def find(self, window: bytes, begin: int = 0) -> list[tuple[int, int]]:
        """(offset, value number) of every hit in a window, in order.

        ``begin`` is where the window begins on the disk: what lies in another sector is beside no
        word, as it may belong to another file.
        """
        found = self._literals.find(window) if self._literals else ()
        hits = {
            (offset, self._needles[number].value_no)
            for offset, number in found
            if self._stands_alone(window, offset, self._needles[number], begin)
        }
        return sorted(hits)

    def find_across(self, before: bytes, behind: bytes, begin: int) -> list[tuple[int, int]]:
        """(offset, value number) of the hits that reach from one window into the next.

        Args:
            before: the end of a window.
            behind: what follows it; both are at least as long as a needle, or all that there is.
            begin: where ``behind`` begins on the disk. Offsets count from there, and are negative.
        """
        edge = len(before)
        start = begin - edge
        found = self._literals.find(before + behind) if self._literals else ()
        hits = {
            (offset - edge, self._needles[number].value_no)
            for offset, number in found
            if offset < edge < offset + len(self._needles[number].pattern)
            and self._stands_alone(before + behind, offset, self._needles[number], start)
        }
        return sorted(hits)

    def without(self, value_nos: set[int]) -> Searcher:
        """A search for the other values."""
        return Searcher([needle for needle in self._needles if needle.value_no not in value_nos])

    @staticmethod
    def _stands_alone(window: bytes, offset: int, needle: Needle, begin: int) -> bool:
        if not needle.whole_word:
            return True
        end = offset + len(needle.pattern)
        before = window[max(0, offset - 1) : offset] if (begin + offset) % _SECTOR_BYTES else b""
        behind = window[end : end + 1] if (begin + end) % _SECTOR_BYTES else b""
        beside = before + behind
        return not any(chr(byte).isalnum() or byte in b"-_" for byte in beside if byte < 128)
