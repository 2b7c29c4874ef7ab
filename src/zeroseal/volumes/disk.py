"""A disk's partition table and volumes."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from zeroseal.blocks.store import SliceStore, Store
from zeroseal.errors import DamagedError
from zeroseal.messages import volumes as messages
from zeroseal.volumes.gaps import (
    MBR_TRACK_BYTES,
    Gap,
    gaps_in_reserved,
    gaps_of_disk,
    gaps_of_lvm,
)
from zeroseal.volumes.gpt import SECTOR_SIZES, Partition, find_gpt
from zeroseal.volumes.gpt import SIGNATURE as GPT_SIGNATURE
from zeroseal.volumes.lvm.read import (
    LogicalVolume,
    PhysicalVolume,
    read_logical_volumes,
    read_physical_volume,
)
from zeroseal.volumes.mbr import find_mbr
from zeroseal.volumes.volume import LVM_KIND, Content, Volume

Recogniser = Callable[[Store], Content]


@dataclass(frozen=True)
class Disk:
    """What is on a disk.

    Attributes:
        table: ``GPT``, ``MBR`` or ``none``.
        sector_bytes: of the table, 512 where there is none.
        gaps: ranges that belong to no volume and to no table, and reserved partitions.
        physical_volumes: those of LVM.
        boot_gap: (offset, length) of the gap on an MBR disk that a boot loader may use.
        volumes: in the order of the table, logical volumes last.
        notes: what an administrator should know about the table, sentences.
    """

    table: str
    disk_uuid: str
    volumes: list[Volume]
    notes: list[str]
    sector_bytes: int = 512
    gaps: tuple[Gap, ...] = ()
    physical_volumes: tuple[PhysicalVolume, ...] = ()
    boot_gap: tuple[int, int] = (0, 0)


def read_volumes(store: Store, recognise: Recogniser) -> Disk:
    """Reads the partition table and recognises every volume.

    Args:
        store: the disk.
        recognise: names what lies on a volume; ``filesystems.drivers.recognise`` knows most.

    A disk without a table but with a file system on it is one volume, ``whole disk``.

    Raises:
        DamagedError: there is a table and it cannot be trusted.
    """
    gpt = find_gpt(store)
    if gpt:
        notes = []
        if gpt.from_backup:
            notes.append("The primary partition table is damaged; its backup was used.")
        parts = _volumes(store, gpt.partitions, recognise)
        gaps = gaps_of_disk(store, parts, gpt.table_ranges) + gaps_in_reserved(store, parts)
        volumes, physical = _with_logical(parts, recognise)
        gaps += gaps_of_lvm(physical)
        return Disk(
            "GPT",
            gpt.disk_uuid,
            volumes,
            notes,
            gpt.sector_bytes,
            gaps=tuple(gaps),
            physical_volumes=tuple(physical),
        )
    mbr = find_mbr(store)
    if mbr:
        partitions = mbr.partitions
        if any(partition.type_name == "type 0xee" for partition in partitions):
            raise DamagedError(
                messages.GPT_NOT_FOUND.format(
                    gpt_signature=GPT_SIGNATURE.decode(),
                    sector_sizes=" and ".join(map(str, SECTOR_SIZES)),
                )
            )
        parts = _volumes(store, partitions, recognise)
        boot_end = min(part.offset_bytes for part in parts)
        tables = [(0, min(boot_end, MBR_TRACK_BYTES)), *((offset, 512) for offset in mbr.sectors)]
        gaps = gaps_of_disk(store, parts, tables)
        volumes, physical = _with_logical(parts, recognise)
        return Disk(
            "MBR",
            partitions[0].part_uuid[:8],
            volumes,
            [],
            gaps=tuple(gaps + gaps_of_lvm(physical)),
            physical_volumes=tuple(physical),
            boot_gap=(512, min(boot_end, MBR_TRACK_BYTES) - 512),
        )
    content = recognise(store)
    if not content.is_known:
        return Disk("none", "", [], [])
    volumes, physical = _with_logical([Volume("whole disk", 0, store, 0, content)], recognise)
    unused = tuple(gaps_of_lvm(physical))
    return Disk("none", "", volumes, [], gaps=unused, physical_volumes=tuple(physical))


def _volumes(store: Store, partitions: list[Partition], recognise: Recogniser) -> list[Volume]:
    volumes = []
    for partition in partitions:
        part = SliceStore(store, partition.offset_bytes, partition.size_bytes)
        volumes.append(
            Volume(
                name=f"partition {partition.number}",
                number=partition.number,
                store=part,
                offset_bytes=partition.offset_bytes,
                content=recognise(part),
                type_name=partition.type_name,
                part_uuid=partition.part_uuid,
                part_label=partition.label,
            )
        )
    return volumes


def _with_logical(
    volumes: list[Volume], recognise: Recogniser
) -> tuple[list[Volume], list[PhysicalVolume]]:
    """Adds the logical volumes that lie on the physical ones, which come with them."""
    physical = [
        read_physical_volume(volume.name, volume.store)
        for volume in volumes
        if volume.content.kind == LVM_KIND
    ]
    logical = [_volume_of(item, recognise) for item in read_logical_volumes(physical)]
    return volumes + logical, physical


def _volume_of(item: LogicalVolume, recognise: Recogniser) -> Volume:
    return Volume(
        name=f"{item.group}/{item.name}",
        number=0,
        store=item.store,
        offset_bytes=0,
        content=recognise(item.store),
        type_name="logical volume",
        group=item.group,
        logical_name=item.name,
    )
