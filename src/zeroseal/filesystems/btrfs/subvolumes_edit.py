"""Removing a subvolume: its tree is walked, and what it alone refers to is given back.

What others refer to as well stays. Where the subvolume owns it, its references by owner become
references by parent, as the kernel does it when it drops a snapshot.
"""

from __future__ import annotations

import struct
from bisect import bisect_right

from zeroseal.errors import RefusedError
from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.content_edit import ContentEditor
from zeroseal.filesystems.btrfs.extents import Reference, references_of
from zeroseal.filesystems.btrfs.extents_edit import ExtentEditor
from zeroseal.filesystems.btrfs.layout import Key, RootItem
from zeroseal.filesystems.btrfs.names_edit import NameEditor
from zeroseal.filesystems.btrfs.quota_edit import forget_quota
from zeroseal.filesystems.btrfs.read import name_of_root
from zeroseal.filesystems.btrfs.trees_edit import TreeEditor
from zeroseal.filesystems.btrfs.volume import TreeRoot, parse_root
from zeroseal.messages import btrfs as messages

_UUID_OF, _UUID_RECEIVED = 251, 252  # kinds of items in the tree of UUIDs
_UUIDS = ((247, _UUID_OF), (279, _UUID_RECEIVED))  # where a root item has them


class SubvolumeEditor:
    """Removes subvolumes."""

    def __init__(
        self, trees: TreeEditor, extents: ExtentEditor, content: ContentEditor, names: NameEditor
    ) -> None:
        self._trees, self._extents, self._content, self._names = trees, extents, content, names
        self._volume = trees.volume

    def remove(self, number: int) -> None:
        """Removes a subvolume with its name.

        Raises:
            RefusedError: other subvolumes lie within it, or it is the topmost.
        """
        volume = self._volume
        if number < layout.FIRST_SUBVOLUME:
            raise RefusedError(messages.TOPMOST_STAYS.format(where=volume.where))
        for _item in volume.items_of(volume.roots, number, layout.ROOT_REF):
            raise RefusedError(messages.SUBVOLUMES_WITHIN.format(where=volume.where, number=number))
        key, data = next(volume.items_of(volume.roots, number, layout.ROOT_ITEM))
        root, item = parse_root(data)
        self._unname(number)
        self._release(number, root, item)
        self._trees.drop(layout.ROOT_TREE, key)
        self._trees.drop(layout.ROOT_TREE, Key(layout.ORPHANS, layout.ORPHAN_ITEM, number))
        self._trees.forget_root(number)
        self._forget_uuids(number, data)
        forget_quota(self._trees, number)

    # -- inside

    def _unname(self, number: int) -> None:
        """Takes the subvolume out of the folder that it is in."""
        volume = self._volume
        for key, data in list(volume.items_of(volume.roots, number, layout.ROOT_BACKREF)):
            above, folder = key.offset, int.from_bytes(data[:8], "little")
            index = int.from_bytes(data[8:16], "little")
            self._names.delist(above, folder, name_of_root(data), index)
            self._trees.drop(layout.ROOT_TREE, key)
            self._trees.drop(layout.ROOT_TREE, Key(above, layout.ROOT_REF, number))

    def _release(self, number: int, root: TreeRoot, item: RootItem) -> None:
        """Drops the reference to a tree's root, and to all beneath it where it was the last.

        Where the kernel has begun, what comes before the key that it noted is gone already.
        """
        begun = Key(*struct.unpack("<QBQ", item.progress))
        waiting: list[tuple[int, Reference, bool]] = []
        waiting.append((root.address, ("root", number), any(begun)))
        while waiting:
            address, own, is_begun = waiting.pop()
            extent, node = self._extents.get(address), self._volume.read_node(address)
            by_parent = bool(extent.flags & layout.ALL_BY_PARENT)
            if extent.count > 1:
                if node.head.owner == number and not by_parent:
                    self._refer_by_parent(number, address)
                self._extents.drop(address, own)
                continue
            done = 0
            if is_begun and node.level:
                done = max(0, bisect_right(node.keys, begun) - 1)
            for index, (target, by_owner, by_address) in enumerate(references_of(node, address)):
                if index < done:
                    continue
                below = by_address if by_parent else by_owner
                if node.level:
                    goes_on = is_begun and index == done and node.level > item.progress_level
                    waiting.append((target, below, goes_on))
                else:
                    self._content.release(target, below)
            self._trees.give_back(number, address)

    def _refer_by_parent(self, number: int, address: int) -> None:
        """A node stays for others: it and its own beneath it refer by their addresses."""
        waiting = [address]
        while waiting:
            address = waiting.pop()
            node = self._volume.read_node(address)
            is_done = self._extents.get(address).flags & layout.ALL_BY_PARENT
            if node.head.owner != number or is_done:
                continue
            for target, by_owner, by_address in list(references_of(node, address)):
                self._extents.add(target, by_address)
                self._extents.drop(target, by_owner)
                if node.level:
                    waiting.append(target)
            self._extents.set_all_by_parent(address, is_set=True)

    def _forget_uuids(self, number: int, item: bytes) -> None:
        """Takes the subvolume out of the tree of UUIDs, where there is one."""
        volume = self._volume
        found = next(volume.items_of(volume.roots, layout.UUID_TREE, layout.ROOT_ITEM), None)
        if not found or len(item) <= RootItem.SIZE:
            return
        for at, kind in _UUIDS:
            uuid = item[at : at + 16]
            first, second = (int.from_bytes(uuid[part : part + 8], "little") for part in (0, 8))
            key = Key(first, kind, second)
            data = self._trees.get(layout.UUID_TREE, key)
            if not any(uuid) or data is None:
                continue
            own = number.to_bytes(8, "little")
            left = b"".join(
                data[one : one + 8] for one in range(0, len(data), 8) if data[one : one + 8] != own
            )
            if left:
                self._trees.put(layout.UUID_TREE, key, left)
            else:
                self._trees.drop(layout.UUID_TREE, key)
