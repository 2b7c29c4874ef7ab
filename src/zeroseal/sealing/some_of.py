"""The first few of many names, for a sentence."""

from __future__ import annotations

_NAMED = 5


def some_of(names: list[str]) -> str:
    """``a, b, c, d, e and 7 more``."""
    rest = len(names) - _NAMED
    return ", ".join(names[:_NAMED]) + (f" and {rest} more" if rest > 0 else "")
