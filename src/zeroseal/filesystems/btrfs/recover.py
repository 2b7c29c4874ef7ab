"""What the next mount would finish: files and subvolumes that were removed, and not yet given back.

Source: the kernel's ``btrfs_orphan_cleanup`` and ``btrfs_drop_snapshot``.
"""

from __future__ import annotations

from zeroseal.blocks.store import Store
from zeroseal.errors import NeedsRecoveryError
from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.edit import BtrfsEditor
from zeroseal.filesystems.btrfs.layout import Key
from zeroseal.filesystems.btrfs.read import iter_roots, iter_subvolume_roots
from zeroseal.filesystems.btrfs.volume import BtrfsVolume
from zeroseal.filesystems.driver import Recovery
from zeroseal.messages import btrfs as messages


def find_removed_subvolumes(volume: BtrfsVolume) -> list[int]:
    """The numbers of subvolumes that were removed and whose trees are still there."""
    return [number for number, _root, item, _data in iter_roots(volume) if not item.references]


def find_removed_files(volume: BtrfsVolume) -> list[tuple[int, int]]:
    """(subvolume, number) of inodes whose last name was removed while they were open."""
    return [
        (number, key.offset)
        for number, root, _item in iter_subvolume_roots(volume)
        for key, _data in volume.items_of(root, layout.ORPHANS, layout.ORPHAN_ITEM)
        if volume.find(root, Key(key.offset, layout.INODE_ITEM, 0)) is not None
    ]


def check_all_given_back(volume: BtrfsVolume) -> None:
    """Raises NeedsRecoveryError where something was removed and is still to be given back."""
    if find_removed_subvolumes(volume) or find_removed_files(volume):
        raise NeedsRecoveryError(messages.NOT_GIVEN_BACK.format(where=volume.where))


def recover_volume(store: Store, where: str) -> Recovery | None:
    """Gives back what was removed; None where nothing is left to do.

    Raises:
        ImageError, RefusedError: the volume cannot be read, or cannot be changed.
    """
    volume = BtrfsVolume(store, where)
    subvolumes, files = find_removed_subvolumes(volume), find_removed_files(volume)
    if not subvolumes and not files:
        return None
    editor = BtrfsEditor(store, 0, where)
    for number in subvolumes:
        editor.remove_subvolume(number)
    for number, inode in files:
        if number not in subvolumes:
            editor.remove_nameless(number, inode)
    editor.finish()
    return Recovery(where, 0, 0, len(files) + len(subvolumes))
