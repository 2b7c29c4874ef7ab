"""XFS, for the rooms above."""

from __future__ import annotations

import uuid
from collections.abc import Collection
from typing import TYPE_CHECKING, Any

from zeroseal.blocks.store import Store
from zeroseal.filesystems.driver import VolumeDriver
from zeroseal.filesystems.tree import EditableTree, Problem
from zeroseal.volumes.volume import Content

if TYPE_CHECKING:
    from zeroseal.filesystems.inventory import Inventory
    from zeroseal.filesystems.xfs.read import XfsTree

_MAGIC = b"XFSB"
_SUPERBLOCK_BYTES = 264


class XfsDriver(VolumeDriver["XfsTree"]):
    """See ``VolumeDriver``."""

    name = "xfs"
    kinds = ("xfs",)
    checker = "xfs_repair"
    grows_here = True
    grower = "xfs_growfs"
    holds_root_of = ("linux",)
    has_journal = True

    def recognise(self, store: Store) -> Content | None:  # noqa: D102 - as in VolumeDriver
        if store.size_bytes < _SUPERBLOCK_BYTES or store.read(0, 4) != _MAGIC:
            return None
        label = store.read(108, 12).split(b"\0")[0].decode("utf-8", "replace")
        return Content("xfs", str(uuid.UUID(bytes=store.read(32, 16))), label)

    def read(self, store: Store, where: str) -> XfsTree:  # noqa: D102
        from zeroseal.filesystems.xfs.read import XfsTree

        return XfsTree(store, where)

    def edit(  # noqa: D102
        self, tree: XfsTree, now: int, zero_removed: bool = True
    ) -> EditableTree:
        from zeroseal.filesystems.xfs.edit import XfsEditor

        volume = tree.volume
        volume.reread()
        return XfsEditor(volume.store, now, volume.where, zero_removed, volume)

    def take_inventory(self, tree: XfsTree) -> Inventory[Any]:  # noqa: D102
        from zeroseal.filesystems.xfs.inventory import XfsInventory

        return XfsInventory(tree.volume)

    def check(self, tree: XfsTree) -> list[Problem]:  # noqa: D102
        from zeroseal.filesystems.xfs.check import check_opened

        return check_opened(tree.volume)

    def used_share(self, tree: XfsTree) -> float:  # noqa: D102
        superblock = tree.volume.superblock
        return 1 - superblock.free_blocks / superblock.blocks

    def stated_bytes(self, tree: XfsTree) -> int:  # noqa: D102
        return tree.volume.superblock.blocks * tree.volume.superblock.block_bytes

    def find_owned(  # noqa: D102
        self, tree: XfsTree, uids: Collection[int], in_acls: bool
    ) -> dict[int, int]:
        from zeroseal.filesystems.xfs.owners import find_in_acls, find_owned

        return (find_in_acls if in_acls else find_owned)(tree.volume, uids)

    def set_volume_id(self, store: Store, where: str, new: str) -> None:  # noqa: D102
        from zeroseal.filesystems.xfs.volume_id import set_volume_id

        set_volume_id(store, where, uuid.UUID(new).bytes)

    def grow(self, store: Store, where: str) -> int:  # noqa: D102
        from zeroseal.filesystems.xfs.grow import grow_volume

        return grow_volume(store, where)
