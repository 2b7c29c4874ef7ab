"""A btrfs volume: its superblock, where logical addresses lie, and its trees."""

from __future__ import annotations

import struct
from bisect import bisect_left, bisect_right
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import pairwise

from zeroseal.blocks.store import Store
from zeroseal.errors import DamagedError, NeedsRecoveryError, UnsupportedError
from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.checksums import KINDS
from zeroseal.filesystems.btrfs.layout import ChunkHead, Header, Key, RootItem, Stripe, Superblock
from zeroseal.messages import btrfs as messages

_KEY_BYTES = 17
_ITEM, _POINTER = struct.Struct("<QBQII"), struct.Struct("<QBQQQ")  # each begins with a key
_MOST_LEVELS, _MOST_NODES_KEPT = 8, 4096
_NODE_SIZES = tuple(1 << bits for bits in range(12, 17))


@dataclass(frozen=True)
class Chunk:
    """A range of logical addresses: where each copy of it lies on the volume."""

    start: int
    length: int
    places: tuple[int, ...]
    kind: int = 0


@dataclass(frozen=True)
class Node:
    """A node of a tree: (key, child) pairs above, (key, data) pairs in a leaf."""

    level: int
    keys: tuple[Key, ...]
    children: tuple[tuple[int, int], ...]  # (logical address, generation)
    data: tuple[bytes, ...]
    head: Header


@dataclass(frozen=True)
class TreeRoot:
    """Where a tree begins."""

    address: int
    level: int
    generation: int


class BtrfsVolume:
    """A volume on one device.

    Args:
        store: the volume.
        where: its name, for messages.

    Raises:
        DamagedError: a structure contradicts the format, or fails its checksum.
        UnsupportedError: it uses something that is not read here.
        NeedsRecoveryError: it has a log that is to be replayed.
    """

    def __init__(self, store: Store, where: str = "the volume") -> None:
        self.store, self.where = store, where
        if store.size_bytes < layout.SUPERBLOCK_AT + layout.SUPERBLOCK_BYTES:
            raise self.damaged(messages.TOO_SMALL)
        raw = store.read(layout.SUPERBLOCK_AT, layout.SUPERBLOCK_BYTES)
        self.superblock = Superblock.parse(raw)
        self._check_superblock(raw)
        self._nodes: dict[int, Node] = {}
        self.changed: dict[int, Node] = {}  # by address: what an editor will write
        self.chunks: list[Chunk] = []
        self._read_system_chunks()
        top = self.superblock
        self.chunk_root = TreeRoot(top.chunk_root, top.chunk_root_level, 0)
        self.chunks = self._read_chunks()
        self._starts = [chunk.start for chunk in self.chunks]
        self.roots = TreeRoot(top.root, top.root_level, top.generation)

    def damaged(self, problem: str) -> DamagedError:
        """The error for a structure that contradicts the format."""
        return DamagedError(messages.VOLUME_INCONSISTENT.format(where=self.where, problem=problem))

    def unsupported(self, feature: str) -> UnsupportedError:
        """The error for something that is not read here."""
        return UnsupportedError(messages.FEATURE_NOT_READ.format(where=self.where, feature=feature))

    @property
    def checksum_bytes(self) -> int:
        """The length of a checksum."""
        return KINDS[self.superblock.checksum_kind][1]

    def checksum(self, data: bytes) -> bytes:
        """The checksum of some data, as the volume makes it."""
        return KINDS[self.superblock.checksum_kind][2](data)

    def places_of(self, address: int, length: int) -> tuple[int, ...]:
        """Where each copy of a range of logical addresses lies on the volume."""
        index = bisect_right(self._starts, address) - 1
        chunk = self.chunks[index] if index >= 0 else None
        if chunk is None or address + length > chunk.start + chunk.length:
            raise self.damaged(messages.ADDRESS_IN_NO_CHUNK.format(address=address))
        return tuple(place + address - chunk.start for place in chunk.places)

    def read_node(self, address: int, level: int | None = None, generation: int = 0) -> Node:
        """A node of a tree, from the first copy that passes its checksum."""
        node = self.changed.get(address) or self._nodes.get(address)
        if node is None:
            node = self._parse_node(address, generation)
            if len(self._nodes) >= _MOST_NODES_KEPT:
                self._nodes.clear()
            self._nodes[address] = node
        if level is not None and node.level != level:
            raise self.damaged(messages.NODE_HAS_WRONG_LEVEL.format(address=address))
        return node

    def read_raw(self, address: int) -> bytes:
        """The bytes of a node, from the first copy that passes its checksum."""
        size = self.superblock.node_bytes
        for place in self.places_of(address, size):
            raw = self.store.read(place, size)
            if self._passes(raw):
                return raw
        raise self.damaged(messages.NODE_FAILS_CHECKSUM.format(address=address))

    def forget(self, address: int) -> None:
        """A node is no longer in use; what was read or changed of it is dropped."""
        self.changed.pop(address, None)
        self._nodes.pop(address, None)

    def keep_changed(self) -> None:
        """What was changed has been written."""
        self._nodes |= self.changed
        self.changed = {}

    def items(self, root: TreeRoot, first: Key, last: Key) -> Iterator[tuple[Key, bytes]]:
        """Yields the items of a tree between two keys, both included, in their order."""
        if root.level >= _MOST_LEVELS:
            raise self.damaged(messages.NODE_HAS_WRONG_LEVEL.format(address=root.address))
        yield from self._items(root.address, root.level, root.generation, first, last)

    def all_items(self, root: TreeRoot) -> Iterator[tuple[Key, bytes]]:
        """Yields every item of a tree."""
        return self.items(root, Key(0, 0, 0), Key(layout.LAST, 255, layout.LAST))

    def items_of(self, root: TreeRoot, number: int, kind: int) -> Iterator[tuple[Key, bytes]]:
        """Yields the items of one kind that an object has."""
        return self.items(root, Key(number, kind, 0), Key(number, kind, layout.LAST))

    def find(self, root: TreeRoot, key: Key) -> bytes | None:
        """The data of one item; None where there is none."""
        for _key, data in self.items(root, key, key):
            return data
        return None

    def tree(self, number: int) -> TreeRoot:
        """The root of a tree by its number; of a subvolume too.

        Raises:
            DamagedError: there is none.
        """
        return self.read_tree(number)[0]

    def read_tree(self, number: int) -> tuple[TreeRoot, RootItem]:
        """The root of a tree with its item; raises as ``tree``."""
        for _key, data in self.items_of(self.roots, number, layout.ROOT_ITEM):
            return parse_root(data)
        raise self.damaged(messages.TREE_MISSING.format(number=number))

    def check_editable(self) -> None:
        """Raises where the volume can be read but not changed.

        Raises:
            UnsupportedError: it has features that are not kept, or a balance that was interrupted.
        """
        unknown = self.superblock.compat_ro & ~layout.KEPT_FEATURES
        if unknown:
            raise self.unsupported(messages.READ_ONLY_FEATURES.format(bits=unknown))
        for number in (layout.RELOCATION_TREE, layout.BALANCE):
            for _item in self.items(self.roots, Key(number, 0, 0), Key(number, 255, layout.LAST)):
                raise self.unsupported(messages.BALANCE_INTERRUPTED)

    # -- inside

    def _passes(self, raw: bytes) -> bool:
        """Whether a structure matches the checksum that it begins with."""
        made = self.checksum(raw[layout.CHECKSUM_BYTES :])
        return raw[: len(made)] == made

    def _check_superblock(self, raw: bytes) -> None:
        top = self.superblock
        if top.magic != layout.MAGIC:
            raise self.damaged(messages.NO_SUPERBLOCK)
        if top.checksum_kind not in KINDS:
            raise self.unsupported(messages.CHECKSUM_KIND.format(number=top.checksum_kind))
        if not self._passes(raw):
            raise self.damaged(messages.SUPERBLOCK_FAILS_CHECKSUM)
        unknown = top.incompat & ~layout.READ_FEATURES
        if unknown:
            names = [name for bit, name in layout.NAMED_FEATURES.items() if unknown & bit]
            raise self.unsupported(", ".join(names) or f"incompatible features {unknown:#x}")
        if top.devices != 1:
            raise self.unsupported(messages.SEVERAL_DEVICES.format(count=top.devices))
        if top.flags & layout.SEEDING:
            raise self.unsupported(messages.SEED_DEVICE)
        if top.node_bytes not in _NODE_SIZES or top.sector_bytes not in _NODE_SIZES:
            raise self.damaged(messages.IMPOSSIBLE_SIZES)
        if top.log_root:
            raise NeedsRecoveryError(messages.LOG_NOT_REPLAYED.format(where=self.where))

    def _read_system_chunks(self) -> None:
        """Chunks that the superblock lists: those that the chunk tree itself lies in."""
        size = self.superblock.system_chunks_bytes
        if size > layout.SYSTEM_CHUNKS_BYTES:
            raise self.damaged(messages.SYSTEM_CHUNKS_DAMAGED)
        start = layout.SYSTEM_CHUNKS_AT
        raw, at = self.superblock.raw[start : start + size], 0
        while at < size:
            key = _key(raw, at)
            chunk, used = self._chunk(key, raw[at + _KEY_BYTES :])
            self.chunks.append(chunk)
            at += _KEY_BYTES + used
        self.chunks.sort(key=lambda chunk: chunk.start)
        self._starts = [chunk.start for chunk in self.chunks]

    def _read_chunks(self) -> list[Chunk]:
        found = [
            self._chunk(key, data)[0]
            for key, data in self.all_items(self.chunk_root)
            if key.kind == layout.CHUNK_ITEM
        ]
        for before, chunk in pairwise(found):
            if before.start + before.length > chunk.start:
                raise self.damaged(messages.CHUNKS_OVERLAP.format(address=chunk.start))
        return found

    def _chunk(self, key: Key, raw: bytes) -> tuple[Chunk, int]:
        if len(raw) < ChunkHead.SIZE:
            raise self.damaged(messages.SYSTEM_CHUNKS_DAMAGED)
        head = ChunkHead.parse(raw[: ChunkHead.SIZE])
        for bit, name in layout.PROFILES.items():
            if head.kind & bit:
                raise self.unsupported(name)
        wanted = 2 if head.kind & layout.DUP else 1
        end = ChunkHead.SIZE + head.stripes * Stripe.SIZE
        if key.kind != layout.CHUNK_ITEM or head.stripes != wanted or end > len(raw):
            raise self.damaged(messages.CHUNK_DAMAGED.format(address=key.offset))
        stripes = [
            Stripe.parse(raw[at : at + Stripe.SIZE])
            for at in range(ChunkHead.SIZE, end, Stripe.SIZE)
        ]
        if any(stripe.offset + head.length > self.store.size_bytes for stripe in stripes):
            raise self.damaged(messages.CHUNK_DAMAGED.format(address=key.offset))
        places = tuple(stripe.offset for stripe in stripes)
        return Chunk(key.offset, head.length, places, head.kind), end

    def _parse_node(self, address: int, generation: int) -> Node:
        size, raw = self.superblock.node_bytes, self.read_raw(address)
        head = Header.parse(raw[: Header.SIZE])
        if head.address != address or (generation and head.generation != generation):
            raise self.damaged(messages.NODE_IS_ANOTHER.format(address=address))
        form = _POINTER if head.level else _ITEM
        if head.level >= _MOST_LEVELS or Header.SIZE + head.count * form.size > size:
            raise self.damaged(messages.NODE_DAMAGED.format(address=address))
        rows = list(form.iter_unpack(raw[Header.SIZE : Header.SIZE + head.count * form.size]))
        keys = tuple(Key(row[0], row[1], row[2]) for row in rows)
        if any(before >= key for before, key in pairwise(keys)):
            raise self.damaged(messages.NODE_DAMAGED.format(address=address))
        if head.level:
            children = tuple((row[3], row[4]) for row in rows)
            return Node(head.level, keys, children, (), head)
        if any(Header.SIZE + row[3] + row[4] > size for row in rows):
            raise self.damaged(messages.NODE_DAMAGED.format(address=address))
        body = raw[Header.SIZE :]
        data = tuple(body[row[3] : row[3] + row[4]] for row in rows)
        return Node(0, keys, (), data, head)

    def _items(
        self, address: int, level: int, generation: int, first: Key, last: Key
    ) -> Iterator[tuple[Key, bytes]]:
        node = self.read_node(address, level, generation)
        if not level:
            start, end = bisect_left(node.keys, first), bisect_right(node.keys, last)
            yield from zip(node.keys[start:end], node.data[start:end], strict=True)
            return
        start = max(0, bisect_right(node.keys, first) - 1)
        for index in range(start, len(node.keys)):
            if node.keys[index] > last:
                return
            child, written = node.children[index]
            yield from self._items(child, level - 1, written, first, last)


def parse_root(data: bytes) -> tuple[TreeRoot, RootItem]:
    """The root of a tree, and its item, from the item's data."""
    item = RootItem.parse(data[: RootItem.SIZE])
    return TreeRoot(item.address, item.level, item.generation), item


def _key(raw: bytes, at: int) -> Key:
    return Key(_number(raw, at), raw[at + 8], _number(raw, at + 9))


def _number(raw: bytes, at: int) -> int:
    return int.from_bytes(raw[at : at + 8], "little")
