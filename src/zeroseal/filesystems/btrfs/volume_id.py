"""Giving a volume another UUID, and its device too.

Every node of every tree names the volume's UUID. The feature *metadata_uuid* lets the superblock
bear another one: the first is kept beside it, and the nodes stay as they are. The device's own UUID
stands in the superblock and in the few nodes of the chunk tree, which are changed where they lie.

Source: the kernel's uapi header ``linux/btrfs_tree.h``; ``btrfs_validate_super``.
"""

from __future__ import annotations

from zeroseal.blocks.store import Store
from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.chunk_tree import replace_in_chunk_tree
from zeroseal.filesystems.btrfs.layout import Superblock
from zeroseal.filesystems.btrfs.ledger import write_superblocks
from zeroseal.filesystems.btrfs.volume import BtrfsVolume


def set_volume_id(store: Store, where: str, new: bytes, new_device: bytes) -> None:
    """Gives a volume and its device other UUIDs.

    Args:
        store: the volume.
        where: its name, for messages.
        new: of the volume, 16 bytes.
        new_device: of the device, 16 bytes.

    Raises:
        ImageError: it cannot be read.
    """
    volume = BtrfsVolume(store, where)
    volume.check_editable()
    top = volume.superblock
    old_device = top.device_uuid
    replace_in_chunk_tree(volume, old_device, new_device)
    if not top.incompat & layout.METADATA_UUID:
        top.metadata_uuid = top.volume_uuid
        top.incompat |= layout.METADATA_UUID
    top.volume_uuid = new
    # the superblock names the device once more, in its list of the system's chunks
    volume.superblock = Superblock.parse(top.build().replace(old_device, new_device))
    write_superblocks(volume)
