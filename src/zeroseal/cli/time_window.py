"""A time in which work may be begun: from a moment on, and until one."""

from __future__ import annotations

import re
import threading
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from zeroseal.errors import UsageError
from zeroseal.messages import cli as messages

_CLOCK = re.compile(r"([01]\d|2[0-3]):([0-5]\d)")
_DAY = timedelta(days=1)
_LONGEST_WAIT_SECONDS = 60.0  # a clock may be set while we wait


@dataclass
class TimeWindow:
    """When something may be begun; what was begun is finished.

    Attributes:
        not_before, until: moments of this computer's clock; None for no bound.
    """

    not_before: datetime | None = None
    until: datetime | None = None
    _closed: threading.Event = field(default_factory=threading.Event)

    def wait(self) -> bool:
        """Waits until it has begun; whether it has not ended by then."""
        while self.not_before and not self._closed.is_set():
            left = (self.not_before - datetime.now()).total_seconds()
            if left <= 0:
                break
            self._closed.wait(min(left, _LONGEST_WAIT_SECONDS))
        return not self._closed.is_set() and (self.until is None or datetime.now() < self.until)

    def close(self) -> None:
        """Ends all waiting: nothing more is begun."""
        self._closed.set()

    @property
    def sentence(self) -> str:
        """Why something was not begun."""
        return messages.WINDOW_ENDED.format(until=f"{self.until:%Y-%m-%d %H:%M}")


def parse_window(not_before: str, until: str, now: datetime) -> TimeWindow | None:
    """A window from two words, each empty, ``HH:MM``, or ``YYYY-MM-DD HH:MM``.

    A clock time is the next one, the end the next one after the beginning. Of two clock times, a
    window that is open now has begun.

    Raises:
        UsageError: a word is no time, or the end is not after the beginning.
    """
    if not not_before and not until:
        return None
    begins = _parse("--not-before", not_before, now) if not_before else None
    ends = _parse("--until", until, begins or now) if until else None
    if begins and ends and _CLOCK.fullmatch(not_before) and _CLOCK.fullmatch(until):
        begins, ends = (begins - _DAY, ends - _DAY) if ends - _DAY > now else (begins, ends)
    if ends and ends <= (begins or now):
        raise UsageError(messages.WINDOW_EMPTY.format(until=until))
    return TimeWindow(begins, ends)


def _parse(option: str, text: str, after: datetime) -> datetime:
    if found := _CLOCK.fullmatch(text):
        moment = after.replace(hour=int(found[1]), minute=int(found[2]), second=0, microsecond=0)
        return moment if moment > after else moment + _DAY
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        raise UsageError(messages.NOT_A_TIME.format(option=option, text=text)) from None
    return moment.astimezone().replace(tzinfo=None) if moment.tzinfo else moment
