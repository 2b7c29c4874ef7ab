"""A volume: a named slice of a disk that holds a file system, swap or something else."""

from __future__ import annotations

from dataclasses import dataclass

from zeroseal.blocks.store import Store

SWAP_KIND, LVM_KIND = "swap", "lvm"
_NOTHING_KNOWN = ("unknown", "empty")


@dataclass(frozen=True)
class Content:
    """What was recognised on a volume.

    Attributes:
        kind: ``ext2``, ``ext3``, ``ext4``, ``swap``, ``vfat``, ``xfs``, ..., or ``unknown``.
        uuid: the file system's UUID or serial number in the form that fstab uses; may be empty.
        label: the file system's own label; may be empty.
        refusal: why a disk with such a volume cannot be handled, empty where it can.
    """

    kind: str
    uuid: str = ""
    label: str = ""
    refusal: str = ""

    @property
    def holds_data(self) -> bool:
        """Whether something was recognised that is no mere part of LVM."""
        return self.is_known and self.kind != LVM_KIND

    @property
    def is_known(self) -> bool:
        """Whether anything was recognised."""
        return self.kind not in _NOTHING_KNOWN


@dataclass(frozen=True)
class Volume:
    """One volume of a disk.

    Attributes:
        name: ``partition 3``, ``GROUP/NAME`` of a logical volume, or ``whole disk`` where there is
            no table.
        number: the partition's number, 0 for the whole disk and for logical volumes.
        offset_bytes: where it begins on the disk; 0 for logical volumes.
        type_name: what the partition table says it is for.
        part_uuid: PARTUUID as fstab uses it (lower case); may be empty.
        part_label: name in the partition table; may be empty.
        group: the volume group of a logical volume, and ``logical_name`` its name there.
    """

    name: str
    number: int
    store: Store
    offset_bytes: int
    content: Content
    type_name: str = ""
    part_uuid: str = ""
    part_label: str = ""
    group: str = ""
    logical_name: str = ""

    @property
    def is_logical(self) -> bool:
        """Whether it is a logical volume; those lie inside others."""
        return bool(self.group)

    @property
    def size_bytes(self) -> int:
        """Size of the volume."""
        return self.store.size_bytes
