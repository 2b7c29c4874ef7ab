"""Whose each block is, as the checker finds it: structures alone, content perhaps shared."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from zeroseal.filesystems.tree import Problem
from zeroseal.filesystems.xfs import layout
from zeroseal.filesystems.xfs.rows import InodeRows
from zeroseal.filesystems.xfs.volume import XfsVolume
from zeroseal.messages import xfs as messages

Owned = tuple[int, int, int, int]  # first block in the group, blocks, owner, offset with flags
_FEW_BLOCKS = 64  # a longer range is counted by itself


class Claims:
    """Counts, for each block of each group, by how many files and by how many structures."""

    def __init__(self, volume: XfsVolume) -> None:
        self._volume = volume
        sizes = [volume.blocks_in(group) for group in range(volume.superblock.group_count)]
        self.files = [np.zeros(size, np.uint32) for size in sizes]
        self._others = [np.zeros(size, np.uint8) for size in sizes]
        self.owned: list[list[Owned]] = [[] for _size in sizes]
        self._outside: list[Problem] = []
        self._notes_owners = volume.has_feature(layout.RO_RMAPBT)  # else nobody asks for them

    def add_free(self, group: int, first: int, count: int) -> None:
        """Free blocks, or such that are kept for the group's trees."""
        self._add(group, first, count)

    def add_structure(self, fsblock: int, count: int, owner: int) -> None:
        """Blocks of a structure of the volume; ``owner`` as the reverse mapping has it."""
        group, agblock = self._volume.group_of(fsblock)
        if self._add(group, agblock, count):
            self.owned[group].append((agblock, count, owner, 0))

    def add_content(self, fsblock: int, count: int, owner: int, offset: int) -> None:
        """Blocks of a file's content, which other files may share."""
        group, agblock = self._volume.group_of(fsblock)
        self.files[group][agblock : agblock + count] += 1
        self.owned[group].append((agblock, count, owner, offset))

    def add_files(self, rows: InodeRows, chosen: NDArray[np.bool_]) -> None:
        """The written extents of files in a table of inodes."""
        there = rows.within & chosen[:, None]
        owners = np.broadcast_to(rows.numbers[:, None], there.shape)[there]
        groups, firsts = (part[there] for part in rows.places)
        counts, offsets = rows.blocks[there], rows.logical[there]
        for group in np.unique(groups).tolist():
            own = groups == group
            _count_up(self.files[group], firsts[own], counts[own])
            if self._notes_owners:
                columns = (firsts[own], counts[own], owners[own], offsets[own])
                self.owned[group].extend(zip(*(part.tolist() for part in columns), strict=True))

    def add_own(self, fsblock: int, count: int, owner: int, offset: int) -> None:
        """Blocks of an inode that nobody can share: folders, attributes, mappings."""
        group, agblock = self._volume.group_of(fsblock)
        if self._add(group, agblock, count):
            self.owned[group].append((agblock, count, owner, offset))

    def problems(self) -> Iterator[Problem]:
        """Yields blocks that have two owners, or none."""
        yield from self._outside
        for group, (files, others) in enumerate(zip(self.files, self._others, strict=True)):
            twice = np.flatnonzero((others > 1) | ((others > 0) & (files > 0)))
            nobody = np.flatnonzero((others == 0) & (files == 0))
            if len(twice):
                what = f"{len(twice)} blocks have two owners, first at block {twice[0]}"
                yield Problem(f"group {group}", what)
            if len(nobody):
                what = f"{len(nobody)} blocks have no owner, first at block {nobody[0]}"
                yield Problem(f"group {group}", what)

    def _add(self, group: int, first: int, count: int) -> bool:
        inside = group < len(self._others) and first + count <= len(self._others[group])
        if not inside:
            self._outside.append(
                Problem(f"group {group}", messages.BLOCK_LIES_OUTSIDE_VOLUME.format(first=first))
            )
            return False
        part = self._others[group][first : first + count]
        np.minimum(part + 1, 2, out=part)
        return True


def _count_up(
    files: NDArray[np.uint32], firsts: NDArray[np.int64], counts: NDArray[np.int64]
) -> None:
    """Counts each block of some ranges once more; a block may lie in several of them."""
    small = counts <= _FEW_BLOCKS
    for first, count in zip(firsts[~small].tolist(), counts[~small].tolist(), strict=True):
        files[first : first + count] += 1
    firsts, counts = firsts[small], counts[small]
    if len(firsts):
        begins = np.cumsum(counts) - counts
        blocks = np.repeat(firsts - begins, counts) + np.arange(int(counts.sum()))
        np.add.at(files, blocks, np.uint32(1))


def joined(rows: list[Owned]) -> list[Owned]:
    """Rows of reverse mapping, sorted by owner, those that go on in each other joined."""
    found: list[Owned] = []
    for start, count, owner, offset in sorted(rows, key=lambda row: (row[2], _flags(row), row[0])):
        if found:
            first, length, before, at = found[-1]
            flat = owner >= layout.FIRST_SPECIAL_OWNER or offset & layout.RMAP_BMBT
            goes_on = (
                before == owner
                and first + length == start
                and (at == offset if flat else at + length == offset)
            )
            if goes_on:
                found[-1] = (first, length + count, owner, at)
                continue
        found.append((start, count, owner, offset))
    return sorted(found)


def _flags(row: Owned) -> int:
    return row[3] & ~layout.RMAP_OFFSET_MASK
