"""What the items of a subvolume hold: names, references back to them, pieces of files."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.layout import ExtentHead, ExtentPlace, Key, NameHead
from zeroseal.messages import btrfs as messages

_REFERENCE_HEAD = 10  # an index and the length of the name


@dataclass(frozen=True)
class Piece:
    """A piece of a file: where it begins in the file, and its bytes or where they lie."""

    start: int
    length: int
    head: ExtentHead
    inline: bytes = b""
    place: ExtentPlace | None = None


def iter_names(data: bytes) -> Iterator[tuple[NameHead, bytes, bytes]]:
    """Yields (head, name, value) of the entries that share an item.

    Raises:
        ValueError: the item is damaged.
    """
    at = 0
    while at < len(data):
        if at + NameHead.SIZE > len(data):
            raise ValueError(messages.NAME_DAMAGED)
        head = NameHead.parse(data[at : at + NameHead.SIZE])
        start = at + NameHead.SIZE
        middle = start + head.name_bytes
        at = middle + head.value_bytes
        if at > len(data) or not head.name_bytes:
            raise ValueError(messages.NAME_DAMAGED)
        yield head, data[start:middle], data[middle:at]


def iter_references(key: Key, data: bytes) -> Iterator[tuple[int, int, bytes]]:
    """Yields (folder, index, name) of the names that an inode has, from either kind of item.

    Raises:
        ValueError: the item is damaged.
    """
    is_extended = key.kind == layout.EXTENDED_REF
    skip, at = 8 if is_extended else 0, 0
    while at < len(data):
        start = at + skip + _REFERENCE_HEAD
        folder = int.from_bytes(data[at : at + 8], "little") if is_extended else key.offset
        index = int.from_bytes(data[at + skip : at + skip + 8], "little")
        end = start + int.from_bytes(data[start - 2 : start], "little")
        if start > len(data) or end > len(data):
            raise ValueError(messages.NAME_DAMAGED)
        yield folder, index, data[start:end]
        at = end


def parse_piece(key: Key, data: bytes) -> Piece:
    """A piece of a file from its item.

    Raises:
        ValueError: the item is damaged.
    """
    if len(data) < ExtentHead.SIZE:
        raise ValueError(messages.EXTENT_DAMAGED.format(node=key.object))
    head, rest = ExtentHead.parse(data[: ExtentHead.SIZE]), data[ExtentHead.SIZE :]
    if head.type == layout.INLINE:
        return Piece(key.offset, head.plain_bytes, head, inline=rest)
    if len(rest) < ExtentPlace.SIZE or head.type > layout.PREALLOCATED:
        raise ValueError(messages.EXTENT_DAMAGED.format(node=key.object))
    place = ExtentPlace.parse(rest[: ExtentPlace.SIZE])
    return Piece(key.offset, place.length, head, place=place)
