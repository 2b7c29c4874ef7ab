"""The inventory of a FAT volume: free clusters, slack, names of deleted files."""

from __future__ import annotations

from collections.abc import Iterable

from zeroseal.blocks.patches import Patch, zero_patches
from zeroseal.filesystems.fat.places import PlaceNames
from zeroseal.filesystems.fat.read import FatTree
from zeroseal.filesystems.fat.slack import iter_slack
from zeroseal.filesystems.inventory import Inventory, Part


class FatInventory(Inventory):
    """See ``Inventory``."""

    def __init__(self, tree: FatTree) -> None:
        super().__init__()
        self._tree = tree

    def _find(self, part: Part) -> Iterable[Patch]:
        volume = self._tree.volume
        match part:
            case Part.JOURNAL | Part.FREE_INODES:
                return ()
            case Part.FREE_SPACE:
                return zero_patches(volume.store, volume.iter_free(), "free space")
            case Part.SLACK:
                return iter_slack(self._tree)

    def _name_places(self) -> PlaceNames:
        return PlaceNames(self._tree)
