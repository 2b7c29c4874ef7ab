"""What the extent tree says of each extent: its length, what it is, and who refers to it.

Source: btrfs documentation, "Btree items"; ``btrfs_extent_item`` and its inline references.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.layout import Key
from zeroseal.filesystems.btrfs.volume import BtrfsVolume
from zeroseal.messages import btrfs as messages

_HEAD_BYTES, _BLOCK_INFO_BYTES = 24, 18
_DATA_REF_BYTES = 28

# a reference: ("root", tree) or ("parent", address) of a node; ("file", tree, inode, offset) or
# ("leaf", address) of data
Reference = tuple[str | int, ...]


@dataclass
class Extent:
    """An extent as the extent tree has it.

    Attributes:
        address, length: logical.
        is_node: whether it is a node of a tree; else it is data.
        count: how many references it says it has.
        references: the references themselves, each with how often it is made.
    """

    address: int
    length: int
    is_node: bool
    count: int
    references: dict[Reference, int] = field(default_factory=dict)


def iter_extents(volume: BtrfsVolume) -> Iterator[Extent]:
    """Yields the extents in the order of their addresses.

    Raises:
        DamagedError: an item is damaged, or a reference is about no extent.
    """
    root = volume.tree(layout.EXTENT_TREE)
    current: Extent | None = None
    for key, data in volume.all_items(root):
        if key.kind in (layout.EXTENT_ITEM, layout.METADATA_ITEM):
            if current:
                yield current
            current = _parse(volume, key, data)
        elif key.kind in layout.REFERENCE_KINDS:
            if current is None or current.address != key.object:
                raise volume.damaged(messages.REFERENCE_TO_NO_EXTENT.format(address=key.object))
            reference, count, _used = _reference(key.kind, key.offset, data)
            current.references[reference] = current.references.get(reference, 0) + count
    if current:
        yield current


def _parse(volume: BtrfsVolume, key: Key, data: bytes) -> Extent:
    """An extent with its inline references."""
    if len(data) < _HEAD_BYTES:
        raise volume.damaged(messages.EXTENT_ITEM_DAMAGED.format(address=key.object))
    is_node = bool(int.from_bytes(data[16:24], "little") & layout.EXTENT_OF_NODE)
    length = volume.superblock.node_bytes if key.kind == layout.METADATA_ITEM else key.offset
    extent = Extent(key.object, length, is_node, int.from_bytes(data[:8], "little"))
    at = _HEAD_BYTES
    if is_node and key.kind == layout.EXTENT_ITEM:
        at += _BLOCK_INFO_BYTES
    while at < len(data):
        kind = data[at]
        if kind == layout.EXTENT_OWNER_REF:
            at += 9
            continue
        if kind not in layout.REFERENCE_KINDS:
            raise volume.damaged(messages.EXTENT_ITEM_DAMAGED.format(address=key.object))
        rest = data[at + 1 :]
        if kind == layout.EXTENT_DATA_REF:
            reference, count, used = _reference(kind, 0, rest)
        else:
            offset = int.from_bytes(rest[:8], "little")
            reference, count, used = _reference(kind, offset, rest[8:])
            used += 8
        extent.references[reference] = extent.references.get(reference, 0) + count
        at += 1 + used
    return extent


def _reference(kind: int, offset: int, data: bytes) -> tuple[Reference, int, int]:
    """(reference, how often it is made, bytes of it behind its kind and offset)."""
    if kind == layout.TREE_BLOCK_REF:
        return ("root", offset), 1, 0
    if kind == layout.SHARED_BLOCK_REF:
        return ("parent", offset), 1, 0
    if kind == layout.SHARED_DATA_REF:
        return ("leaf", offset), int.from_bytes(data[:4], "little"), 4
    tree, inode, place = (int.from_bytes(data[at : at + 8], "little") for at in (0, 8, 16))
    count = int.from_bytes(data[24:_DATA_REF_BYTES], "little")
    return ("file", tree, inode, place), count, _DATA_REF_BYTES
