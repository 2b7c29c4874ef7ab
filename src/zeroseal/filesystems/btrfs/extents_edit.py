"""Changing the extent tree: who refers to which extent.

Inline references lie in the order that the kernel looks for them in: by kind, and within a kind
from the largest down. Source: the kernel's ``lookup_inline_extent_backref``.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.checksums import data_reference_hash
from zeroseal.filesystems.btrfs.extents import Extent, Reference, find_extent
from zeroseal.filesystems.btrfs.layout import Key
from zeroseal.filesystems.btrfs.node_build import ITEM_BYTES, leaf_room
from zeroseal.filesystems.btrfs.trees_edit import TreeEditor
from zeroseal.filesystems.btrfs.volume import BtrfsVolume
from zeroseal.messages import btrfs as messages

_KINDS = {
    "root": layout.TREE_BLOCK_REF, "file": layout.EXTENT_DATA_REF,
    "parent": layout.SHARED_BLOCK_REF, "leaf": layout.SHARED_DATA_REF,
}  # fmt: skip


class ExtentEditor:
    """The references of a volume's extents, to be changed."""

    def __init__(self, volume: BtrfsVolume, trees: TreeEditor) -> None:
        self._volume, self._trees = volume, trees

    def get(self, address: int) -> Extent:
        """The extent that begins at an address."""
        owner = self._trees.space.born.get(address)
        if owner is not None:
            return self._of_new_node(address, owner)
        found = find_extent(self._volume, self._trees.root(layout.EXTENT_TREE), address)
        if found is None:
            raise self._volume.damaged(messages.EXTENT_MISSING.format(address=address))
        return found

    def add(self, address: int, reference: Reference, times: int = 1) -> None:
        """Adds a reference to an extent."""
        extent = self.get(address)
        extent.references[reference] = extent.references.get(reference, 0) + times
        self._store(extent)

    def drop(self, address: int, reference: Reference, times: int = 1) -> int:
        """Takes a reference from an extent.

        Returns:
            Its length where none is left, and its item is gone; else 0.
        """
        extent = self.get(address)
        left = extent.references.get(reference, 0) - times
        if left < 0:
            raise self._volume.damaged(messages.REFERENCE_MISSING.format(address=address))
        extent.references[reference] = left
        if not left:
            del extent.references[reference]
        self._store(extent)
        return 0 if extent.references else extent.length

    def set_all_by_parent(self, address: int, *, is_set: bool) -> None:
        """Notes that what a node refers to is referred to by its address, or no longer."""
        extent = self.get(address)
        extent.flags = extent.flags & ~layout.ALL_BY_PARENT | is_set * layout.ALL_BY_PARENT
        self._store(extent)

    def create_data(self, address: int, length: int, tree: int, reference: Reference) -> None:
        """Notes an extent of data that was taken."""
        top = self._volume.superblock
        owner = tree if top.incompat & layout.SIMPLE_QUOTA else None
        extent = Extent(
            address,
            length,
            is_node=False,
            count=1,
            generation=top.generation,
            flags=layout.EXTENT_OF_DATA,
            owner=owner,
        )
        extent.references[reference] = 1
        self._store(extent)

    def create_node(self, address: int, tree: int) -> None:
        """Notes a node that was taken."""
        self._store(self._of_new_node(address, tree))

    def forget(self, address: int) -> None:
        """Removes a node's items."""
        for key in self.get(address).keys:
            self._trees.drop(layout.EXTENT_TREE, key)

    # -- inside

    def _of_new_node(self, address: int, tree: int) -> Extent:
        top, node = self._volume.superblock, self._volume.read_node(address)
        key = node.keys[0] if node.keys else Key(0, 0, 0)
        extent = Extent(
            address,
            top.node_bytes,
            is_node=True,
            count=1,
            generation=node.head.generation,
            flags=layout.EXTENT_OF_NODE,
            info=struct.pack("<QBQB", *key, node.level),
            level=node.level,
        )
        extent.references["root", tree] = 1
        return extent

    def _store(self, extent: Extent) -> None:
        """Writes the items of an extent; the surplus ones go."""
        items = dict(self._items(extent)) if extent.references else {}
        for key in extent.keys:
            if key not in items:
                self._trees.drop(layout.EXTENT_TREE, key)
        for key, data in items.items():
            self._trees.put(layout.EXTENT_TREE, key, data)
        extent.keys = list(items)

    def _items(self, extent: Extent) -> Iterator[tuple[Key, bytes]]:
        """Yields (key, data): the extent's own item, then a reference each that finds no room."""
        is_skinny = extent.is_node and self._volume.superblock.incompat & layout.SKINNY
        count = sum(extent.references.values())
        data = struct.pack("<QQQ", count, extent.generation, extent.flags)
        if is_skinny:
            key = Key(extent.address, layout.METADATA_ITEM, extent.level)
        else:
            key = Key(extent.address, layout.EXTENT_ITEM, extent.length)
            data += extent.info if extent.is_node else b""
        if extent.owner is not None:
            data += struct.pack("<BQ", layout.EXTENT_OWNER_REF, extent.owner)
        most = leaf_room(self._volume) // 16 - ITEM_BYTES
        outside: list[tuple[Key, bytes]] = []
        for kind, minus_offset, inline, own_data in sorted(map(_forms, extent.references.items())):
            if len(data) + len(inline) <= most and not outside:
                data += inline
            else:
                outside.append((Key(extent.address, kind, -minus_offset), own_data))
        yield key, data
        taken: set[Key] = set()
        for own_key, own_data in outside:
            while own_key in taken:  # two data references may have the same hash
                own_key = own_key._replace(offset=own_key.offset + 1)
            taken.add(own_key)
            yield own_key, own_data


def _forms(item: tuple[Reference, int]) -> tuple[int, int, bytes, bytes]:
    """(kind, its offset negated, the reference inline, the data of an item of its own)."""
    reference, times = item
    name, *numbers = reference
    kind = _KINDS[str(name)]
    first = int(numbers[0])
    if kind == layout.EXTENT_DATA_REF:
        tree, inode, place = (int(number) for number in numbers)
        data = struct.pack("<QQQI", tree, inode, place, times)
        return kind, -data_reference_hash(tree, inode, place), bytes([kind]) + data, data
    data = struct.pack("<I", times) if kind == layout.SHARED_DATA_REF else b""
    return kind, -first, struct.pack("<BQ", kind, first) + data, data
