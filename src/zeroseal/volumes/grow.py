"""A disk with more room behind it, and its partition table's backup at the new end."""

from __future__ import annotations

from zeroseal.blocks.pieced import Piece, PiecedStore
from zeroseal.blocks.sizes import size_text
from zeroseal.blocks.staged import StagedStore
from zeroseal.blocks.store import Store
from zeroseal.errors import UsageError
from zeroseal.messages import volumes as messages
from zeroseal.volumes import gpt, mbr
from zeroseal.volumes.disk import Recogniser, read_volumes
from zeroseal.volumes.gpt import move_backup
from zeroseal.volumes.lvm.grow import grow_physical_volume
from zeroseal.volumes.lvm.read import read_physical_volume
from zeroseal.volumes.volume import LVM_KIND

_SECTOR_BYTES = 512


def grow_disk(disk: Store, size_bytes: int) -> tuple[StagedStore, bool]:
    """A larger disk with the same contents; the old one is not changed.

    Returns:
        The larger disk, and whether it has a partition table whose backup was moved.

    Raises:
        UsageError: the size is smaller, or no whole number of sectors.
    """
    if size_bytes % _SECTOR_BYTES:
        raise UsageError(messages.DISK_SIZE_NOT_A_MULTIPLE)
    if size_bytes < disk.size_bytes:
        raise UsageError(
            messages.DISK_CANNOT_BE_SMALLER.format(size_text=size_text(disk.size_bytes))
        )
    more = Piece(None, 0, size_bytes - disk.size_bytes)
    grown = StagedStore(PiecedStore([Piece(disk, 0, disk.size_bytes), more]))
    return grown, move_backup(grown)


def grow_last_partition(disk: Store, recognise: Recogniser) -> str:
    """Gives the room behind the last partition to it, and to an LVM physical volume on it.

    Args:
        disk: the disk.
        recognise: names what lies on a volume.

    Returns:
        The volume's name; empty where there is no partition table.

    Raises:
        UnsupportedError: the last one is of a kind that is left to the guest.
    """
    before = read_volumes(disk, recognise)
    partitions = [volume for volume in before.volumes if volume.number]
    if not partitions or before.table == "none":
        return ""
    last = max(partitions, key=lambda volume: volume.offset_bytes)
    extend = gpt.extend_partition if before.table == "GPT" else mbr.extend_partition
    size_bytes = extend(disk, last.number)
    if last.content.kind == LVM_KIND:
        volumes = read_volumes(disk, recognise).volumes
        here = [volume for volume in volumes if volume.content.kind == LVM_KIND]
        members = [
            read_physical_volume(volume.name, volume.store)
            for volume in here
            if not volume.is_logical
        ]
        grown = next(item for item in members if item.name == last.name)
        group = [item for item in members if item.text.keys() == grown.text.keys()]
        grow_physical_volume(grown, group, size_bytes)
    return last.name
