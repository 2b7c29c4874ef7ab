"""What of each extent of data the files refer to: a walk over all trees, snapshots included.

An extent stays whole as long as anything refers to a part of it. The rest of it, what was set aside
and never written, and what lies behind the end of a file, is slack.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass, field

from zeroseal.blocks.ranges import RangeSet
from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.extents import lies_outside
from zeroseal.filesystems.btrfs.layout import InodeItem
from zeroseal.filesystems.btrfs.trees_edit import is_subvolume
from zeroseal.filesystems.btrfs.volume import BtrfsVolume, Node, TreeRoot, parse_root

_SIZE = slice(16, 24)  # of an inode's item
_PLACE = struct.Struct("<QBBHBQQQQ")  # a piece: from the plain length behind its generation on


@dataclass
class DataUse:
    """An extent of data and what of it is in use.

    Attributes:
        address, length: logical; as it is stored.
        packing: how it is compressed.
        plain_bytes: its length when unpacked.
        used: the parts of it that files show, in bytes from its beginning, when unpacked.
        node: a file that it is of, by subvolume and number.
    """

    address: int
    length: int
    packing: int
    plain_bytes: int
    node: int
    used: RangeSet = field(default_factory=RangeSet)

    def unused(self) -> RangeSet:
        """The parts that no file shows, in bytes as ``used``."""
        left = RangeSet([(0, self.plain_bytes if self.packing else self.length)])
        for start, end in self.used:
            left.discard(start, end)
        return left


@dataclass
class Usage:
    """All nodes of all trees, by address the tree that each was found in; and all data."""

    nodes: dict[int, int] = field(default_factory=dict)
    data: dict[int, DataUse] = field(default_factory=dict)


def read_usage(volume: BtrfsVolume) -> Usage:
    """Walks over all trees.

    Raises:
        DamagedError: a tree contradicts the format.
    """
    return _Walk(volume).run()


class _Walk:
    """One walk.

    A leaf that several trees share is looked at once for each size that its first file may have.
    """

    def __init__(self, volume: BtrfsVolume) -> None:
        self._volume = volume
        self._found = Usage()
        self._seen: set[tuple[int, int, int]] = set()

    def run(self) -> Usage:
        volume = self._volume
        self._walk(layout.ROOT_TREE, volume.roots)
        self._walk(layout.CHUNK_TREE, volume.chunk_root)
        for key, data in volume.all_items(volume.roots):
            if key.kind == layout.ROOT_ITEM:
                self._walk(key.object, parse_root(data)[0])
        return self._found

    def _walk(self, tree: int, root: TreeRoot) -> None:
        inode, size = 0, 0
        has_files = is_subvolume(tree) or tree in (layout.ROOT_TREE, layout.DATA_RELOCATION_TREE)
        for address, node in self._iter_nodes(root):
            self._found.nodes.setdefault(address, tree)
            if node.level or not has_files or not node.keys:
                continue
            before = (address, inode, size) if node.keys[0].object == inode else (address, 0, 0)
            if before not in self._seen:
                self._seen.add(before)
                inode, size = self._take_leaf(tree, node, inode, size)
            else:
                inode, size = _last_inode(node, inode, size)

    def _iter_nodes(self, root: TreeRoot) -> Iterator[tuple[int, Node]]:
        """Yields (address, node) of a tree, leaves in the order of their keys."""
        waiting = [(root.address, root.level)]
        while waiting:
            address, level = waiting.pop()
            node = self._volume.read_node(address, level)
            waiting += [(child, level - 1) for child, _written in reversed(node.children)]
            yield address, node

    def _take_leaf(self, tree: int, leaf: Node, inode: int, size: int) -> tuple[int, int]:
        data = self._found.data
        for key, item in zip(leaf.keys, leaf.data, strict=True):
            if key.kind == layout.INODE_ITEM:
                inode, size = key.object, int.from_bytes(item[_SIZE], "little")
            if key.kind != layout.EXTENT_DATA or not lies_outside(item):
                continue
            plain_bytes, packing, _enc, _other, kind, address, stored, offset, length = (
                _PLACE.unpack_from(item, 8)
            )
            if not address:
                continue
            use = data.get(address)
            if use is None:
                node = tree << 64 | key.object
                use = data[address] = DataUse(address, stored, packing, plain_bytes, node)
            if kind == layout.REGULAR:
                shown = length if inode != key.object else max(0, min(length, size - key.offset))
                use.used.add(offset, offset + shown)
        return inode, size


def _last_inode(leaf: Node, inode: int, size: int) -> tuple[int, int]:
    """The number and size of the last inode that begins in a leaf."""
    for key, item in zip(reversed(leaf.keys), reversed(leaf.data), strict=True):
        if key.kind == layout.INODE_ITEM:
            return key.object, int.from_bytes(item[_SIZE], "little")
    return inode, size


assert InodeItem.offset_of("size") == _SIZE.start
