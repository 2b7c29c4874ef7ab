"""The inventory of an ext volume: all that is stale becomes zeros."""

from __future__ import annotations

from collections.abc import Iterable

from zeroseal.blocks.patches import Patch, zero_patches
from zeroseal.filesystems.ext.places import PlaceNames
from zeroseal.filesystems.ext.slack import iter_slack
from zeroseal.filesystems.ext.unused import iter_free_inodes, iter_free_space, iter_journal_body
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.filesystems.inventory import Inventory, Part


class ExtInventory(Inventory):
    """See ``Inventory``."""

    def __init__(self, volume: ExtVolume) -> None:
        super().__init__()
        self._volume = volume

    def _find(self, part: Part) -> Iterable[Patch]:
        volume = self._volume
        match part:
            case Part.JOURNAL:
                return zero_patches(volume.store, iter_journal_body(volume), "journal")
            case Part.FREE_INODES:
                return zero_patches(volume.store, iter_free_inodes(volume), "free inodes")
            case Part.FREE_SPACE:
                return zero_patches(volume.store, iter_free_space(volume), "free space")
            case Part.SLACK:
                return iter_slack(volume)

    def _name_places(self) -> PlaceNames:
        return PlaceNames(self._volume)
