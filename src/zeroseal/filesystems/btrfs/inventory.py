"""The inventory of a btrfs volume. It has no journal, and its inodes lie in nodes."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable
from functools import cached_property

from zeroseal.blocks.patches import Patch, zero_patches
from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.layout import Header, Key
from zeroseal.filesystems.btrfs.ledger import superblock_places
from zeroseal.filesystems.btrfs.read import BtrfsTree
from zeroseal.filesystems.btrfs.slack import iter_slack
from zeroseal.filesystems.btrfs.trees_edit import is_subvolume
from zeroseal.filesystems.btrfs.unused import iter_free_space
from zeroseal.filesystems.btrfs.usage import Usage, read_usage
from zeroseal.filesystems.inventory import Inventory, Part


class BtrfsInventory(Inventory[BtrfsTree]):
    """See ``Inventory``."""

    def _find(self, part: Part) -> Iterable[Patch]:
        volume = self._volume.volume
        match part:
            case Part.FREE_SPACE:
                return zero_patches(volume.store, iter_free_space(volume), "free space")
            case Part.SLACK:
                return iter_slack(volume, self._usage)
            case _:
                return ()

    @cached_property
    def _usage(self) -> Usage:
        return read_usage(self._volume.volume)

    def _name_places(self) -> BtrfsPlaceNames:
        return BtrfsPlaceNames(self._volume, self._usage)


class BtrfsPlaceNames:
    """Names the structures of one volume."""

    def __init__(self, tree: BtrfsTree, usage: Usage) -> None:
        self._volume = tree.volume
        size = self._volume.superblock.node_bytes
        found = [
            (place, place + use.length, use.node, 0)
            for use in usage.data.values()
            for place in self._volume.places_of(use.address, use.length)
        ]
        found += [
            (place, place + size, number, address)
            for address, number in usage.nodes.items()
            for place in self._volume.places_of(address, size)
        ]
        self._owned = sorted(found)
        self._starts = [start for start, _end, _number, _address in self._owned]
        self._free = sorted(iter_free_space(self._volume))
        self._paths = {one.number: one.path for one in tree.subvolumes()}

    def owner_of(self, offset_bytes: int) -> int | None:
        """The inode that a byte belongs to: as content, or as an item of a node."""
        found = self._find(offset_bytes)
        if found is None:
            return None
        start, number, address = found
        return self._owner_in_node(number, address, offset_bytes - start) if address else number

    def describe(self, offset_bytes: int) -> str:
        """Such as ``free space`` or ``a node of the subvolume @home``."""
        if any(
            place <= offset_bytes < place + layout.SUPERBLOCK_BYTES
            for place in superblock_places(self._volume)
        ):
            return "a superblock"
        if offset_bytes < layout.BOOT_AREA_BYTES:
            return "the area of the boot loader"
        at = bisect_right(self._free, offset_bytes, key=lambda item: item[0]) - 1
        if at >= 0 and offset_bytes < sum(self._free[at]):
            return "free space"
        found = self._find(offset_bytes)
        if found is None:
            return "space that is set aside"
        _start, number, address = found
        tree = number if address else number >> 64
        what = "a node" if address else f"inode {number & layout.LAST}"
        if not is_subvolume(tree):
            return f"{what} of tree {tree}"
        return f"{what} of the subvolume {self._paths.get(tree) or tree}"

    def _find(self, offset: int) -> tuple[int, int, int] | None:
        """(where it begins, file or tree, address of a node) of what a byte lies in."""
        at = bisect_right(self._starts, offset) - 1
        if at < 0 or offset >= self._owned[at][1]:
            return None
        start, _end, number, address = self._owned[at]
        return start, number, address

    def _owner_in_node(self, tree: int, address: int, offset: int) -> int | None:
        """The inode whose item lies at a byte of a leaf of a subvolume."""
        node = self._volume.read_node(address)
        if node.level or not is_subvolume(tree):
            return None
        end = self._volume.superblock.node_bytes
        for key, data in zip(node.keys, node.data, strict=True):
            end -= len(data)
            if offset >= end:
                return tree << 64 | self._named_in(key)
        index = (offset - Header.SIZE) // 25
        return tree << 64 | node.keys[index].object if 0 <= index < len(node.keys) else None

    @staticmethod
    def _named_in(key: Key) -> int:
        """Names lie at the inode too; they belong to the folder that has them."""
        return key.offset if key.kind == layout.INODE_REF else key.object
