"""Compressing block after block on both cores, and handing them out in order."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor

_THREADS = 2
_MOST_WAITING = 64


class OrderedDeflater:
    """Compresses blocks with ``pack``; what comes out keeps the order of what went in."""

    def __init__(self, pack: Callable[[bytes], bytes]) -> None:
        self._pack = pack
        self._pool = ThreadPoolExecutor(_THREADS)
        self._waiting: deque[tuple[int, bytes, Future[bytes]]] = deque()

    def add(self, offset_bytes: int, block: bytes) -> Iterator[tuple[int, bytes, bytes]]:
        """Takes a block; yields (offset, block, packed) of those that are due."""
        self._waiting.append((offset_bytes, block, self._pool.submit(self._pack, block)))
        while len(self._waiting) > _MOST_WAITING:
            yield self._next()

    def finish(self) -> Iterator[tuple[int, bytes, bytes]]:
        """Yields all that is left."""
        while self._waiting:
            yield self._next()
        self._pool.shutdown()

    def _next(self) -> tuple[int, bytes, bytes]:
        offset, block, future = self._waiting.popleft()
        return offset, block, future.result()
