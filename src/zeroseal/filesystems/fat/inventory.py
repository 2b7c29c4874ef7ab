"""The inventory of a FAT volume: free clusters, slack, names of deleted files."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Iterator

from zeroseal.blocks.patches import Patch, differing_patches, zero_patches
from zeroseal.filesystems.fat import layout
from zeroseal.filesystems.fat.read import FatTree
from zeroseal.filesystems.inventory import Inventory, Part
from zeroseal.filesystems.tree import Kind
from zeroseal.messages import fat as messages

_SIZE = layout.ENTRY_BYTES


class FatInventory(Inventory[FatTree]):
    """See ``Inventory``; the volume's tree reads its folders."""

    def _find(self, part: Part) -> Iterable[Patch]:
        volume = self._volume.volume
        match part:
            case Part.JOURNAL | Part.FREE_INODES:
                return ()
            case Part.FREE_SPACE:
                return zero_patches(volume.store, volume.iter_free(), "free space")
            case Part.SLACK:
                return iter_slack(self._volume)

    def _name_places(self) -> FatPlaceNames:
        return FatPlaceNames(self._volume)


class FatPlaceNames:
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


def iter_slack(tree: FatTree) -> Iterator[Patch]:
    """Yields all stale slack.

    Raises:
        DamagedError: a chain or a folder contradicts itself.
    """
    pending, seen = [tree.root], set()
    while pending:
        folder = pending.pop()
        if folder in seen:
            raise tree.volume.damaged(messages.FOLDER_CONTAINS_ITSELF)
        seen.add(folder)
        yield from _folder_slack(tree, folder)
        for item in tree.list_folder(folder):
            if item.kind is Kind.FOLDER:
                pending.append(item.node)
            else:
                yield from _file_slack(tree, item.node)


def _file_slack(tree: FatTree, node: int) -> Iterator[Patch]:
    """The rest of the last cluster, and clusters behind the end."""
    size, cluster_bytes = tree.get_facts(node).size_bytes, tree.volume.cluster_bytes
    for number, cluster in enumerate(tree.file_clusters(node)):
        kept = min(max(size - number * cluster_bytes, 0), cluster_bytes)
        if kept < cluster_bytes:
            offset = tree.volume.cluster_offset(cluster) + kept
            stale = tree.volume.store.read(offset, cluster_bytes - kept)
            if any(stale):
                yield Patch(offset, len(stale), "behind the end of a file",
                            stale_bytes=len(stale) - stale.count(0))  # fmt: skip


def _folder_slack(tree: FatTree, folder: int) -> Iterator[Patch]:
    ended = False
    for offset, length in tree.folder_ranges(folder):
        stale = tree.volume.store.read(offset, length)
        clean = bytearray(stale)
        for start in range(0, length, _SIZE):
            first = stale[start]
            ended = ended or first == layout.END
            if ended:
                clean[start : start + _SIZE] = bytes(_SIZE)
            elif first == layout.DELETED:
                clean[start : start + _SIZE] = bytes([first]) + bytes(_SIZE - 1)
        yield from differing_patches(offset, stale, bytes(clean), "in a folder")
