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
from zeroseal.volumes.swap import find_swap
from zeroseal.volumes.volume import LVM_KIND, SWAP_KIND

_SECTOR_BYTES = 512
_ALIGNED = 1 << 20


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


def move_swap(disk: Store, recognise: Recogniser) -> str:
    """Moves swap at the end of a larger disk to its new end; the partition before it gets the room.

    The swap keeps its size, its UUID and its label; what was swapped out is zeroed.

    Args:
        disk: the disk, whose partition table fits it.
        recognise: names what lies on a volume.

    Returns:
        The name of the partition before it.

    Raises:
        UsageError: the last partition is none, or stands alone.
    """
    before = read_volumes(disk, recognise)
    partitions = sorted(
        (volume for volume in before.volumes if volume.number), key=lambda one: one.offset_bytes
    )
    if len(partitions) < 2 or partitions[-1].content.kind != SWAP_KIND:
        raise UsageError(messages.NO_SWAP_AT_END)
    table = gpt if before.table == "GPT" else mbr
    swap, own = partitions[-1], partitions[-2]
    end = table.usable_end(disk)
    start = max(swap.offset_bytes, (end - swap.size_bytes) // _ALIGNED * _ALIGNED)
    area = find_swap(swap.store)
    assert area is not None  # it was recognised as such
    head = swap.store.read(0, area.page_bytes)
    disk.zero(swap.offset_bytes, swap.size_bytes)
    disk.zero(start, swap.size_bytes)
    disk.write(start, head)
    table.place_partition(disk, swap.number, start, start + swap.size_bytes)
    table.place_partition(disk, own.number, own.offset_bytes, start)
    _tell_lvm(disk, recognise, own.name, start - own.offset_bytes)
    return own.name


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
    _tell_lvm(disk, recognise, last.name, size_bytes)
    return last.name


def _tell_lvm(disk: Store, recognise: Recogniser, name: str, size_bytes: int) -> None:
    """Tells LVM the new size of a partition, where that is one of its physical volumes."""
    volumes = read_volumes(disk, recognise).volumes
    members = [
        read_physical_volume(volume.name, volume.store)
        for volume in volumes
        if volume.content.kind == LVM_KIND and not volume.is_logical
    ]
    grown = next((item for item in members if item.name == name), None)
    if grown is not None:
        group = [item for item in members if item.text.keys() == grown.text.keys()]
        grow_physical_volume(grown, group, size_bytes)
