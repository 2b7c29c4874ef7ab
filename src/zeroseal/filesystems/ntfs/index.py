"""Indexes: B-trees of entries, their root in the record, their blocks in clusters.

An entry's key is a name (folders), or a number, hash or identifier (views). An entry of an inner
node has a child whose keys lie before it; the last entry of each node has no key.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any, NamedTuple

from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.layout import FileName, IndexBlock, IndexHeader, IndexRoot
from zeroseal.filesystems.ntfs.nodes import Attribute, Node
from zeroseal.filesystems.ntfs.streams import read_stream
from zeroseal.filesystems.ntfs.volume import NtfsVolume
from zeroseal.messages import ntfs as messages

FOLDER_INDEX = "$I30"
_MOST_DEPTH = 24


class IndexEntry(NamedTuple):
    """An entry with a key.

    Attributes:
        reference: of the file, in a folder's index; 0 in views.
        data: what a view says of its key; empty in folders.
    """

    key: bytes
    reference: int
    data: bytes = b""

    @property
    def number(self) -> int:
        """The record that it is of."""
        return self.reference & layout.REFERENCE_MASK


class IndexNode(NamedTuple):
    """A node as it was read: entries with the child before each, and the child behind the last."""

    entries: list[tuple[IndexEntry, int | None]]
    last_child: int | None
    says_inner: bool  # by the flag in its head
    room_fits: bool  # whether its head knows how much room it has


class Index:
    """One index of a node.

    Attributes:
        block_bytes: size of a block; ``unit_bytes`` what a child's number counts.

    Raises:
        DamagedError: its root is missing or out of shape.
    """

    def __init__(self, volume: NtfsVolume, node: Node, name: str = FOLDER_INDEX) -> None:
        self._volume, self.node, self.name = volume, node, name
        root = node.find(layout.INDEX_ROOT, name)
        if root is None or root.value is None or len(root.value) < 32:
            raise self.damaged(messages.NO_ROOT)
        self.root_value = root.value
        self.head = IndexRoot.parse(root.value[: IndexRoot.SIZE])
        self.block_bytes = self.head.block_bytes
        size = self.block_bytes
        if not 512 <= size <= 1 << 16 or size & (size - 1):
            raise self.damaged(messages.IMPOSSIBLE_INDEX_BLOCK_SIZE.format(size=size))
        small = volume.cluster_bytes > size
        self.unit_bytes = layout.FIXUP_STRIDE if small else volume.cluster_bytes
        self.is_view = name != FOLDER_INDEX
        self.allocation = node.find(layout.INDEX_ALLOCATION, name)
        bitmap = node.find(layout.BITMAP_ATTRIBUTE, name)
        self.bitmap: Attribute | None = bitmap

    def damaged(self, what: str) -> Exception:
        """The error for an index that contradicts itself."""
        return self._volume.damaged(f"the index {self.name} of record {self.node.number} {what}")

    def iter_entries(self) -> Iterator[IndexEntry]:
        """Yields all entries in order.

        Raises:
            DamagedError: the index contradicts itself, or runs in circles.
        """
        yield from self._walk(self.read_root(), set(), 0)

    def find(self, compare: Callable[[bytes], int]) -> IndexEntry | None:
        """The entry for which ``compare`` of its key is 0; below 0: it lies before that key."""
        node: IndexNode | None = self.read_root()
        for _depth in range(_MOST_DEPTH):
            assert node is not None
            child = node.last_child
            for entry, before in node.entries:
                order = compare(entry.key)
                if order == 0:
                    return entry
                if order < 0:
                    child = before
                    break
            if child is None:
                return None
            node = self.read_block(child)
        raise self.damaged(messages.TOO_MANY_LEVELS)

    def read_root(self) -> IndexNode:
        """The node in the record."""
        return self.parse_node(self.root_value, IndexRoot.SIZE)

    def read_block(self, vcn: int) -> IndexNode:
        """The node in a block, by the number that an entry has of it."""
        raw = self.read_block_raw(vcn)
        restored = self._volume.restore(
            raw, layout.INDEX_MAGIC, f"a block of the index of record {self.node.number}"
        )
        if IndexBlock.parse(restored[: IndexBlock.SIZE]).vcn != vcn:
            raise self.damaged(messages.BLOCK_THAT_RECORDS_ANOTHER_LOCATION)
        return self.parse_node(restored, layout.INDEX_BLOCK_HEAD_BYTES)

    def read_block_raw(self, vcn: int) -> bytes:
        """A block as it lies on the disk."""
        start = vcn * self.unit_bytes
        allocation = self.allocation
        if (
            allocation is None
            or start % self.block_bytes
            or (start + self.block_bytes > allocation.size_bytes)
        ):
            raise self.damaged(messages.REFERENCED_BLOCK_MISSING.format(vcn=vcn))
        return read_stream(self._volume, allocation, start, self.block_bytes)

    def parse_node(self, raw: bytes, start: int) -> IndexNode:
        """The entries of a node whose header lies at ``start``."""
        head = IndexHeader.parse(raw[start : start + IndexHeader.SIZE])
        position, end = start + head.entries_offset, start + head.used_bytes
        if head.entries_offset < IndexHeader.SIZE or end > len(raw):
            raise self.damaged(messages.INVALID_NODE)
        entries: list[tuple[IndexEntry, int | None]] = []
        while position + layout.INDEX_ENTRY_BYTES <= end:
            reference, length, key_length, flags = layout.INDEX_ENTRY.unpack_from(raw, position)
            has_child = bool(flags & layout.ENTRY_HAS_CHILD)
            least = layout.INDEX_ENTRY_BYTES + 8 * has_child
            if length < least or length % 8 or position + length > end:
                raise self.damaged(messages.INVALID_ENTRY)
            child: int | None = None
            if has_child:
                at = position + length - 8
                child = int.from_bytes(raw[at : at + 8], "little")
            if flags & layout.ENTRY_IS_LAST:
                says_inner = bool(head.flags & layout.NODE_HAS_CHILDREN)
                room_fits = start + head.allocated_bytes == len(raw)
                return IndexNode(entries, child, says_inner, room_fits)
            if key_length > length - least or not key_length:
                raise self.damaged(messages.ENTRY_KEY_TRUNCATED)
            key = raw[position + 16 : position + 16 + key_length]
            entries.append((self._entry(raw, position, length, key, reference), child))
            position += length
        raise self.damaged(messages.NODE_WITHOUT_END_ENTRY)

    def _entry(
        self, raw: bytes, position: int, length: int, key: bytes, reference: int
    ) -> IndexEntry:
        if self.is_view:
            offset, size = layout.VIEW_DATA.unpack_from(raw, position)
            if offset + size > length:
                raise self.damaged(messages.ENTRY_DATA_TRUNCATED)
            return IndexEntry(key, 0, raw[position + offset : position + offset + size])
        if len(key) < FileName.SIZE or FileName.SIZE + 2 * key[64] > len(key):
            raise self.damaged(messages.TRUNCATED_NAME)
        return IndexEntry(key, reference)

    def _walk(self, node: IndexNode, seen: set[int], depth: int) -> Iterator[IndexEntry]:
        if depth > _MOST_DEPTH:
            raise self.damaged(messages.TOO_MANY_LEVELS)
        for entry, child in node.entries:
            if child is not None:
                yield from self._walk_child(child, seen, depth)
            yield entry
        if node.last_child is not None:
            yield from self._walk_child(node.last_child, seen, depth)

    def _walk_child(self, vcn: int, seen: set[int], depth: int) -> Iterator[IndexEntry]:
        if vcn in seen:
            raise self.damaged(messages.CONTAINS_LOOP)
        seen.add(vcn)
        yield from self._walk(self.read_block(vcn), seen, depth + 1)


def sort_key(collation: int, fold: Callable[[str], tuple[bytes, bytes]]) -> Callable[[bytes], Any]:
    """What the keys of an index are sorted by.

    Args:
        collation: one of ``layout.BY_NAME`` and so on.
        fold: what names are sorted by, as ``Upcase.key``.
    """
    from zeroseal.filesystems.ntfs.nodes import parse_name

    match collation:
        case layout.BY_NAME:
            return lambda key: fold(parse_name(key)[1])
        case layout.BY_SID:
            return sid_key
        case _:
            return numbers_key


def numbers_key(key: bytes) -> tuple[int, ...]:
    """Numbers of 32 bits, one after the other; those of a reference and a tag are such too."""
    return tuple(
        int.from_bytes(key[start : start + 4], "little") for start in range(0, len(key), 4)
    )


def sid_key(key: bytes) -> tuple[int, bytes]:
    """Security identifiers are sorted by their length, then by their bytes."""
    return len(key), key
