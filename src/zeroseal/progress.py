"""How long work tells what it is doing: an optional callable that takes one small value."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor, wait
from threading import Event
from types import TracebackType
from typing import NamedTuple, Self, TypeVar

ResultT = TypeVar("ResultT")
_TICK_SECONDS = 0.1


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


def wait_for(future: Future[ResultT], progress: Progress, stage: str) -> ResultT:
    """The result of work in another thread; whoever watches sees that it goes on."""
    while not wait([future], timeout=_TICK_SECONDS).done:
        progress(Step(stage, 0, 0))
    return future.result()


def watched(work: Callable[[], ResultT], progress: Progress, stage: str) -> ResultT:
    """Does work that tells nothing of itself, such as a flush, in another thread."""
    with ThreadPoolExecutor(1) as pool:
        return wait_for(pool.submit(work), progress, stage)
