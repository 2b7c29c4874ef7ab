"""Who owns which blocks: claims are collected in bulk, then looked at all at once."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

Int64s = NDArray[np.int64]

NOBODY = 0  # owner of what belongs to the volume itself


class Claims:
    """Runs of blocks with their owners (inode numbers); bitmaps count in clusters."""

    def __init__(self, first_block: int, block_count: int, cluster_blocks: int) -> None:
        self._cluster_blocks = cluster_blocks
        self._first_block = first_block
        self._end_block = block_count
        self._parts: list[tuple[Int64s, Int64s, Int64s]] = []
        self._single: list[tuple[int, int, int]] = []
        self._starts: Int64s = np.zeros(0, np.int64)
        self._ends: Int64s = np.zeros(0, np.int64)
        self._owners: Int64s = np.zeros(0, np.int64)

    def add(self, owner: int, first: int, count: int) -> None:
        """Claims one run."""
        self._single.append((first, count, owner))

    def add_many(self, owners: Int64s, firsts: Int64s, counts: Int64s) -> None:
        """Claims many runs, one a row."""
        self._parts.append((firsts, counts, owners))

    def resolve(self) -> Iterator[tuple[int, str]]:
        """Yields (owner, what is wrong) for runs off the volume and runs claimed twice."""
        if self._single:
            rows = np.array(self._single, np.int64)
            self._parts.append((rows[:, 0], rows[:, 1], rows[:, 2]))
        firsts, counts, owners = (
            np.concatenate(column) for column in zip(*self._parts, strict=True)
        )
        ends = firsts + counts
        outside = (firsts < self._first_block) | (ends > self._end_block) | (counts <= 0)
        for index in np.flatnonzero(outside).tolist():
            yield int(owners[index]), f"block {int(firsts[index])} lies outside the volume"
        order = np.argsort(firsts[~outside], kind="stable")
        starts, ends, owners = (part[~outside][order] for part in (firsts, ends, owners))
        reach = np.maximum.accumulate(ends)
        for index in np.flatnonzero(starts[1:] < reach[:-1]).tolist():
            yield (
                int(owners[index + 1]),
                f"block {int(starts[index + 1])} also belongs to another inode",
            )
        self._starts, self._ends, self._owners = starts, reach, owners
        ratio = self._cluster_blocks
        shared = (starts[1:] // ratio == (ends[:-1] - 1) // ratio) & (owners[1:] != owners[:-1])
        for index in np.flatnonzero(shared if ratio > 1 else ()).tolist():
            yield (
                int(owners[index + 1]),
                f"it shares a cluster at block {int(starts[index + 1])} with another inode",
            )

    def bitmap(self, base: int, size: int) -> bytes:
        """The bitmap of the clusters of ``size`` blocks from ``base`` on, after ``resolve``."""
        first = int(np.searchsorted(self._ends, base, side="right"))
        last = int(np.searchsorted(self._starts, base + size, side="left"))
        if first >= last:
            return bytes(-(-size // self._cluster_blocks // 8) or 1)
        steps = np.zeros(size + 1, np.int32)
        np.add.at(steps, np.clip(self._starts[first:last] - base, 0, size), 1)
        np.add.at(steps, np.clip(self._ends[first:last] - base, 0, size), -1)
        used: NDArray[np.bool_] = np.asarray(np.cumsum(steps[:size]) > 0)
        if self._cluster_blocks > 1:
            of_cluster = used.reshape(-1, self._cluster_blocks)
            used = np.asarray(of_cluster.any(axis=1))
        return np.packbits(used, bitorder="little").tobytes()
