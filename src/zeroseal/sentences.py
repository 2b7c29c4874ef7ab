"""Parts of sentences: counts (``3 places``, ``a, b and 4 more``), the first letter, clean names."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

_NAMED = 5


def counted(number: int, noun: str, several: str = "") -> str:
    """``1 place``, ``3 places``; ``several`` is the noun for many where an s does not make it."""
    return f"{number} {noun if number == 1 else several or noun + 's'}"


def some_of(names: Iterable[str], most: int = _NAMED) -> str:
    """``a, b, c, d, e and 7 more``."""
    every = list(names)
    rest = len(every) - most
    return ", ".join(every[:most]) + (f" and {rest} more" if rest > 0 else "")


def listed(parts: Sequence[str]) -> str:
    """``a``, ``a and b``, ``a, b and c``."""
    return " and ".join(part for part in (", ".join(parts[:-1]), *parts[-1:]) if part)


def capitalised(text: str) -> str:
    """A sentence with a capital; the name of a file, which begins some, stays as it is."""
    first = text.partition(" ")[0].rstrip(".,:;")
    return text if "." in first or "/" in first else text[:1].upper() + text[1:]


def clean(text: str) -> str:
    """Text of a guest without control characters and marks of direction, safe to be shown."""
    shown = text.encode("utf-8", "backslashreplace").decode("utf-8")
    return "".join(char if char.isprintable() else "?" for char in shown)
