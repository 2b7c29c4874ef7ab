"""Ordered work on all processors, the store of kept blocks, and waiting that is seen."""

from __future__ import annotations

import random
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zeroseal.blocks.staged import StagedStore
from zeroseal.blocks.store import CachedStore, Extent, MemoryStore, PaddedStore
from zeroseal.blocks.workers import OrderedWork, map_ordered, wait_for, worker_count
from zeroseal.errors import TruncatedError
from zeroseal.progress import Step


def test_results_keep_the_order_of_the_items_whichever_is_done_first() -> None:
    chance = random.Random(5)
    pauses = [chance.random() / 200 for _ in range(60)]

    def work(number: int) -> int:
        time.sleep(pauses[number])
        return number * number

    assert list(map_ordered(work, range(60), 7)) == [number * number for number in range(60)]


def test_only_so_many_items_are_under_way_at_once() -> None:
    """Memory is bounded: nobody asks for the next window before one was handed out."""
    asked, handed_out, most = 0, 0, 0

    def items() -> Iterator[int]:
        nonlocal asked, most
        for number in range(200):
            asked += 1
            most = max(most, asked - handed_out)
            yield number

    for _result in map_ordered(lambda number: number, items(), 5):
        handed_out += 1
    assert handed_out == 200
    assert most <= 5 + 2


def test_an_error_in_the_work_ends_it_and_nothing_further_is_begun() -> None:
    begun: list[int] = []

    def work(number: int) -> int:
        begun.append(number)
        if number == 3:
            raise ValueError("the third")
        return number

    results = map_ordered(work, range(10_000), 4)
    got = []
    with pytest.raises(ValueError, match="the third"):
        for result in results:
            got.append(result)
    assert got == [0, 1, 2]
    time.sleep(0.05)
    assert len(begun) < 10 + worker_count()


def test_who_leaves_early_does_not_wait_for_what_was_not_begun() -> None:
    release = threading.Event()
    begun: list[int] = []

    def work(number: int) -> int:
        begun.append(number)
        release.wait(5)
        return number

    pool = OrderedWork(work, 1000)
    for number in range(100):
        assert list(pool.add(number)) == []
    began = time.monotonic()
    pool.close()
    assert time.monotonic() - began < 1
    release.set()
    time.sleep(0.05)
    assert len(begun) <= worker_count()


def test_waiting_for_another_thread_is_seen_and_gives_its_result_or_its_error() -> None:
    seen: list[Step] = []
    with ThreadPoolExecutor(1) as pool:

        def take_long() -> int:
            time.sleep(0.3)
            return 7

        assert wait_for(pool.submit(take_long), seen.append, "checking the result") == 7
        assert seen
        assert {step.stage for step in seen} == {"checking the result"}
        with pytest.raises(ZeroDivisionError):
            wait_for(pool.submit(lambda: 1 // 0), seen.append, "checking the result")
        with pytest.raises(TimeoutError):  # its own, not that of the waiting

            def time_out() -> None:
                raise TimeoutError

            wait_for(pool.submit(time_out), seen.append, "checking the result")


class Counted(MemoryStore):
    """Notes what is read of it."""

    def __init__(self, content: bytes) -> None:
        super().__init__(content)
        self.reads: list[tuple[int, int]] = []

    def read(self, offset_bytes: int, length: int) -> bytes:
        self.reads.append((offset_bytes, length))
        return super().read(offset_bytes, length)


@given(
    st.integers(1, 70_000),
    st.lists(st.tuples(st.integers(0, 70_000), st.integers(0, 40_000) | st.integers(0, 64))),
)
def test_a_store_of_kept_blocks_reads_the_same(size: int, reads: list[tuple[int, int]]) -> None:
    content = random.Random(size).randbytes(size)
    kept = CachedStore(MemoryStore(content))
    for start, length in reads:
        if start + length > size:
            with pytest.raises(TruncatedError):
                kept.read(start, length)
        else:
            assert kept.read(start, length) == content[start : start + length]
    with pytest.raises(TruncatedError):
        kept.read(-1, 1)
    assert list(kept.iter_extents(0, size)) == [Extent(0, size, is_zero=False)]


def test_small_reads_are_answered_from_few_large_ones() -> None:
    below = Counted(random.Random(1).randbytes(1 << 20))
    kept = CachedStore(below)
    for number in range(4096):
        kept.read(number * 256, 256)
    assert len(below.reads) == (1 << 20) // 16384
    below.reads.clear()
    kept.read(0, 1 << 20)  # a large one is passed on as it is
    assert below.reads == [(0, 1 << 20)]


def test_kept_blocks_are_bounded_and_threads_may_share_them(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(CachedStore, "_MOST_BLOCKS", 8)
    content = random.Random(2).randbytes(64 * 16384)
    kept = CachedStore(MemoryStore(content))

    def read_here_and_there(seed: int) -> int:
        chance = random.Random(seed)
        wrong = 0
        for _ in range(2000):
            start = chance.randrange(len(content) - 300)
            wrong += kept.read(start, 300) != content[start : start + 300]
        return wrong

    with ThreadPoolExecutor(4) as pool:
        assert sum(pool.map(read_here_and_there, range(4))) == 0
    assert len(kept._blocks) <= 8


def test_changes_over_kept_blocks_are_seen_and_the_blocks_stay_as_they_were() -> None:
    below = MemoryStore(b"tide" * 5000)
    kept = CachedStore(below)
    assert kept.read(0, 4) == b"tide"
    staged = StagedStore(kept)
    staged.write(2, b"ll")
    staged.zero(100, 9000)
    assert staged.read(0, 4) == b"till"
    assert staged.read(96, 8) == b"tide\0\0\0\0"
    assert kept.read(0, 4) == b"tide"
    assert PaddedStore(staged, 30_000).read(19_996, 8) == b"tide\0\0\0\0"
