"""A disk's partition table and volumes."""

from __future__ import annotations

from dataclasses import dataclass

from zeroseal.blocks.store import SliceStore, Store
from zeroseal.errors import DamagedError
from zeroseal.volumes.gpt import SECTOR_SIZES, Partition, find_gpt
from zeroseal.volumes.gpt import SIGNATURE as GPT_SIGNATURE
from zeroseal.volumes.mbr import find_mbr
from zeroseal.volumes.recognise import recognise
from zeroseal.volumes.volume import Volume


@dataclass(frozen=True)
class Disk:
    """What is on a disk.

    Attributes:
        table: ``GPT``, ``MBR`` or ``none``.
        volumes: in the order of the table.
        notes: what an administrator should know about the table, sentences.
    """

    table: str
    disk_uuid: str
    volumes: list[Volume]
    notes: list[str]


def read_disk(store: Store) -> Disk:
    """Reads the partition table and recognises every volume.

    A disk without a table but with a file system on it is one volume, ``whole disk``.

    Raises:
        DamagedError: there is a table and it cannot be trusted.
    """
    gpt = find_gpt(store)
    if gpt:
        notes = []
        if gpt.from_backup:
            notes.append("The primary partition table is damaged; its backup was read.")
        return Disk("GPT", gpt.disk_uuid, _volumes(store, gpt.partitions), notes)
    partitions = find_mbr(store)
    if partitions:
        if any(partition.type_name == "type 0xee" for partition in partitions):
            raise DamagedError(
                "the disk is marked as having a GUID partition table, but neither copy of it is "
                f"there (looked for {GPT_SIGNATURE.decode()} with sectors of "
                f"{' and '.join(map(str, SECTOR_SIZES))} bytes)"
            )
        return Disk("MBR", partitions[0].part_uuid[:8], _volumes(store, partitions), [])
    content = recognise(store)
    if content.kind in ("unknown", "empty"):
        return Disk("none", "", [], [])
    return Disk("none", "", [Volume("whole disk", 0, store, 0, content)], [])


def _volumes(store: Store, partitions: list[Partition]) -> list[Volume]:
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
