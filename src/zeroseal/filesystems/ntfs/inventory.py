"""The inventory of an NTFS volume.

An empty log is filled with ones; a free record keeps its head with its sequence number. The change
journal is no patch but an edit: it becomes a hole (``NtfsEditor.forget_changes``).
"""

from __future__ import annotations

from collections.abc import Iterable

from zeroseal.blocks.patches import Patch, zero_patches
from zeroseal.filesystems.inventory import Inventory, Part
from zeroseal.filesystems.ntfs.journals import iter_stale_log
from zeroseal.filesystems.ntfs.places import PlaceNames
from zeroseal.filesystems.ntfs.slack import iter_slack
from zeroseal.filesystems.ntfs.unused import iter_free_space, iter_stale_records
from zeroseal.filesystems.ntfs.volume import NtfsVolume


class NtfsInventory(Inventory):
    """See ``Inventory``."""

    def __init__(self, volume: NtfsVolume) -> None:
        super().__init__()
        self._volume = volume

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

    def _name_places(self) -> PlaceNames:
        return PlaceNames(self._volume)
