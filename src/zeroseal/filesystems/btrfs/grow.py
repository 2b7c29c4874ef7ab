"""Growing a volume to the size of its device: only two numbers say how large that is.

They stand in the device's item in the chunk tree and in the superblock, which has a copy of that
item. New chunks come with the first writes of the guest.
"""

from __future__ import annotations

from zeroseal.blocks.store import Store
from zeroseal.filesystems.btrfs.chunk_tree import replace_in_chunk_tree
from zeroseal.filesystems.btrfs.ledger import write_superblocks
from zeroseal.filesystems.btrfs.volume import BtrfsVolume
from zeroseal.messages import btrfs as messages

_DEVICE_ITEM = 216
_NUMBER_BYTES = 8


def grow_volume(store: Store, where: str) -> int:
    """Lets a volume use all of its store; returns its new size in bytes.

    Raises:
        ImageError: it cannot be read, or not changed.
    """
    volume = BtrfsVolume(store, where)
    volume.check_editable()
    top = volume.superblock
    size = store.size_bytes // top.sector_bytes * top.sector_bytes
    if size <= top.size_bytes:
        return top.size_bytes
    items = volume.all_items(volume.chunk_root)
    item = next((data for key, data in items if key.kind == _DEVICE_ITEM), None)
    if item is None:
        raise volume.damaged(messages.DEVICE_ITEM_MISSING)
    made = item[:_NUMBER_BYTES] + size.to_bytes(8, "little") + item[2 * _NUMBER_BYTES :]
    replace_in_chunk_tree(volume, item, made)
    top.size_bytes = top.device_bytes = size
    write_superblocks(volume)
    return size
