"""A value that is searched for, in every form it may lie on a disk.

Values are held in memory only while a disk is searched, and never shown: one is known by what it
is.
"""

from __future__ import annotations

from dataclasses import dataclass

from zeroseal.blocks.search import Needle


def text_needle(value: str) -> Needle:
    """A text of one byte a letter, in either case."""
    return Needle(0, value.lower().encode(), caseless=True)


def wide_needle(value: str) -> Needle:
    """A text of two bytes a letter, in either case."""
    return Needle(0, value.lower().encode("utf-16-le"), caseless=True)


@dataclass(frozen=True)
class SearchedValue:
    """One value; ``label`` says what it is, never what it says.

    ``is_told`` says that it stops no seal: it is part of longer names that others may have chosen.
    ``is_word`` says that others may have chosen the same: it may stand in what packages brought.
    """

    label: str
    needles: tuple[Needle, ...]
    is_word: bool = False
    is_told: bool = False


@dataclass(frozen=True)
class ValueSet:
    """What can be searched of a machine.

    Attributes:
        not_searched: values that cannot be, each with the reason, sentences.
        short_names: (name, label) of those that are looked for as words in files only.
    """

    values: tuple[SearchedValue, ...]
    not_searched: tuple[str, ...]
    short_names: tuple[tuple[str, str], ...] = ()

    @property
    def count(self) -> int:
        """How many values these are, in whatever way they are looked for."""
        return sum(not value.is_told for value in self.values) + len(self.short_names)

    @property
    def needles(self) -> list[Needle]:
        """All forms of all values; each names its value by its place in ``values``."""
        return [
            needle._replace(value_no=number)
            for number, value in enumerate(self.values)
            for needle in value.needles
        ]
