"""How long work tells what it is doing: an optional callable that takes one small value."""

from __future__ import annotations

from collections.abc import Callable
from threading import Event
from types import TracebackType
from typing import NamedTuple, Self


class Step(NamedTuple):
    """Where a piece of work stands.

    ``done`` and ``total`` count in ``unit``; bytes are those that are really read or written.
    ``total`` is 0 while it is not known. ``detail`` is a line of what is going on, such as the last
    of a console.
    """

    stage: str
    done: int
    total: int
    unit: str = "bytes"
    detail: str = ""


Progress = Callable[[Step], None]


class Cancelled(BaseException):
    """Ends work in another thread that nobody waits for any more; no handler of errors takes it."""


class CancelToken:
    """Tells work in other threads to end; they ask at each step, and at each read of a disk."""

    def __init__(self) -> None:
        self._event = Event()

    def cancel(self) -> None:
        """Ends the work at its next step."""
        self._event.set()

    def check(self) -> None:
        """Raises Cancelled where the work is to end."""
        if self._event.is_set():
            raise Cancelled

    def progress(self, _step: Step) -> None:
        """A progress callback for work that nobody watches, but that may be cancelled."""
        self.check()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.cancel()


def quiet(_step: Step) -> None:
    """The progress callback for work that nobody watches."""
