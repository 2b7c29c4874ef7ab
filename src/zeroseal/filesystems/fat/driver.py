"""FAT12, FAT16 and FAT32, for the rooms above."""

from __future__ import annotations

import secrets
from typing import TYPE_CHECKING, Any

from zeroseal.blocks.store import Store
from zeroseal.filesystems.driver import VolumeDriver
from zeroseal.filesystems.tree import EditableTree, Problem
from zeroseal.volumes.volume import Content

if TYPE_CHECKING:
    from zeroseal.filesystems.fat.read import FatTree
    from zeroseal.filesystems.inventory import Inventory

_SIGNATURES = ((82, b"FAT32   "), (54, b"FAT16   "), (54, b"FAT12   "))


class FatDriver(VolumeDriver["FatTree"]):
    """See ``VolumeDriver``."""

    name = "FAT"
    kinds = ("vfat",)
    checker = "fsck.fat"
    is_judged_unread = False
    is_weak_signature = True
    is_read_by_windows = True

    def recognise(self, store: Store) -> Content | None:  # noqa: D102 - as in VolumeDriver
        if store.size_bytes < 512:
            return None
        boot = store.read(0, 512)
        if not any(boot.startswith(word, offset) for offset, word in _SIGNATURES):
            return None
        base = 67 if boot[82:87] == b"FAT32" else 39
        serial = int.from_bytes(boot[base : base + 4], "little")
        label = boot[base + 4 : base + 15].decode("ascii", "replace").strip()
        return Content("vfat", f"{serial >> 16:04X}-{serial & 0xFFFF:04X}", label)

    def read(self, store: Store, where: str) -> FatTree:  # noqa: D102
        from zeroseal.filesystems.fat.read import FatTree

        return FatTree(store, where)

    def edit(  # noqa: D102
        self, tree: FatTree, now: int, zero_removed: bool = True
    ) -> EditableTree:
        from zeroseal.filesystems.fat.edit import FatEditor

        volume = tree.volume
        return FatEditor(volume.store, now, volume.where, zero_removed, volume)

    def take_inventory(self, tree: FatTree) -> Inventory[Any]:  # noqa: D102
        from zeroseal.filesystems.fat.inventory import FatInventory

        return FatInventory(tree)

    def check(self, tree: FatTree) -> list[Problem]:  # noqa: D102
        from zeroseal.filesystems.fat.check import check_opened

        return check_opened(tree.volume)

    def used_share(self, tree: FatTree) -> float:  # noqa: D102
        volume = tree.volume
        free = sum(volume.table[cluster] == 0 for cluster in range(2, volume.cluster_count + 2))
        return 1 - free / volume.cluster_count

    def set_volume_id(self, store: Store, where: str, new: str) -> None:  # noqa: D102
        from zeroseal.filesystems.fat.volume_id import set_volume_id

        set_volume_id(store, where, int(new.replace("-", ""), 16).to_bytes(4, "little"))

    def new_volume_id(self) -> str:  # noqa: D102
        raw = secrets.token_hex(4).upper()
        return f"{raw[:4]}-{raw[4:]}"
