"""The inventory of an NTFS volume.

An empty log is filled with ones; a free record keeps its head with its sequence number. The change
journal is no patch but an edit: it becomes a hole (``NtfsEditor.forget_changes``).
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable

from zeroseal.blocks.patches import Patch, zero_patches
from zeroseal.errors import ImageError
from zeroseal.filesystems.inventory import Inventory, Part
from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.journals import iter_stale_log
from zeroseal.filesystems.ntfs.nodes import base_of, node_from_record
from zeroseal.filesystems.ntfs.runs import HOLE
from zeroseal.filesystems.ntfs.slack import iter_slack
from zeroseal.filesystems.ntfs.unused import iter_free_space, iter_stale_records
from zeroseal.filesystems.ntfs.volume import NtfsVolume


class NtfsInventory(Inventory[NtfsVolume]):
    """See ``Inventory``."""

    def _find(self, part: Part) -> Iterable[Patch]:
        volume = self._volume
        match part:
            case Part.JOURNAL:
                return iter_stale_log(volume)
            case Part.FREE_INODES:
                return iter_stale_records(volume)
            case Part.FREE_SPACE:
                return zero_patches(volume.store, iter_free_space(volume), "free space")
            case Part.SLACK:
                return iter_slack(volume)

    def _name_places(self) -> NtfsPlaceNames:
        return NtfsPlaceNames(self._volume)


_OWN_FILES = {
    layout.MFT: "the file table",
    layout.MIRROR: "the copy of the file table",
    layout.LOG_FILE: "the log",
    layout.VOLUME: "the volume's own record",
    layout.BITMAP: "the map of free clusters",
    layout.BOOT: "the boot sectors",
    layout.SECURE: "the store of security descriptors",
}


class NtfsPlaceNames:
    """Answers for one volume, whose table is read once."""

    def __init__(self, volume: NtfsVolume) -> None:
        self._volume = volume
        self._owned: list[tuple[int, int, int]] = []
        self._bases: dict[int, int] = {}  # extension record: its base
        size = volume.cluster_bytes
        for number, record in volume.iter_records():
            if record is None or not record[22] & layout.IN_USE:
                continue
            base = base_of(record)
            if base:
                self._bases[number] = base
                continue
            try:
                node = node_from_record(volume, number, record)
            except ImageError:
                continue
            runs = [run for attribute in node.attributes for run in attribute.runs]
            for run in (*runs, *node.list_runs):
                if run.lcn != HOLE:
                    end = (run.lcn + run.clusters) * size
                    self._owned.append((run.lcn * size, end, number))
        self._owned.sort()

    def owner_of(self, offset_bytes: int) -> int | None:
        """The node that a byte belongs to, with its content or with its record; None for others."""
        owner = self._owner(offset_bytes)
        if owner == layout.MFT:
            record = self._record_at(offset_bytes)
            owner = self._bases.get(record, record)
        return owner if owner is not None and owner >= layout.FIRST_USER_RECORD else None

    def describe(self, offset_bytes: int) -> str:
        """What structure a byte lies in."""
        owner = self._owner(offset_bytes)
        if owner is None:
            return "free space"
        if owner == layout.MFT:
            return f"record {self._record_at(offset_bytes)} of the file table"
        return _OWN_FILES.get(owner, f"record {owner}")

    def _owner(self, offset: int) -> int | None:
        index = bisect_right(self._owned, offset, key=lambda item: item[0]) - 1
        if index >= 0 and offset < self._owned[index][1]:
            return self._owned[index][2]
        return None

    def _record_at(self, offset: int) -> int:
        size, position = self._volume.cluster_bytes, 0
        for run in self._volume.mft_runs:
            start = run.lcn * size
            if start <= offset < start + run.clusters * size:
                return (position + offset - start) // self._volume.record_bytes
            position += run.clusters * size
        return 0
