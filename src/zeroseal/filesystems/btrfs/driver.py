"""btrfs, for the rooms above."""

from __future__ import annotations

import uuid
from collections.abc import Collection
from typing import TYPE_CHECKING, Any

from zeroseal.blocks.store import Store
from zeroseal.filesystems.driver import HiddenHit, Recovery, VolumeDriver
from zeroseal.filesystems.tree import EditableTree, Problem, Subvolume
from zeroseal.volumes.volume import Content

if TYPE_CHECKING:
    from zeroseal.blocks.search import Searcher
    from zeroseal.filesystems.btrfs.read import BtrfsTree
    from zeroseal.filesystems.inventory import Inventory

_MAGIC, _SUPERBLOCK_AT = b"_BHRfS_M", 0x10000
_SUPERBLOCK_BYTES = 4096


class BtrfsDriver(VolumeDriver["BtrfsTree"]):
    """See ``VolumeDriver``."""

    name = "btrfs"
    kinds = ("btrfs",)
    checker = "btrfs check"
    grows_here = True
    grower = "btrfs"
    holds_root_of = ("linux",)

    def recognise(self, store: Store) -> Content | None:  # noqa: D102 - as in VolumeDriver
        if store.size_bytes < _SUPERBLOCK_AT + _SUPERBLOCK_BYTES:
            return None
        top = store.read(_SUPERBLOCK_AT, _SUPERBLOCK_BYTES)
        if top[64:72] != _MAGIC:
            return None
        label = top[299:555].split(b"\0")[0].decode("utf-8", "replace")
        return Content("btrfs", str(uuid.UUID(bytes=top[32:48])), label)

    def read(self, store: Store, where: str) -> BtrfsTree:  # noqa: D102
        from zeroseal.filesystems.btrfs.read import BtrfsTree

        return BtrfsTree(store, where)

    def edit(  # noqa: D102
        self, tree: BtrfsTree, now: int, zero_removed: bool = True
    ) -> EditableTree:
        from zeroseal.filesystems.btrfs.edit import BtrfsEditor

        self.check_editable(tree)
        volume = tree.volume
        return BtrfsEditor(volume.store, now, volume.where, zero_removed, tree.root >> 64)

    def subvolumes(self, tree: BtrfsTree) -> list[Subvolume]:  # noqa: D102
        return tree.subvolumes()

    def view(  # noqa: D102
        self, tree: BtrfsTree, node: int, hidden: Collection[int] = ()
    ) -> BtrfsTree:
        return tree.at(node, frozenset(hidden))

    def drop_subvolume(self, editor: EditableTree, number: int) -> None:  # noqa: D102
        from zeroseal.filesystems.btrfs.edit import BtrfsEditor

        assert isinstance(editor, BtrfsEditor)  # as ``edit`` made it
        editor.remove_subvolume(number)

    def take_inventory(self, tree: BtrfsTree) -> Inventory[Any]:  # noqa: D102
        from zeroseal.filesystems.btrfs.inventory import BtrfsInventory

        return BtrfsInventory(tree)

    def check(self, tree: BtrfsTree) -> list[Problem]:  # noqa: D102
        from zeroseal.filesystems.btrfs.check import check_opened

        return check_opened(tree.volume)

    def check_editable(self, tree: BtrfsTree) -> None:  # noqa: D102
        from zeroseal.filesystems.btrfs.recover import check_all_given_back

        tree.volume.check_editable()
        check_all_given_back(tree.volume)

    def used_share(self, tree: BtrfsTree) -> float:  # noqa: D102
        top = tree.volume.superblock
        return top.used_bytes / top.size_bytes

    def stated_bytes(self, tree: BtrfsTree) -> int:  # noqa: D102
        return tree.volume.superblock.size_bytes

    def find_owned(  # noqa: D102
        self, tree: BtrfsTree, uids: Collection[int], in_acls: bool
    ) -> dict[int, int]:
        from zeroseal.filesystems.btrfs.owners import find_in_acls, find_owned

        return (find_in_acls if in_acls else find_owned)(tree, uids)

    def recover(self, store: Store, where: str) -> Recovery | None:  # noqa: D102
        from zeroseal.filesystems.btrfs.recover import recover_volume

        return recover_volume(store, where)

    def search_hidden(  # noqa: D102
        self, tree: BtrfsTree, searcher: Searcher
    ) -> tuple[list[HiddenHit], list[str]]:
        from zeroseal.filesystems.btrfs.hidden import search_hidden

        return search_hidden(tree, searcher)

    def set_volume_id(self, store: Store, where: str, new: str) -> None:  # noqa: D102
        from zeroseal.filesystems.btrfs.volume_id import set_volume_id

        set_volume_id(store, where, uuid.UUID(new).bytes, uuid.uuid4().bytes)

    def grow(self, store: Store, where: str) -> int:  # noqa: D102
        from zeroseal.filesystems.btrfs.grow import grow_volume

        return grow_volume(store, where)
