"""Work on all processors whose results keep the order of what went in, with bounded memory."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import closing
from typing import Generic, TypeVar

ItemT = TypeVar("ItemT")
ResultT = TypeVar("ResultT")


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
