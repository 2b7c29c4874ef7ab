"""Whose each block is, as the checker finds it: structures alone, content perhaps shared."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from zeroseal.filesystems.tree import Problem
from zeroseal.filesystems.xfs import layout
from zeroseal.filesystems.xfs.volume import XfsVolume

Owned = tuple[int, int, int, int]  # first block in the group, blocks, owner, offset with flags
_FREE = 0


class Claims:
    """Counts, for each block of each group, by how many files and by how many structures."""

    def __init__(self, volume: XfsVolume) -> None:
        self._volume = volume
        sizes = [volume.blocks_in(group) for group in range(volume.superblock.group_count)]
        self.files = [np.zeros(size, np.uint32) for size in sizes]
        self._others = [np.zeros(size, np.uint8) for size in sizes]
        self.owned: list[list[Owned]] = [[] for _size in sizes]
        self._outside: list[Problem] = []

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
                what = f"{len(twice)} blocks have two owners, the first is {twice[0]}"
                yield Problem(f"group {group}", what)
            if len(nobody):
                what = f"{len(nobody)} blocks have no owner, the first is {nobody[0]}"
                yield Problem(f"group {group}", what)

    def _add(self, group: int, first: int, count: int) -> bool:
        inside = group < len(self._others) and first + count <= len(self._others[group])
        if not inside:
            self._outside.append(Problem(f"group {group}", f"block {first} lies outside of it"))
            return False
        part = self._others[group][first : first + count]
        np.minimum(part + 1, 2, out=part)
        return True


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
