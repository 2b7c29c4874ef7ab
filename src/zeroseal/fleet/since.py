"""Which images were sealed since a moment, by their records."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

from zeroseal.errors import UsageError, ZeroSealError
from zeroseal.messages import fleet as messages
from zeroseal.sealing.record import find_record


def sealed_since(images: list[Path], moment: str) -> list[Path]:
    """The images whose record is not older, and those whose record is missing or unreadable.

    Args:
        images: which.
        moment: ISO 8601, such as ``2026-12-01`` or ``2026-12-01T22:00``; local time without a zone.

    Raises:
        UsageError: it is no time.
    """
    try:
        begins = datetime.fromisoformat(moment).timestamp()
    except ValueError:
        raise UsageError(messages.SINCE_NOT_A_TIME.format(moment=moment)) from None
    return [image for image in images if _sealed_at(image) >= begins]


def _sealed_at(image: Path) -> float:
    try:
        record = find_record(image)
    except ZeroSealError:
        record = None
    return record.sealed_at if record else float("inf")
