"""Slack of FAT: behind the end of files, deleted entries, and what lies behind a folder's end."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.blocks.patches import Patch, differing_patches
from zeroseal.filesystems.fat import layout
from zeroseal.filesystems.fat.read import FatTree
from zeroseal.filesystems.tree import Kind

_SIZE = layout.ENTRY_BYTES


def iter_slack(tree: FatTree) -> Iterator[Patch]:
    """Yields all stale slack.

    Raises:
        DamagedError: a chain or a folder contradicts itself.
    """
    pending, seen = [tree.root], set()
    while pending:
        folder = pending.pop()
        if folder in seen:
            raise tree.volume.damaged("a folder is inside itself")
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
