"""The inventory of an XFS volume.

Free space becomes zeros. The log and free inodes do not: each block of an empty log bears the
number of a round, and a free inode its own number and generation.
"""

from __future__ import annotations

from collections.abc import Iterable

from zeroseal.blocks.patches import Patch, zero_patches
from zeroseal.filesystems.inventory import Inventory, Part
from zeroseal.filesystems.xfs.places import PlaceNames
from zeroseal.filesystems.xfs.slack import iter_slack
from zeroseal.filesystems.xfs.unused import iter_free_space, iter_stale_inodes, iter_stale_log
from zeroseal.filesystems.xfs.volume import XfsVolume


class XfsInventory(Inventory):
    """See ``Inventory``."""

    def __init__(self, volume: XfsVolume) -> None:
        super().__init__()
        self._volume = volume

    def _find(self, part: Part) -> Iterable[Patch]:
        volume = self._volume
        match part:
            case Part.JOURNAL:
                return iter_stale_log(volume)
            case Part.FREE_INODES:
                return iter_stale_inodes(volume)
            case Part.FREE_SPACE:
                return zero_patches(volume.store, iter_free_space(volume), "free space")
            case Part.SLACK:
                return iter_slack(volume)

    def _name_places(self) -> PlaceNames:
        return PlaceNames(self._volume)
