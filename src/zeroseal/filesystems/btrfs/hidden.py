"""Looking for values in what the bytes of a btrfs volume do not show: files that are compressed."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.blocks.search import Searcher
from zeroseal.errors import ZeroSealError
from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.layout import ExtentHead
from zeroseal.filesystems.btrfs.read import BtrfsTree
from zeroseal.filesystems.driver import HiddenHit

_PACKING = ExtentHead.offset_of("packing")


def search_hidden(tree: BtrfsTree, searcher: Searcher) -> tuple[list[HiddenHit], list[str]]:
    """(hits, sentences about what could not be read) of a subvolume and those that it shows."""
    found: dict[HiddenHit, None] = {}
    unread: list[str] = []
    for number, prefix in tree.iter_shown():
        for node in _iter_packed(tree, number):
            try:
                for value in _values_in(tree, node, searcher):
                    found[HiddenHit(value, prefix + tree.path_in_subvolume(node))] = None
            except ZeroSealError:
                unread.append(f"Inode {node & layout.LAST} of {tree.where} cannot be read.")
    return list(found), unread


def _iter_packed(tree: BtrfsTree, number: int) -> Iterator[int]:
    """Yields the files of a subvolume that have compressed content."""
    last = -1
    for key, data in tree.volume.all_items(tree.volume.tree(number)):
        is_new = key.kind == layout.EXTENT_DATA and key.object != last
        if is_new and len(data) > _PACKING and data[_PACKING]:
            last = key.object
            yield number << 64 | key.object


def _values_in(tree: BtrfsTree, node: int, searcher: Searcher) -> Iterator[int]:
    """Yields the numbers of the values that a file holds; its pieces are searched with overlap."""
    before = b""
    for piece in tree.iter_pieces_read(node):
        window = before + piece
        yield from {number for _offset, number in searcher.find(window)}
        before = window[-searcher.longest :]
