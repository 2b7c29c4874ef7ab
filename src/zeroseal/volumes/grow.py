"""A disk with more room behind it, and its partition table's backup at the new end."""

from __future__ import annotations

from zeroseal.blocks.pieced import Piece, PiecedStore
from zeroseal.blocks.sizes import size_text
from zeroseal.blocks.staged import StagedStore
from zeroseal.blocks.store import Store
from zeroseal.errors import UsageError
from zeroseal.volumes.gpt import move_backup

_SECTOR_BYTES = 512


def grow_disk(disk: Store, size_bytes: int) -> tuple[StagedStore, bool]:
    """A larger disk with the same contents; the old one is not changed.

    Returns:
        The larger disk, and whether it has a partition table whose backup was moved.

    Raises:
        UsageError: the size is smaller, or no whole number of sectors.
    """
    if size_bytes % _SECTOR_BYTES:
        raise UsageError("a disk's size is a multiple of 512 bytes")
    if size_bytes < disk.size_bytes:
        raise UsageError(
            f"the disk has {size_text(disk.size_bytes)}, and a disk is never made smaller here"
        )
    more = Piece(None, 0, size_bytes - disk.size_bytes)
    grown = StagedStore(PiecedStore([Piece(disk, 0, disk.size_bytes), more]))
    return grown, move_backup(grown)
