"""The bytes of a node: items end to end from its end, and zeros in what is not used."""

from __future__ import annotations

import struct

from zeroseal.filesystems.btrfs.layout import Header
from zeroseal.filesystems.btrfs.volume import BtrfsVolume, Node

_ITEM = struct.Struct("<QBQII")
_POINTER = struct.Struct("<QBQQQ")


def leaf_room(volume: BtrfsVolume) -> int:
    """How many bytes the items of a leaf may take, each with its head of ``ITEM_BYTES``."""
    return volume.superblock.node_bytes - Header.SIZE


ITEM_BYTES, POINTER_BYTES = _ITEM.size, _POINTER.size


def most_children(volume: BtrfsVolume) -> int:
    """How many children an inner node may have."""
    return leaf_room(volume) // POINTER_BYTES


def build_node(volume: BtrfsVolume, node: Node) -> bytes:
    """A node as it lies on the disk, with its checksum."""
    head = node.head
    head.count, head.level = len(node.keys), node.level
    room = leaf_room(volume)
    raw = bytearray(head.build().ljust(volume.superblock.node_bytes, b"\0"))
    at, end = Header.SIZE, room
    if node.level:
        for key, child in zip(node.keys, node.children, strict=True):
            _POINTER.pack_into(raw, at, *key, *child)
            at += POINTER_BYTES
    else:
        for key, data in zip(node.keys, node.data, strict=True):
            end -= len(data)
            _ITEM.pack_into(raw, at, *key, end, len(data))
            raw[Header.SIZE + end : Header.SIZE + end + len(data)] = data
            at += ITEM_BYTES
    return with_checksum(volume, raw)


def with_checksum(volume: BtrfsVolume, raw: bytes | bytearray) -> bytes:
    """A node or a superblock with the checksum that it begins with."""
    body = bytes(raw[32:])
    return volume.checksum(body).ljust(32, b"\0") + body
