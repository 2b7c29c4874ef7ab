"""Work in other threads: on all processors with results in order, or beside, while it is seen."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor, wait
from contextlib import closing
from typing import Generic, TypeVar

from zeroseal.progress import Progress, Step

ItemT = TypeVar("ItemT")
ResultT = TypeVar("ResultT")
_TICK_SECONDS = 0.1


def worker_count() -> int:
    """How many processors this process may use."""
    if hasattr(os, "sched_getaffinity"):
        return len(os.sched_getaffinity(0))
    return os.cpu_count() or 1


class OrderedWork(Generic[ItemT, ResultT]):
    """Does ``work`` on items in threads; for work that releases Python's lock.

    ``close`` does not wait for what was not begun.

    Args:
        work: what is done with each item.
        most_waiting: how many items may be begun or done, and not handed out yet.
    """

    def __init__(self, work: Callable[[ItemT], ResultT], most_waiting: int) -> None:
        self._work = work
        self._most_waiting = most_waiting
        self._pool = ThreadPoolExecutor(worker_count())
        self._waiting: deque[Future[ResultT]] = deque()

    def add(self, item: ItemT) -> Iterator[ResultT]:
        """Takes an item; yields the results that are due, in order."""
        self._waiting.append(self._pool.submit(self._work, item))
        while len(self._waiting) > self._most_waiting:
            yield self._waiting.popleft().result()

    def finish(self) -> Iterator[ResultT]:
        """Yields all that is left."""
        while self._waiting:
            yield self._waiting.popleft().result()

    def close(self) -> None:
        """Gives up what was not begun."""
        self._pool.shutdown(wait=False, cancel_futures=True)


def map_ordered(
    work: Callable[[ItemT], ResultT], items: Iterable[ItemT], most_waiting: int
) -> Iterator[ResultT]:
    """``work`` on each of the items, in their order; see ``OrderedWork``."""
    with closing(OrderedWork(work, most_waiting)) as pool:
        for item in items:
            yield from pool.add(item)
        yield from pool.finish()


def wait_for(future: Future[ResultT], progress: Progress, stage: str) -> ResultT:
    """The result of work in another thread; whoever watches sees that it goes on."""
    while not wait([future], timeout=_TICK_SECONDS).done:
        progress(Step(stage, 0, 0))
    return future.result()


def watched(work: Callable[[], ResultT], progress: Progress, stage: str) -> ResultT:
    """Does work that tells nothing of itself, such as a flush, in another thread."""
    with ThreadPoolExecutor(1) as pool:
        return wait_for(pool.submit(work), progress, stage)
