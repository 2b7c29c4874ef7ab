"""What the extent tree says of each extent: its length, what it is, and who refers to it.

Source: btrfs documentation, "Btree items"; ``btrfs_extent_item`` and its inline references.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.layout import Key
from zeroseal.filesystems.btrfs.volume import BtrfsVolume, Node, TreeRoot
from zeroseal.messages import btrfs as messages

_HEAD_BYTES, BLOCK_INFO_BYTES = 24, 18
_DATA_REF_BYTES = 28
_PIECE_BYTES = 53

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
        generation, flags: as the item has them.
        info: the first key and the level of a node, where the key of its item has not its level.
        level: of a node, where the key of its item has it.
        owner: the tree that it is counted for by simple quota; None where none is noted.
        references: the references themselves, each with how often it is made.
        keys: of all its items.
    """

    address: int
    length: int
    is_node: bool
    count: int
    generation: int = 0
    flags: int = 0
    info: bytes = b""
    level: int = 0
    owner: int | None = None
    references: dict[Reference, int] = field(default_factory=dict)
    keys: list[Key] = field(default_factory=list)


def iter_extents(volume: BtrfsVolume) -> Iterator[Extent]:
    """Yields the extents in the order of their addresses.

    Raises:
        DamagedError: an item is damaged, or a reference is about no extent.
    """
    yield from _iter(volume, volume.tree(layout.EXTENT_TREE), 0, layout.LAST)


def find_extent(volume: BtrfsVolume, root: TreeRoot, address: int) -> Extent | None:
    """The extent that begins at an address; None where there is none.

    The extent tree begins at ``root``.
    """
    return next(_iter(volume, root, address, address), None)


def references_of(node: Node, address: int) -> Iterator[tuple[int, Reference, Reference]]:
    """Yields (address, reference by owner, reference by parent) of what a node refers to.

    Args:
        node: of a tree whose references count.
        address: its own.
    """
    tree = node.head.owner
    if node.level:
        for child, _written in node.children:
            yield child, ("root", tree), ("parent", address)
        return
    for key, data in zip(node.keys, node.data, strict=True):
        if key.kind == layout.EXTENT_DATA and lies_outside(data):
            target, offset = int.from_bytes(data[21:29], "little"), data[37:45]
            if target:
                place = (key.offset - int.from_bytes(offset, "little")) & layout.LAST
                yield target, ("file", tree, key.object, place), ("leaf", address)


def lies_outside(piece: bytes) -> bool:
    """Whether the item of a piece of a file says where an extent lies; else it has the content."""
    return len(piece) >= _PIECE_BYTES and piece[20] != layout.INLINE


def _iter(volume: BtrfsVolume, root: TreeRoot, first: int, last: int) -> Iterator[Extent]:
    current: Extent | None = None
    for key, data in volume.items(root, Key(first, 0, 0), Key(last, 255, layout.LAST)):
        if key.kind in (layout.EXTENT_ITEM, layout.METADATA_ITEM):
            if current:
                yield current
            current = _parse(volume, key, data)
        elif key.kind in layout.REFERENCE_KINDS:
            if current is None or current.address != key.object:
                raise volume.damaged(messages.REFERENCE_TO_NO_EXTENT.format(address=key.object))
            reference, count, _used = _reference(key.kind, key.offset, data)
            current.references[reference] = current.references.get(reference, 0) + count
            current.keys.append(key)
    if current:
        yield current


def _parse(volume: BtrfsVolume, key: Key, data: bytes) -> Extent:
    """An extent with its inline references."""
    if len(data) < _HEAD_BYTES:
        raise volume.damaged(messages.EXTENT_ITEM_DAMAGED.format(address=key.object))
    count, generation, flags = (int.from_bytes(data[at : at + 8], "little") for at in (0, 8, 16))
    is_node = bool(flags & layout.EXTENT_OF_NODE)
    is_skinny = key.kind == layout.METADATA_ITEM
    extent = Extent(
        key.object,
        volume.superblock.node_bytes if is_skinny else key.offset,
        is_node,
        count,
        generation,
        flags,
        level=key.offset if is_skinny else 0,
        keys=[key],
    )
    at = _HEAD_BYTES
    if is_node and not is_skinny:
        extent.info = data[at : at + BLOCK_INFO_BYTES]
        at += BLOCK_INFO_BYTES
    while at < len(data):
        kind = data[at]
        if kind == layout.EXTENT_OWNER_REF:
            extent.owner = int.from_bytes(data[at + 1 : at + 9], "little")
            at += 9
            continue
        if kind not in layout.REFERENCE_KINDS:
            raise volume.damaged(messages.EXTENT_ITEM_DAMAGED.format(address=key.object))
        rest = data[at + 1 :]
        if kind == layout.EXTENT_DATA_REF:
            reference, times, used = _reference(kind, 0, rest)
        else:
            offset = int.from_bytes(rest[:8], "little")
            reference, times, used = _reference(kind, offset, rest[8:])
            used += 8
        extent.references[reference] = extent.references.get(reference, 0) + times
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
