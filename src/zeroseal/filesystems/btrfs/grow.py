"""Growing a volume to the size of its device: only two numbers say how large that is.

They stand in the device's item in the chunk tree and in the superblock, which has a copy of that
item. New chunks come with the first writes of the guest.
"""

from __future__ import annotations

from zeroseal.blocks.store import Store
from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.layout import Superblock
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
    _replace_in_leaf(volume, item, made)
    _write_superblocks(volume, size)
    return size


def _replace_in_leaf(volume: BtrfsVolume, item: bytes, made: bytes) -> None:
    """Puts another item of the same length into the first leaf of the chunk tree."""
    address, node = volume.chunk_root.address, volume.read_node(volume.chunk_root.address)
    while node.level:
        address = node.children[0][0]
        node = volume.read_node(address)
    raw = volume.read_raw(address)
    raw = volume.with_checksum(raw.replace(item, made, 1))
    for place in volume.places_of(address, len(raw)):
        volume.store.write(place, raw)


def _write_superblocks(volume: BtrfsVolume, size: int) -> None:
    """The superblock and its copies, also one that a larger device has room for now."""
    first = bytearray(volume.superblock.raw)
    for at in (Superblock.offset_of("size_bytes"), layout.DEVICE_BYTES_AT):
        first[at : at + _NUMBER_BYTES] = size.to_bytes(8, "little")
    for place in (layout.SUPERBLOCK_AT, *layout.MIRRORS_AT):
        if place + layout.SUPERBLOCK_BYTES <= size:
            at = Superblock.offset_of("offset")
            first[at : at + _NUMBER_BYTES] = place.to_bytes(8, "little")
            volume.store.write(place, volume.with_checksum(bytes(first)))
