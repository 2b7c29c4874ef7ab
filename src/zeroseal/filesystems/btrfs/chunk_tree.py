"""Changing bytes of the chunk tree where they lie.

It says which devices there are and how large they are, in a few nodes. Their bytes change only with
those, so that they are changed on a closed volume without writing a tree anew.
"""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.filesystems.btrfs.node_build import with_checksum
from zeroseal.filesystems.btrfs.volume import BtrfsVolume


def replace_in_chunk_tree(volume: BtrfsVolume, old: bytes, new: bytes) -> None:
    """Puts other bytes of the same length in the place of some, in all copies of all nodes."""
    for address in _nodes(volume, volume.chunk_root.address):
        raw = volume.read_raw(address)
        made = raw.replace(old, new)
        if made != raw:
            made = with_checksum(volume, made)
            for place in volume.places_of(address, len(made)):
                volume.store.write(place, made)


def _nodes(volume: BtrfsVolume, address: int) -> Iterator[int]:
    node = volume.read_node(address)
    for child, _generation in node.children:
        yield from _nodes(volume, child)
    yield address
