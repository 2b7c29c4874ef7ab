"""From a byte of a FAT volume to the file or folder that it belongs to."""

from __future__ import annotations

from bisect import bisect_right

from zeroseal.filesystems.fat.read import FatTree
from zeroseal.filesystems.tree import Kind


class PlaceNames:
    """Answers for one volume, whose folders are read once."""

    def __init__(self, tree: FatTree) -> None:
        self._owned: list[tuple[int, int, int]] = []  # start, end, node
        pending = [tree.root]
        while pending:
            folder = pending.pop()
            self._add(tree, folder)
            for entry in tree.list_folder(folder):
                if entry.kind is Kind.FOLDER:
                    pending.append(entry.node)
                else:
                    self._add(tree, entry.node)
        self._owned.sort()

    def owner_of(self, offset_bytes: int) -> int | None:
        """The node whose content or names lie there; no two files share a byte."""
        index = bisect_right(self._owned, offset_bytes, key=lambda item: item[0]) - 1
        if index >= 0 and offset_bytes < self._owned[index][1]:
            return self._owned[index][2]
        return None

    def describe(self, offset_bytes: int) -> str:
        """FAT says no more of the rest."""
        del offset_bytes
        return "outside of files"

    def _add(self, tree: FatTree, node: int) -> None:
        self._owned += [(start, start + size, node) for start, size in tree.iter_ranges(node)]
