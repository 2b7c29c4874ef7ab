"""Sizes as people read them."""

from __future__ import annotations

import re

from zeroseal.errors import UsageError
from zeroseal.messages import general as messages

_UNITS = ("KiB", "MiB", "GiB", "TiB", "PiB")
_WRITTEN = re.compile(r"(\d+)\s*(?:([KMGT])(?:iB)?|B)?", re.I)


def parse_size(text: str) -> int:
    """A size as people write it, in bytes: ``40G``, ``512MiB``, ``1048576``.

    Raises:
        UsageError: it is none.
    """
    found = _WRITTEN.fullmatch(text.strip())
    if found is None or len(found[1]) > 18:
        raise UsageError(messages.NOT_VALID_SIZE.format(text=text))
    power = " KMGT".index((found[2] or " ").upper())
    return int(found[1]) << 10 * power


def size_text(count: int) -> str:
    """A size in bytes as text: ``512 B``, ``4.0 KiB``, ``150 MiB``."""
    if count < 1024:
        return f"{count} B"
    power = min((count.bit_length() - 1) // 10, len(_UNITS))
    value, unit = count / 1024**power, _UNITS[power - 1]
    return f"{value:.1f} {unit}" if value < 100 else f"{value:.0f} {unit}"
