"""What lies between and behind the volumes of a disk: ranges that belong to nothing.

What boots a machine is left alone: the first sector, and on an MBR disk the gap before the first
partition, where boot loaders put the rest of themselves.
"""

from __future__ import annotations

from dataclasses import dataclass

from zeroseal.blocks.ranges import RangeSet
from zeroseal.blocks.store import Store
from zeroseal.volumes.lvm.read import PhysicalVolume, used_ranges
from zeroseal.volumes.volume import Volume

RESERVED_TYPE = "Microsoft reserved"
MBR_TRACK_BYTES = 1 << 20  # partitions begin at 63 sectors or, since long, at 1 MiB


@dataclass(frozen=True)
class Gap:
    """A range that belongs to nothing; ``where`` names it.

    ``volume`` is the name of the volume that it lies on; empty for the disk itself.
    """

    store: Store
    offset_bytes: int
    length: int
    where: str
    volume: str = ""


def gaps_of_disk(store: Store, volumes: list[Volume], tables: list[tuple[int, int]]) -> list[Gap]:
    """The ranges of a disk between its tables and partitions.

    Args:
        store: the disk.
        volumes: its partitions.
        tables: (offset, length) of what must stay besides them.
    """
    free = RangeSet([(0, store.size_bytes)])
    for offset, length in tables:
        free.discard(offset, offset + length)
    for volume in volumes:
        free.discard(volume.offset_bytes, volume.offset_bytes + volume.size_bytes)
    return [Gap(store, start, end - start, "between the partitions") for start, end in free]


def gaps_in_reserved(store: Store, volumes: list[Volume]) -> list[Gap]:
    """The whole of each reserved partition that holds nothing known: no system reads it."""
    return [
        Gap(store, volume.offset_bytes, volume.size_bytes, f"in {volume.name}, which is reserved")
        for volume in volumes
        if volume.type_name == RESERVED_TYPE and not volume.content.is_known
    ]


def gaps_of_lvm(physical: list[PhysicalVolume]) -> list[Gap]:
    """The ranges of physical volumes that hold neither live metadata nor logical volumes."""
    found = []
    for volume in physical:
        used = used_ranges(volume, physical)
        if used is None:
            continue
        free = RangeSet([(0, volume.store.size_bytes)])
        for offset, length in used:
            free.discard(offset, offset + length)
        where = f"outside the logical volumes of {volume.name}"
        found += [Gap(volume.store, start, end - start, where, volume.name) for start, end in free]
    return found
