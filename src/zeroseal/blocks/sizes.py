"""Sizes as people read them."""

from __future__ import annotations

_UNITS = ("KiB", "MiB", "GiB", "TiB", "PiB")


def size_text(count: int) -> str:
    """A size in bytes as text: ``512 B``, ``4.0 KiB``, ``150 MiB``."""
    if count < 1024:
        return f"{count} B"
    power = min((count.bit_length() - 1) // 10, len(_UNITS))
    value, unit = count / 1024**power, _UNITS[power - 1]
    return f"{value:.1f} {unit}" if value < 100 else f"{value:.0f} {unit}"
