"""Giving a volume another serial number: in its boot sector, and in FAT32's copy of that."""

from __future__ import annotations

from zeroseal.blocks.store import Store
from zeroseal.filesystems.fat import layout
from zeroseal.filesystems.fat.volume import FatVolume


def set_volume_id(store: Store, where: str, new: bytes) -> None:
    """Gives a volume another serial number.

    Args:
        store: the volume.
        where: its name, for messages.
        new: 4 bytes, as they lie there.

    Raises:
        ImageError: it cannot be read.
    """
    volume = FatVolume(store, where)
    places = [0]
    at = layout.SERIAL_OFFSET_32 if volume.bits == 32 else layout.SERIAL_OFFSET_16
    if volume.bits == 32 and 0 < volume.boot.copy_sector < volume.boot.reserved_sectors:
        places.append(volume.boot.copy_sector * volume.boot.sector_bytes)
    for place in places:
        raw = store.read(place, layout.BootSector.SIZE)
        if raw[510:] == volume.boot.signature:  # the copy may never have been made
            store.write(place, raw[:at] + new + raw[at + 4 :])
