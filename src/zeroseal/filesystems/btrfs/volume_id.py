"""Giving a volume another UUID, and its device too.

Every node of every tree names the volume's UUID. The feature *metadata_uuid* lets the superblock
bear another one: the first is kept beside it, and the nodes stay as they are. The device's own UUID
stands in the superblock and in the few nodes of the chunk tree, which are changed where they lie.

Source: the kernel's uapi header ``linux/btrfs_tree.h``; ``btrfs_validate_super``.
"""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.blocks.store import Store
from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.layout import Superblock
from zeroseal.filesystems.btrfs.volume import BtrfsVolume

_UUID_BYTES = 16


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
    old_device = device_id(volume)
    for address in _chunk_tree_nodes(volume, volume.chunk_root.address):
        raw = volume.read_raw(address)
        made = raw.replace(old_device, new_device)
        if made != raw:
            made = volume.with_checksum(made)
            for place in volume.places_of(address, len(made)):
                store.write(place, made)
    for place in (layout.SUPERBLOCK_AT, *layout.MIRRORS_AT):
        if place + layout.SUPERBLOCK_BYTES <= store.size_bytes:
            raw = store.read(place, layout.SUPERBLOCK_BYTES)
            if Superblock.parse(raw).magic == layout.MAGIC:
                raw = _with_id(raw, new).replace(old_device, new_device)
                store.write(place, volume.with_checksum(raw))


def device_id(volume: BtrfsVolume) -> bytes:
    """The UUID of the device."""
    start = layout.DEVICE_UUID_AT
    return volume.superblock.raw[start : start + _UUID_BYTES]


def _with_id(raw: bytes, new: bytes) -> bytes:
    made, top = bytearray(raw), Superblock.parse(raw)
    if not top.incompat & layout.METADATA_UUID:
        at = Superblock.offset_of("metadata_uuid")
        made[at : at + _UUID_BYTES] = top.volume_uuid
        at = Superblock.offset_of("incompat")
        made[at : at + 8] = (top.incompat | layout.METADATA_UUID).to_bytes(8, "little")
    at = Superblock.offset_of("volume_uuid")
    made[at : at + _UUID_BYTES] = new
    return bytes(made)


def _chunk_tree_nodes(volume: BtrfsVolume, address: int) -> Iterator[int]:
    node = volume.read_node(address)
    for child, _generation in node.children:
        yield from _chunk_tree_nodes(volume, child)
    yield address
