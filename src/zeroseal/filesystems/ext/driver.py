"""ext2, ext3 and ext4, for the rooms above."""

from __future__ import annotations

import uuid
from collections.abc import Collection, Iterator
from typing import TYPE_CHECKING, Any

from zeroseal.blocks.store import Store
from zeroseal.errors import ImageError
from zeroseal.filesystems.driver import Recovery, VolumeDriver, Weakness
from zeroseal.filesystems.tree import EditableTree, Problem
from zeroseal.sentences import counted
from zeroseal.volumes.volume import Content

if TYPE_CHECKING:
    from zeroseal.filesystems.ext.read import ExtTree
    from zeroseal.filesystems.inventory import Inventory

_SUPERBLOCK = 1024
_MAGIC = b"\x53\xef"
_EXT3_JOURNAL = 0x4  # s_feature_compat
_EXT4_INCOMPATIBLE = 0x40 | 0x80 | 0x200  # extents, 64bit, flex_bg
_EXT4_READ_ONLY = 0x8 | 0x10 | 0x20 | 0x40 | 0x400  # huge_file, ..., metadata_csum


class ExtDriver(VolumeDriver["ExtTree"]):
    """See ``VolumeDriver``."""

    name = "ext"
    kinds = ("ext2", "ext3", "ext4")
    checker = "e2fsck"
    grows_here = True
    grower = "resize2fs"
    holds_root_of = ("linux",)
    has_journal = True

    def recognise(self, store: Store) -> Content | None:  # noqa: D102 - as in VolumeDriver
        if store.size_bytes < _SUPERBLOCK + 1024:
            return None
        superblock = store.read(_SUPERBLOCK, 1024)
        if superblock[0x38:0x3A] != _MAGIC:
            return None
        compatible, incompatible, read_only = (
            int.from_bytes(superblock[start : start + 4], "little") for start in (0x5C, 0x60, 0x64)
        )
        kind = "ext2"
        if incompatible & _EXT4_INCOMPATIBLE or read_only & _EXT4_READ_ONLY:
            kind = "ext4"
        elif compatible & _EXT3_JOURNAL:
            kind = "ext3"
        label = superblock[0x78:0x88].split(b"\0")[0].decode("utf-8", "replace")
        return Content(kind, str(uuid.UUID(bytes=superblock[0x68:0x78])), label)

    def read(self, store: Store, where: str) -> ExtTree:  # noqa: D102
        from zeroseal.filesystems.ext.read import ExtTree

        return ExtTree(store, where)

    def edit(  # noqa: D102
        self, tree: ExtTree, now: int, zero_removed: bool = True
    ) -> EditableTree:
        from zeroseal.filesystems.ext.edit import ExtEditor

        volume = tree.volume
        volume.reread()
        return ExtEditor(volume.store, now, volume.where, zero_removed, volume)

    def take_inventory(self, tree: ExtTree) -> Inventory[Any]:  # noqa: D102
        from zeroseal.filesystems.ext.inventory import ExtInventory

        return ExtInventory(tree.volume)

    def check(self, tree: ExtTree) -> list[Problem]:  # noqa: D102
        from zeroseal.filesystems.ext.check import check_opened

        return check_opened(tree.volume)

    def check_editable(self, tree: ExtTree) -> None:  # noqa: D102
        tree.volume.check_editable()

    def used_share(self, tree: ExtTree) -> float:  # noqa: D102
        superblock = tree.volume.superblock
        free = superblock.free_blocks_lo | superblock.free_blocks_hi << 32
        return 1 - free / tree.volume.block_count

    def stated_bytes(self, tree: ExtTree) -> int:  # noqa: D102
        return tree.volume.block_count * tree.volume.block_bytes

    def find_owned(  # noqa: D102
        self, tree: ExtTree, uids: Collection[int], in_acls: bool
    ) -> dict[int, int]:
        from zeroseal.filesystems.ext.owners import find_in_acls, find_owned

        return (find_in_acls if in_acls else find_owned)(tree.volume, uids)

    def recover(self, store: Store, where: str) -> Recovery | None:  # noqa: D102
        from zeroseal.filesystems.ext.recover import needs_recovery, recover_volume

        return recover_volume(store, where) if needs_recovery(store, where) else None

    def find_weaknesses(self, tree: ExtTree, where: str) -> Iterator[Weakness]:  # noqa: D102
        from zeroseal.filesystems.ext.check_folders import find_folders_without_sums

        try:
            found = find_folders_without_sums(tree.volume)
        except ImageError:
            return  # the consistency check says what is wrong
        if found:
            lack = f"{counted(len(found), 'folder')} {'lacks' if len(found) == 1 else 'lack'}"
            yield Weakness(
                "folder-checksums",
                (
                    f"On {where}, {lack} checksums that the kernel expects (tune2fs -O "
                    "metadata_csum leaves a volume like this): run e2fsck -fD on the volume in "
                    "the guest or on a copy."
                ),
            )

    def set_volume_id(self, store: Store, where: str, new: str) -> None:  # noqa: D102
        from zeroseal.filesystems.ext.volume_id import set_volume_id

        set_volume_id(store, where, uuid.UUID(new).bytes)

    def grow(self, store: Store, where: str) -> int:  # noqa: D102
        from zeroseal.filesystems.ext.grow import grow_volume

        return grow_volume(store, where)
