"""Giving a volume another serial number: in its boot sector, and in the copy at the end."""

from __future__ import annotations

from zeroseal.blocks.store import Store
from zeroseal.filesystems.ntfs.layout import BootSector
from zeroseal.filesystems.ntfs.volume import NtfsVolume


def set_volume_id(store: Store, where: str, new: bytes) -> None:
    """Gives a volume another serial number.

    Args:
        store: the volume.
        where: its name, for messages.
        new: 8 bytes, as they lie there.

    Raises:
        ImageError: it cannot be read.
    """
    NtfsVolume(store, where)
    first = store.read(0, BootSector.SIZE)
    boot, at = BootSector.parse(first), BootSector.offset_of("serial")
    copy_at = boot.sectors * boot.sector_bytes
    for place in (0, copy_at):
        if place + BootSector.SIZE <= store.size_bytes and (
            store.read(place, BootSector.SIZE) == first
        ):
            store.write(place, first[:at] + new + first[at + 8 :])
