"""Texts of one's own that must be gone: searched for in every form that they may lie in on a disk.

Forms of a text: as it is and in UTF-16, in either case; in base64, as it may fall against the three
phases (RFC 4648), of both; and with its letters escaped as in addresses (RFC 3986). What is
compressed, in an archive or packed by the file system is searched as it unpacks.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import quote

from zeroseal.blocks.search import MIN_BYTES, Needle
from zeroseal.documents import read_text
from zeroseal.errors import UsageError
from zeroseal.messages import sealing as messages
from zeroseal.sealing.searched_value import (
    SHORTEST,
    SearchedValue,
    base64_needles,
    text_needle,
    wide_needle,
)

_MAX_BYTES = 1 << 20
_LONGEST = 512  # bytes of one text


@dataclass(frozen=True)
class Canary:
    """A text that must be nowhere; it is named by its line, and never shown."""

    file: Path
    line: int
    text: str

    @property
    def label(self) -> str:
        """What it is called."""
        return f"line {self.line} of {self.file.name}"

    @property
    def is_short(self) -> bool:
        """Whether it is looked for as a word in files and names only."""
        return len(self.text) < MIN_BYTES and self.text.isascii()

    @property
    def value(self) -> SearchedValue:
        """Its forms."""
        return SearchedValue(self.label, tuple(text_forms(self.text)))


def read_canaries(path: Path) -> tuple[Canary, ...]:
    """Reads a file with a text a line; empty lines and lines that begin with ``#`` do not count.

    Raises:
        MissingError, UsageError: it cannot be read, holds nothing, or a text that cannot be
            searched for.
    """
    found = []
    for number, line in enumerate(read_text(path, "the canaries", _MAX_BYTES).splitlines(), 1):
        text = line.strip()
        if not text or text.startswith("#"):
            continue
        size = len(text.encode())
        if size > _LONGEST or len(text) < SHORTEST or (size < MIN_BYTES and not text.isascii()):
            raise UsageError(
                messages.CANARY_INVALID.format(
                    path=path, number=number, shortest=SHORTEST, longest=_LONGEST
                )
            )
        found.append(Canary(path, number, text))
    if not found:
        raise UsageError(messages.NO_CANARIES.format(path=path))
    return tuple(found)


def text_forms(text: str) -> Iterator[Needle]:
    """Every form of a text that is long enough to be searched for."""
    yield text_needle(text)
    yield wide_needle(text)
    for raw in (text.encode(), text.encode("utf-16-le")):
        yield from base64_needles(raw)
    escaped = quote(text, safe="")
    if escaped != text:
        yield text_needle(escaped)
        yield text_needle(escaped.replace("%20", "+"))
