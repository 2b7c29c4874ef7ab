"""Parts of sentences: counts (``3 places``, ``a, b and 4 more``), and the first letter."""

from __future__ import annotations

from collections.abc import Iterable

_NAMED = 5


def counted(number: int, noun: str, several: str = "") -> str:
    """``1 place``, ``3 places``; ``several`` is the noun for many where an s does not make it."""
    return f"{number} {noun if number == 1 else several or noun + 's'}"


def some_of(names: Iterable[str], most: int = _NAMED) -> str:
    """``a, b, c, d, e and 7 more``."""
    listed = list(names)
    rest = len(listed) - most
    return ", ".join(listed[:most]) + (f" and {rest} more" if rest > 0 else "")


def capitalised(text: str) -> str:
    """A sentence with a capital; the name of a file, which begins some, stays as it is."""
    first = text.partition(" ")[0].rstrip(".,:;")
    return text if "." in first or "/" in first else text[:1].upper() + text[1:]
