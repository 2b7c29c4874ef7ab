"""Changing names: each is listed by hash and by index in its folder, and noted at its inode."""

from __future__ import annotations

import struct

from zeroseal.errors import UnsupportedError
from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.checksums import name_hash, second_name_hash
from zeroseal.filesystems.btrfs.items import iter_names, iter_references
from zeroseal.filesystems.btrfs.layout import InodeItem, Key, NameHead
from zeroseal.filesystems.btrfs.node_build import ITEM_BYTES, leaf_room
from zeroseal.filesystems.btrfs.trees_edit import TreeEditor
from zeroseal.messages import btrfs as messages

_FIRST_INDEX = 2  # those of "." and ".." come before


class NameEditor:
    """The names of a volume's subvolumes, to be changed.

    Folders and inodes are given by the tree that they are of and their number there.
    """

    def __init__(self, trees: TreeEditor) -> None:
        self._trees, self._volume = trees, trees.volume

    def read_inode(self, tree: int, number: int) -> InodeItem:
        """An inode's own item."""
        data = self._trees.get(tree, Key(number, layout.INODE_ITEM, 0))
        if data is None or len(data) < InodeItem.SIZE:
            raise self._volume.damaged(messages.INODE_MISSING.format(node=number))
        return InodeItem.parse(data[: InodeItem.SIZE])

    def write_inode(self, tree: int, number: int, inode: InodeItem) -> None:
        """Writes an inode's own item."""
        self._trees.put(tree, Key(number, layout.INODE_ITEM, 0), inode.build())

    def enlist(self, tree: int, folder: int, name: bytes, target: Key, code: int) -> int:
        """Lists a name in a folder; returns its index there."""
        index = self._next_index(tree, folder)
        generation = self._volume.superblock.generation
        head = NameHead.blank(
            object=target.object, kind=target.kind, offset=target.offset,
            generation=generation, name_bytes=len(name), type=code,
        )  # fmt: skip
        entry = head.build() + name
        key = Key(folder, layout.DIR_ITEM, name_hash(name))
        self._trees.put(tree, key, (self._trees.get(tree, key) or b"") + entry)
        self._trees.put(tree, Key(folder, layout.DIR_INDEX, index), entry)
        self._resize(tree, folder, 2 * len(name))
        return index

    def delist(self, tree: int, folder: int, name: bytes, index: int) -> None:
        """Takes a name out of a folder's lists."""
        key = Key(folder, layout.DIR_ITEM, name_hash(name))
        left = b""
        for head, own, value in self._names(self._trees.get(tree, key)):
            if own != name:
                left += head.build() + own + value
        if left:
            self._trees.put(tree, key, left)
        else:
            self._trees.drop(tree, key)
        self._trees.drop(tree, Key(folder, layout.DIR_INDEX, index))
        self._resize(tree, folder, -2 * len(name))

    def find_index(self, tree: int, folder: int, name: bytes) -> int:
        """The index of a name that no inode notes: of a subvolume, or of none."""
        items = self._volume.items_of(self._trees.root(tree), folder, layout.DIR_INDEX)
        for key, data in items:
            if any(own == name for _head, own, _value in self._names(data)):
                return key.offset
        raise self._volume.damaged(messages.NAME_DAMAGED)

    def note(self, tree: int, inode: int, folder: int, index: int, name: bytes) -> None:
        """Notes a name at its inode.

        Raises:
            UnsupportedError: the inode has so many names that the volume cannot note one more.
        """
        key = Key(inode, layout.INODE_REF, folder)
        entry = struct.pack("<QH", index, len(name)) + name
        made = (self._trees.get(tree, key) or b"") + entry
        if len(made) + ITEM_BYTES > leaf_room(self._volume):
            if not self._volume.superblock.incompat & layout.EXTENDED_REFS:
                raise UnsupportedError(
                    messages.TOO_MANY_NAMES.format(where=self._volume.where, node=inode)
                )
            key = Key(inode, layout.EXTENDED_REF, second_name_hash(folder, name))
            made = (self._trees.get(tree, key) or b"") + struct.pack("<Q", folder) + entry
        self._trees.put(tree, key, made)

    def forget(self, tree: int, inode: int, folder: int, name: bytes) -> int:
        """Drops the note of a name at its inode; returns the name's index in the folder."""
        for key in (
            Key(inode, layout.INODE_REF, folder),
            Key(inode, layout.EXTENDED_REF, second_name_hash(folder, name)),
        ):
            prefix = struct.Struct("<QQH" if key.kind == layout.EXTENDED_REF else "<QH")
            left, found = b"", None
            for above, index, own in self._references(key, self._trees.get(tree, key)):
                if own == name and above == folder:
                    found = index
                    continue
                numbers = (above, index) if key.kind == layout.EXTENDED_REF else (index,)
                left += prefix.pack(*numbers, len(own)) + own
            if found is None:
                continue
            if left:
                self._trees.put(tree, key, left)
            else:
                self._trees.drop(tree, key)
            return found
        raise self._volume.damaged(messages.NAME_DAMAGED)

    # -- inside

    def _names(self, data: bytes | None) -> list[tuple[NameHead, bytes, bytes]]:
        try:
            return list(iter_names(data or b""))
        except ValueError as error:
            raise self._volume.damaged(str(error)) from error

    def _references(self, key: Key, data: bytes | None) -> list[tuple[int, int, bytes]]:
        try:
            return list(iter_references(key, data or b""))
        except ValueError as error:
            raise self._volume.damaged(str(error)) from error

    def _next_index(self, tree: int, folder: int) -> int:
        last = self._trees.last_key(tree, Key(folder, layout.DIR_INDEX, layout.LAST))
        if last and (last.object, last.kind) == (folder, layout.DIR_INDEX):
            return last.offset + 1
        return _FIRST_INDEX

    def _resize(self, tree: int, folder: int, by: int) -> None:
        inode = self.read_inode(tree, folder)
        inode.size += by
        self.write_inode(tree, folder, inode)
