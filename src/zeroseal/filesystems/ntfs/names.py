"""Names: UTF-16 on the disk, UTF-8 for the rooms above, compared by the volume's own table.

What is no sound UTF-16 survives: lone surrogates become bytes of their own and back.
"""

from __future__ import annotations

import sys
from array import array

UPCASE_BYTES = 1 << 17
_FORBIDDEN = set('"*/:<>?\\|') | {chr(code) for code in range(32)}
MOST_CHARACTERS = 255


def to_text(raw: bytes | memoryview) -> str:
    """UTF-16 as the disk has it to a text."""
    return bytes(raw).decode("utf-16-le", "surrogatepass")


def to_wide(text: str) -> bytes:
    """A text to UTF-16 as the disk has it."""
    return text.encode("utf-16-le", "surrogatepass")


def to_bytes(text: str) -> bytes:
    """A text to the bytes that the rooms above use."""
    return text.encode("utf-8", "surrogatepass")


def from_bytes(name: bytes) -> str:
    """The bytes that the rooms above use to a text.

    Raises:
        UnicodeDecodeError: they are no UTF-8.
    """
    return name.decode("utf-8", "surrogatepass")


def is_storable(name: str) -> bool:
    """Whether Windows takes a name."""
    length = len(to_wide(name)) // 2
    return (
        0 < length <= MOST_CHARACTERS
        and not _FORBIDDEN.intersection(name)
        and not name.endswith((".", " "))
    )


class Upcase:
    """The table of upper-case letters that a volume carries in ``$UpCase``."""

    def __init__(self, raw: bytes) -> None:
        self._table = array("H", raw)
        if sys.byteorder == "big":
            self._table.byteswap()
        self._is_plain = list(self._table[:128]) == [ord(chr(n).upper()) for n in range(128)]

    def fold(self, name: str) -> bytes:
        """A name's upper-case form, in bytes that sort as the index does."""
        if self._is_plain and name.isascii():
            return name.upper().encode("utf-16-be")
        units = array("H", to_wide(name))
        if sys.byteorder == "big":
            units.byteswap()
        table = self._table
        folded = array("H", [table[unit] for unit in units])
        if sys.byteorder == "little":
            folded.byteswap()
        return folded.tobytes()

    def key(self, name: str) -> tuple[bytes, bytes]:
        """What names are sorted by: without their case first, then with it."""
        return self.fold(name), name.encode("utf-16-be", "surrogatepass")
