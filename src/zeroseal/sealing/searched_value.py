"""A value that is searched for, in every form it may lie on a disk.

Values are held in memory only while a disk is searched, and never shown: one is known by what it
is.
"""

from __future__ import annotations

import base64
from collections.abc import Iterator
from dataclasses import dataclass, field

from zeroseal.blocks.search import MIN_BYTES, Needle
from zeroseal.messages import sealing as messages

SHORTEST = 3
"""Letters of a name that can be looked for as a word."""


def text_needle(value: str) -> Needle:
    """A text of one byte a letter, in either case."""
    return Needle(0, value.lower().encode(), caseless=True)


def wide_needle(value: str) -> Needle:
    """A text of two bytes a letter, in either case."""
    return Needle(0, value.lower().encode("utf-16-le"), caseless=True)


def base64_needles(raw: bytes) -> Iterator[Needle]:
    """Bytes in base64 as they may fall against the three phases, where that is long enough.

    Only the signs that the bytes beside them have no share in.
    """
    for phase in range(3):
        encoded = base64.b64encode(bytes(phase) + raw)
        first, last = -(-phase * 8 // 6), (phase + len(raw)) * 8 // 6
        if last - first >= MIN_BYTES:
            yield Needle(0, encoded[first:last])


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


@dataclass
class CollectedValues:
    """Values on their way to a ``ValueSet``.

    Attributes:
        values: those that are searched for.
        not_searched: values that cannot be, sentences.
        short_names: {name: label} of those that are looked for as words in files only.
    """

    values: list[SearchedValue] = field(default_factory=list)
    not_searched: list[str] = field(default_factory=list)
    short_names: dict[str, str] = field(default_factory=dict)

    def add_name(self, label: str, name: str) -> None:
        """Adds a name, alone and as a part of longer ones; one that is too short is told."""
        if len(name) < MIN_BYTES or not name.isascii():
            self.not_searched.append(messages.NOT_SEARCHED_FOR.format(label=label))
            return
        word = text_needle(name)._replace(whole_word=True)
        self.values.append(SearchedValue(label, (word, wide_needle(name)), is_word=True))
        part = f"{label} as part of longer names"
        self.values.append(SearchedValue(part, (text_needle(name),), is_word=True, is_told=True))


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
