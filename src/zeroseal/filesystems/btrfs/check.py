"""The consistency checker of btrfs: all trees, every reference both ways, space and checksums.

It shares the reading of structures with the rest, and nothing with what will edit or clean.
"""

from __future__ import annotations

from bisect import bisect_right
from collections import Counter
from collections.abc import Iterator
from itertools import pairwise

from zeroseal.blocks.ranges import RangeSet
from zeroseal.blocks.store import Store
from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.check_files import FileChecks
from zeroseal.filesystems.btrfs.extents import Extent, iter_extents
from zeroseal.filesystems.btrfs.items import parse_piece
from zeroseal.filesystems.btrfs.layout import Header, Key, RootItem
from zeroseal.filesystems.btrfs.volume import BtrfsVolume, Node, TreeRoot, parse_root
from zeroseal.filesystems.tree import Problem
from zeroseal.messages import btrfs as messages

_MOST_PROBLEMS = 200


def check_volume(store: Store, where: str = "the volume") -> list[Problem]:
    """What is wrong with a volume; empty where nothing is.

    Raises:
        ImageError, RefusedError: it cannot be read at all.
    """
    return check_opened(BtrfsVolume(store, where))


def check_opened(volume: BtrfsVolume) -> list[Problem]:
    """The same for a volume that was opened."""
    return _Check(volume).run()


class _Check:
    """One pass over a volume."""

    def __init__(self, volume: BtrfsVolume) -> None:
        self.volume = volume
        self.problems: list[Problem] = []
        self.node_references: Counter[int] = Counter()
        self.data_references: Counter[int] = Counter()
        self.data_lengths: dict[int, int] = {}
        self.seen: dict[int, int] = {}  # address: level
        self.subvolumes: dict[int, tuple[TreeRoot, RootItem]] = {}

    def run(self) -> list[Problem]:
        """All checks; those that need sound trees come after the trees."""
        volume = self.volume
        roots = [(layout.ROOT_TREE, volume.roots), (layout.CHUNK_TREE, volume.chunk_root)]
        for number, root in roots:
            self._walk_tree(number, root)
        if self.problems:
            return self.problems
        for key, data in volume.all_items(volume.roots):
            if key.kind == layout.ROOT_ITEM:
                root, item = parse_root(data)
                self._walk_tree(key.object, root)
                if key.object == layout.FS_TREE or layout.FIRST_SUBVOLUME <= key.object < 1 << 48:
                    self.subvolumes[key.object] = root, item
                    if not item.references:
                        self._say(f"tree {key.object}", messages.SUBVOLUME_BEING_DELETED)
        if self.problems:
            return self.problems
        extents = list(iter_extents(volume))
        self._check_extents(extents)
        self._check_groups(extents)
        self._check_device_extents()
        files = FileChecks(volume, self.subvolumes, self._say)
        files.run()
        self._check_sums(files.summed, extents)
        return self.problems

    # -- trees

    def _say(self, where: str, what: str) -> None:
        if len(self.problems) < _MOST_PROBLEMS:
            self.problems.append(Problem(where, what))

    def _walk_tree(self, number: int, root: TreeRoot) -> None:
        self.node_references[root.address] += 1
        waiting: list[tuple[int, int, int, Key | None, Key | None]] = []
        waiting.append((root.address, root.level, root.generation, None, None))
        while waiting and len(self.problems) < _MOST_PROBLEMS:
            address, level, generation, first, end = waiting.pop()
            if address in self.seen:
                if self.seen[address] != level:
                    self._say(f"node {address}", messages.WRONG_LEVEL)
                continue
            self.seen[address] = level
            node = self.volume.read_node(address, level, generation)
            self._check_copies(address)
            where = f"node {address} of tree {number}"
            keys = node.keys
            if keys and ((first and keys[0] != first) or (end and keys[-1] >= end)):
                self._say(where, messages.KEYS_DO_NOT_FIT_PARENT)
            if level and not keys:
                self._say(where, messages.EMPTY_NODE)
            if level:
                for index, (child, written) in enumerate(node.children):
                    self.node_references[child] += 1
                    after = keys[index + 1] if index + 1 < len(keys) else end
                    waiting.append((child, level - 1, written, keys[index], after))
            else:
                self._check_leaf(where, address, node)

    def _check_copies(self, address: int) -> None:
        size = self.volume.superblock.node_bytes
        copies = {self.volume.store.read(at, size) for at in self.volume.places_of(address, size)}
        if len(copies) > 1:
            self._say(f"node {address}", messages.COPIES_DIFFER)

    def _check_leaf(self, where: str, address: int, node: Node) -> None:
        """Items lie end to end from the end of the leaf; data that files refer to is counted."""
        raw = self.volume.read_raw(address)
        end = len(raw)
        for index, data in enumerate(node.data):
            at = Header.SIZE + index * 25
            start = Header.SIZE + int.from_bytes(raw[at + 17 : at + 21], "little")
            if start + len(data) != end or start < Header.SIZE + len(node.data) * 25:
                self._say(where, messages.ITEMS_DO_NOT_FIT)
                break
            end = start
        for key, data in zip(node.keys, node.data, strict=True):
            if key.kind != layout.EXTENT_DATA:
                continue
            try:
                place = parse_piece(key, data).place
            except ValueError as error:
                self._say(where, str(error))
                continue
            if place is not None and place.address:
                self.data_references[place.address] += 1
                self.data_lengths[place.address] = place.stored_bytes

    # -- space

    def _check_extents(self, extents: list[Extent]) -> None:
        for before, extent in pairwise(extents):
            if before.address + before.length > extent.address:
                self._say(f"extent {extent.address}", messages.EXTENTS_OVERLAP)
        for extent in extents:
            where = f"extent {extent.address}"
            wanted = self.node_references if extent.is_node else self.data_references
            made = wanted.get(extent.address, 0)
            stated = sum(extent.references.values())
            if not extent.count == made == stated:
                text = messages.REFERENCES_DIFFER.format(
                    count=extent.count, stated=stated, made=made
                )
                self._say(where, text)
            length = self.data_lengths.get(extent.address, extent.length)
            if not extent.is_node and length != extent.length:
                self._say(where, messages.EXTENT_HAS_ANOTHER_LENGTH)
        known = {extent.address: extent.is_node for extent in extents}
        for address in self.node_references:
            if known.get(address) is not True:
                self._say(f"node {address}", messages.NOT_IN_EXTENT_TREE)
        for address in self.data_references:
            if known.get(address) is not False:
                self._say(f"data {address}", messages.NOT_IN_EXTENT_TREE)
        used, stated_used = sum(item.length for item in extents), self.volume.superblock.used_bytes
        if used != stated_used:
            text = messages.USED_BYTES_DIFFER.format(stated=stated_used, used=used)
            self._say("superblock", text)

    def _check_groups(self, extents: list[Extent]) -> None:
        volume, features = self.volume, self.volume.superblock.compat_ro
        number = (
            layout.BLOCK_GROUP_TREE if features & layout.GROUP_TREE_FEATURE else layout.EXTENT_TREE
        )
        groups = {
            key.object: (key.offset, int.from_bytes(data[:8], "little"),
                         int.from_bytes(data[16:24], "little"))
            for key, data in volume.all_items(volume.tree(number))
            if key.kind == layout.BLOCK_GROUP_ITEM
        }  # fmt: skip
        chunks = {chunk.start: chunk for chunk in volume.chunks}
        for start in groups.keys() ^ chunks.keys():
            self._say(f"block group {start}", messages.GROUP_AND_CHUNK_DIFFER)
        by_group: dict[int, list[Extent]] = {start: [] for start in groups}
        starts = sorted(groups)
        for extent in extents:
            index = bisect_right(starts, extent.address) - 1
            start = starts[index] if index >= 0 else -1
            if start < 0 or extent.address + extent.length > start + groups[start][0]:
                self._say(f"extent {extent.address}", messages.IN_NO_GROUP)
            else:
                by_group[start].append(extent)
        has_tree = features & layout.FREE_SPACE_FEATURE and features & layout.FREE_SPACE_VALID
        for start, (length, used, flags) in groups.items():
            where, own = f"block group {start}", by_group[start]
            if used != sum(extent.length for extent in own):
                self._say(where, messages.GROUP_COUNT_WRONG)
            if start in chunks and (chunks[start].length, chunks[start].kind) != (length, flags):
                self._say(where, messages.GROUP_AND_CHUNK_DIFFER)
            if has_tree:
                free = RangeSet([(start, start + length)])
                for extent in own:
                    free.discard(extent.address, extent.address + extent.length)
                if list(free) != list(self._free_space(start, length)):
                    self._say(where, messages.FREE_SPACE_DIFFERS)

    def _free_space(self, start: int, length: int) -> RangeSet:
        """What the free-space tree says of a block group."""
        volume, sector = self.volume, self.volume.superblock.sector_bytes
        root = volume.tree(layout.FREE_SPACE_TREE)
        found = RangeSet([])
        first, last = Key(start, 0, 0), Key(start + length - 1, 255, layout.LAST)
        for key, data in volume.items(root, first, last):
            if key.kind == layout.FREE_SPACE_EXTENT:
                found.add(key.object, key.object + key.offset)
            elif key.kind == layout.FREE_SPACE_BITMAP:
                for index in range(key.offset // sector):
                    if data[index // 8] >> index % 8 & 1:
                        at = key.object + index * sector
                        found.add(at, at + sector)
        return found

    def _check_device_extents(self) -> None:
        volume = self.volume
        expected = {
            (place, chunk.start, chunk.length) for chunk in volume.chunks for place in chunk.places
        }
        found = {
            (key.offset, int.from_bytes(data[16:24], "little"),
             int.from_bytes(data[24:32], "little"))
            for key, data in volume.all_items(volume.tree(layout.DEVICE_TREE))
            if key.kind == layout.DEVICE_EXTENT
        }  # fmt: skip
        for place, _start, _length in expected ^ found:
            self._say(f"device extent {place}", messages.DEVICE_EXTENT_DIFFERS)

    # -- data checksums

    def _check_sums(self, summed: RangeSet, extents: list[Extent]) -> None:
        """Each sector that needs a checksum has one, none is about what is not data; all hold."""
        volume, size = self.volume, self.volume.checksum_bytes
        sector = volume.superblock.sector_bytes
        data_extents = RangeSet(
            [(item.address, item.address + item.length) for item in extents if not item.is_node]
        )
        for start, end in self._iter_sums(size, sector):
            inside = sum(b - a for a, b in data_extents.within(start, end))
            if inside != end - start:
                self._say(f"checksums from {start}", messages.CHECKSUMS_OF_NO_DATA)
            summed.discard(start, end)
        for start, _end in summed:
            self._say(f"data {start}", messages.DATA_WITHOUT_CHECKSUM)

    def _lengths_by_chunk(self, start: int, length: int) -> Iterator[int]:
        """Yields the lengths of the parts of a range of addresses that lie in one chunk each."""
        for chunk in self.volume.chunks:
            first, last = max(start, chunk.start), min(start + length, chunk.start + chunk.length)
            if first < last:
                yield last - first

    def _compare_sums(self, start: int, length: int, sums: bytes) -> None:
        volume, size = self.volume, self.volume.checksum_bytes
        sector = volume.superblock.sector_bytes
        for place in volume.places_of(start, length):
            content = volume.store.read(place, length)
            for index in range(length // sector):
                made = volume.checksum(content[index * sector : (index + 1) * sector])
                if made != sums[index * size : (index + 1) * size]:
                    where = f"data {start + index * sector}"
                    self._say(where, messages.DATA_DIFFERS_FROM_CHECKSUM)
                    break

    def _iter_sums(self, size: int, sector: int) -> Iterator[tuple[int, int]]:
        """Yields the ranges that have checksums, each verified."""
        volume = self.volume
        root = volume.tree(layout.CHECKSUM_TREE)
        for key, data in volume.all_items(root):
            if key.kind != layout.EXTENT_CHECKSUM:
                continue
            start, count = key.offset, len(data) // size
            at = start
            for length in self._lengths_by_chunk(start, count * sector):  # it may cross an end
                sums = data[(at - start) // sector * size :]
                self._compare_sums(at, length, sums)
                at += length
            yield start, start + count * sector
