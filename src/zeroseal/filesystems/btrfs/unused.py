"""What belongs to nothing: free space in block groups, what no chunk takes, stripes kept free."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.blocks.patches import ByteRange
from zeroseal.blocks.ranges import RangeSet
from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.ledger import superblock_places
from zeroseal.filesystems.btrfs.space import iter_used
from zeroseal.filesystems.btrfs.volume import BtrfsVolume


def iter_free_space(volume: BtrfsVolume) -> Iterator[ByteRange]:
    """Yields (offset, length) on the volume of all that is not in use.

    What lies in front of the first MiB is left alone: boot loaders lie there, and the superblock.
    """
    free = RangeSet([(layout.BOOT_AREA_BYTES, volume.store.size_bytes)])
    for chunk in volume.chunks:
        used = RangeSet(iter_used(volume, chunk.start, chunk.start + chunk.length))
        for place in chunk.places:
            shift = place - chunk.start
            for start, end in used:
                free.discard(start + shift, end + shift)
    for place in superblock_places(volume):
        free.discard(place, place + layout.SUPERBLOCK_BYTES)
    yield from ((start, end - start) for start, end in free)
