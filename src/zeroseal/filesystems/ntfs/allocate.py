"""Free clusters and free records, as an editor takes and gives them."""

from __future__ import annotations

from itertools import chain

from zeroseal.blocks.bitmaps import bit_is_set, fill_bits, find_runs
from zeroseal.blocks.ranges import RangeSet
from zeroseal.errors import NoSpaceError
from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.nodes import Attribute
from zeroseal.filesystems.ntfs.runs import HOLE, Run, cut_runs, merge_runs
from zeroseal.filesystems.ntfs.streams import read_stream
from zeroseal.filesystems.ntfs.volume import NtfsVolume
from zeroseal.messages import ntfs as messages

FIRST_USUAL_RECORD = 64  # those below are kept for the file system where others are free
_STEP = 4096


class Clusters:
    """The volume's bitmap, with what is free in it.

    Args:
        zero_removed: whether clusters that are given back are zeroed at once.
    """

    def __init__(self, volume: NtfsVolume, attribute: Attribute, zero_removed: bool) -> None:
        self._volume, self._attribute, self._zero_removed = volume, attribute, zero_removed
        self._before = read_stream(volume, attribute)
        self._bitmap = bytearray(self._before)
        if len(self._bitmap) * 8 < volume.cluster_count:
            raise volume.damaged(messages.BITMAP_TOO_SMALL)
        self._free = RangeSet()
        for first, count in find_runs(self._bitmap, volume.cluster_count, value=False):
            self._free.add(first, first + count)
        self._cursor = 0

    def take(self, count: int, near: int = HOLE) -> list[Run]:
        """Takes clusters, in one piece where there is one; ``near`` is where they would fit best.

        Raises:
            NoSpaceError: so many are not free.
        """
        if count <= 0:
            return []
        if count > self._free.total:
            raise NoSpaceError(
                messages.NO_FREE_CLUSTERS.format(where=self._volume.where, count=count),
                format="ntfs",
            )
        pieces: list[tuple[int, int]] = []
        left = count
        if near != HOLE and near in self._free:
            start, end = next(self._free.within(near, near + count))
            pieces.append((start, end))
            left -= end - start
        if left:
            pieces += self._choose(left, pieces)
        runs = []
        for start, end in pieces:
            self._free.discard(start, end)
            fill_bits(self._bitmap, start, end - start, value=True)
            runs.append(Run(start, end - start))
        return merge_runs(runs)

    def give(self, runs: list[Run]) -> None:
        """Gives clusters back."""
        for run in runs:
            if run.lcn == HOLE:
                continue
            self._free.add(run.lcn, run.lcn + run.clusters)
            fill_bits(self._bitmap, run.lcn, run.clusters, value=False)
            if self._zero_removed:
                size = self._volume.cluster_bytes
                self._volume.store.zero(run.lcn * size, run.clusters * size)

    def finish(self) -> None:
        """Writes what changed of the bitmap."""
        write_changes(self._volume, self._attribute, self._before, self._bitmap)
        self._before = bytes(self._bitmap)

    def _choose(self, count: int, taken: list[tuple[int, int]]) -> list[tuple[int, int]]:
        """Free ranges for so many clusters: the first that holds all, or the first ones."""
        limit = self._volume.cluster_count
        avoided = RangeSet(taken)
        pieces, left = [], count
        later, before = self._free.within(self._cursor, limit), self._free.within(0, self._cursor)
        for start, end in chain(later, before):
            is_free = end - start >= count and not any(avoided.within(start, start + count))
            if is_free:
                self._cursor = start + count
                return [(start, start + count)]
        for start, end in self._free:
            for first, stop in _without(start, end, avoided):
                size = min(left, stop - first)
                pieces.append((first, first + size))
                left -= size
                if not left:
                    return pieces
        raise AssertionError("the number of free clusters was compared before")


def _without(start: int, end: int, avoided: RangeSet) -> list[tuple[int, int]]:
    rest = RangeSet([(start, end)])
    for first, stop in avoided:
        rest.discard(first, stop)
    return list(rest)


class Records:
    """The table's bitmap."""

    def __init__(self, volume: NtfsVolume, bitmap: bytes) -> None:
        self._volume = volume
        self.bitmap = bytearray(bitmap)
        self._searched: dict[int, int] = {}  # by where a search begins: nothing is free before
        self._fit()

    def find_free(self, first: int = 0) -> int | None:
        """The lowest record that is free, from one on; usual ones come before kept ones."""
        count = self._volume.record_count
        for start in (first,) if first else (FIRST_USUAL_RECORD, layout.FIRST_USER_RECORD):
            found = self._find(start, count)
            if found is not None:
                return found
        return None

    def mark(self, number: int, is_used: bool) -> None:
        """Says whether a record is in use."""
        fill_bits(self.bitmap, number, 1, is_used)
        if not is_used:
            self._searched.clear()

    def is_used(self, number: int) -> bool:
        """Whether a record is marked in use."""
        return bit_is_set(self.bitmap, number)

    def grow(self) -> None:
        """Makes room for records that the table got."""
        self._fit()

    def _find(self, start: int, count: int) -> int | None:
        for byte in range(self._searched.get(start, start // 8), -(-count // 8)):
            self._searched[start] = byte
            if self.bitmap[byte] != 0xFF:
                for number in range(max(start, byte * 8), min(count, byte * 8 + 8)):
                    if not bit_is_set(self.bitmap, number):
                        return number
        return None

    def _fit(self) -> None:
        missing = -(-self._volume.record_count // 64) * 8 - len(self.bitmap)
        self.bitmap += bytes(max(0, missing))


def write_changes(
    volume: NtfsVolume, attribute: Attribute, before: bytes, now: bytes | bytearray
) -> None:
    """Writes those parts of content in clusters that changed."""
    for start in range(0, len(now), _STEP):
        piece = bytes(now[start : start + _STEP])
        if piece != before[start : start + _STEP]:
            write_at(volume, attribute, start, piece)


def write_at(volume: NtfsVolume, attribute: Attribute, offset: int, content: bytes) -> None:
    """Writes content into clusters that are there."""
    size = volume.cluster_bytes
    first, end = offset // size, -(-(offset + len(content)) // size)
    position = first * size
    for run in cut_runs(attribute.runs, first, end):
        stop = position + run.clusters * size
        start, last = max(offset, position), min(offset + len(content), stop)
        assert run.lcn != HOLE  # no content is written into a hole
        place = run.lcn * size + start - position
        volume.store.write(place, content[start - offset : last - offset])
        position = stop
