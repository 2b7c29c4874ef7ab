"""Run lists: which clusters hold a value, in order.

A run is stored as a byte with two lengths, then that many bytes of its count of clusters and of the
signed distance from the run before; without a distance it is a hole.

Source: ``ntfs-3g/layout.h``, ATTR_RECORD (mapping pairs).
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from zeroseal.messages import ntfs as messages

HOLE = -1
_MOST_CLUSTERS = 1 << 53


class Run(NamedTuple):
    """Clusters in one piece; ``lcn`` is the first of them on the volume, or ``HOLE``."""

    lcn: int
    clusters: int


class RunError(ValueError):
    """A run list contradicts itself."""


def parse_runs(raw: bytes | memoryview) -> list[Run]:
    """Unpacks a run list up to its end mark.

    Raises:
        RunError: it has no end, or names impossible clusters.
    """
    runs: list[Run] = []
    position, lcn, end = 0, 0, len(raw)
    while position < end and raw[position]:
        sizes = raw[position]
        counted, distance = sizes & 15, sizes >> 4
        place = position + 1 + counted
        if not 0 < counted <= 8 or distance > 8 or place + distance > end:
            raise RunError(messages.RUN_LIST_INVALID)
        count = int.from_bytes(raw[position + 1 : place], "little")
        if not 0 < count < _MOST_CLUSTERS:
            raise RunError(messages.RUN_WITHOUT_CLUSTERS)
        if distance:
            lcn += int.from_bytes(raw[place : place + distance], "little", signed=True)
            if not 0 <= lcn < _MOST_CLUSTERS:
                raise RunError(messages.RUN_LIST_POINTS_OUTSIDE_VOLUME)
            runs.append(Run(lcn, count))
        else:
            runs.append(Run(HOLE, count))
        position = place + distance
    if position >= end:
        raise RunError(messages.RUN_LIST_NO_END_MARKER)
    return runs


def build_runs(runs: Iterable[Run]) -> bytes:
    """Packs a run list with its end mark."""
    packed, last = bytearray(), 0
    for run in runs:
        count = _pack(run.clusters)
        if run.lcn == HOLE:
            packed += bytes([len(count)]) + count
            continue
        distance = _pack(run.lcn - last)
        packed += bytes([len(count) | len(distance) << 4]) + count + distance
        last = run.lcn
    return bytes(packed) + b"\0"


def merge_runs(runs: Iterable[Run]) -> list[Run]:
    """Joins runs that touch."""
    merged: list[Run] = []
    for run in runs:
        if not run.clusters:
            continue
        if merged:
            last = merged[-1]
            touches = last.lcn == HOLE if run.lcn == HOLE else last.lcn + last.clusters == run.lcn
            if touches and (last.lcn == HOLE) == (run.lcn == HOLE):
                merged[-1] = Run(last.lcn, last.clusters + run.clusters)
                continue
        merged.append(run)
    return merged


def cut_runs(runs: Iterable[Run], first: int, end: int) -> list[Run]:
    """The runs of the virtual clusters ``[first, end)``."""
    cut, vcn = [], 0
    for run in runs:
        start, stop = max(first, vcn), min(end, vcn + run.clusters)
        if start < stop:
            lcn = run.lcn if run.lcn == HOLE else run.lcn + start - vcn
            cut.append(Run(lcn, stop - start))
        vcn += run.clusters
    return cut


def count_clusters(runs: Iterable[Run]) -> int:
    """How many virtual clusters a run list maps."""
    return sum(run.clusters for run in runs)


def iter_stored(runs: Iterable[Run]) -> Iterator[Run]:
    """Yields the runs that are no holes."""
    return (run for run in runs if run.lcn != HOLE)


def _pack(number: int) -> bytes:
    """The fewest bytes that hold a signed number."""
    return number.to_bytes(
        (number if number >= 0 else ~number).bit_length() // 8 + 1, "little", signed=True
    )
