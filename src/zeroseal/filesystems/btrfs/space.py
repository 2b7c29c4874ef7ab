"""Room on a volume while it is changed: what is free in each block group, taken and given back.

Nothing here writes a tree. Nodes that were taken or given back are listed until ``ledger.py`` has
told the extent tree.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from zeroseal.blocks.ranges import RangeSet
from zeroseal.errors import NoSpaceError
from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.layout import Key
from zeroseal.filesystems.btrfs.volume import BtrfsVolume
from zeroseal.messages import btrfs as messages

_CHUNK_OBJECT_BYTES = 24
_MOST_NODES_OF_A_CHANGE = 64  # three at each of eight levels, of a tree and of those that follow


@dataclass
class Group:
    """A block group.

    Attributes:
        start, length: logical addresses.
        flags: what it may hold.
        used: how many bytes of it are in use.
        free: what is not in use; None until it is asked for.
        is_changed: whether that differs from what the trees say.
    """

    start: int
    length: int
    flags: int
    used: int
    free: RangeSet | None = None
    is_changed: bool = False
    held: RangeSet = field(default_factory=RangeSet)

    @property
    def end(self) -> int:
        """Where it ends, exclusive."""
        return self.start + self.length


class Space:
    """The free space of a volume.

    Args:
        volume: to be changed.
        zero_removed: whether what is given back is zeroed.

    Attributes:
        born: nodes that were taken, by address: the tree that each is of.
        gone: addresses of nodes that are no longer in use; they are not taken again before the
            extent tree has been told.
    """

    def __init__(self, volume: BtrfsVolume, zero_removed: bool) -> None:
        self._volume, self._zero_removed = volume, zero_removed
        self.groups = [
            Group(key.object, key.offset, int.from_bytes(data[16:24], "little"),
                  int.from_bytes(data[:8], "little"))
            for key, data in iter_group_items(volume)
        ]  # fmt: skip
        self.born: dict[int, int] = {}
        self.gone: set[int] = set()

    def take_node(self, tree: int) -> int:
        """The address of a new node.

        Raises:
            NoSpaceError: there is no room for one.
        """
        size = self._volume.superblock.node_bytes
        for group in self._groups_of(_kind_for(tree)):
            for start, end in self._usable(group):
                address = -(-start // size) * size
                if address + size <= end:
                    self._take(group, address, size)
                    self.born[address] = tree
                    return address
        raise self._full()

    def look_ahead(self, tree: int) -> None:
        """Finds out what is free for the nodes of a tree, before a change of any tree begins.

        Room is read from the extent tree, which is not whole while it, or the tree of roots, is
        being changed.
        """
        needed = _MOST_NODES_OF_A_CHANGE * self._volume.superblock.node_bytes
        for group in self._groups_of(_kind_for(tree)):
            self._free_of(group)
            if group.length - group.used - group.held.total >= needed:
                return

    def give_back_node(self, address: int) -> None:
        """A node is no longer in use."""
        if self.born.pop(address, None) is not None:
            self.give_back(address, self._volume.superblock.node_bytes)
        else:
            self.gone.add(address)

    def take_data(self, length: int) -> list[tuple[int, int]]:
        """(address, length) of room for so many bytes, in as few pieces as there can be.

        Raises:
            NoSpaceError: there is not so much.
        """
        found: list[tuple[int, int, Group]] = []
        most = layout.MOST_EXTENT_BYTES
        for group in self._groups_of(layout.GROUP_OF_DATA):
            for start, end in self._usable(group):
                if end - start >= length and length <= most:
                    self._take(group, start, length)
                    return [(start, length)]
                found += [(at, min(most, end - at), group) for at in range(start, end, most)]
        if sum(size for _start, size, _group in found) < length:
            raise self._full()
        taken = []
        for start, size, group in sorted(found, key=lambda one: -one[1]):
            size = min(size, length)
            self._take(group, start, size)
            taken.append((start, size))
            length -= size
            if not length:
                break
        return taken

    def give_back(self, address: int, length: int) -> None:
        """What lies there is no longer in use."""
        for group in self.groups:
            if group.start <= address < group.end:
                self._free_of(group).add(address, address + length)
                group.used -= length
                group.is_changed = True
        if self._zero_removed:
            for place in self._volume.places_of(address, length):
                self._volume.store.zero(place, length)

    # -- inside

    def _full(self) -> NoSpaceError:
        return NoSpaceError(messages.VOLUME_FULL.format(where=self._volume.where))

    def _groups_of(self, kind: int) -> Iterator[Group]:
        return (group for group in self.groups if group.flags & kind)

    def _take(self, group: Group, address: int, length: int) -> None:
        self._free_of(group).discard(address, address + length)
        group.used += length
        group.is_changed = True

    def _usable(self, group: Group) -> Iterator[tuple[int, int]]:
        """Yields what is free but for what is held back around superblocks."""
        if group.length - group.used <= 0:
            return
        for start, end in list(self._free_of(group)):
            at = start
            for first, last in group.held.within(start, end):
                if at < first:
                    yield at, first
                at = last
            if at < end:
                yield at, end

    def _free_of(self, group: Group) -> RangeSet:
        if group.free is None:
            group.free = RangeSet([(group.start, group.end)])
            for start, end in iter_used(self._volume, group.start, group.end):
                group.free.discard(start, end)
            group.held = held_around_superblocks(self._volume, group.start)
        return group.free


def _kind_for(tree: int) -> int:
    """The kind of the block groups that the nodes of a tree lie in."""
    return layout.GROUP_OF_SYSTEM if tree == layout.CHUNK_TREE else layout.GROUP_OF_NODES


def iter_group_items(volume: BtrfsVolume) -> Iterator[tuple[Key, bytes]]:
    """Yields the items of the block groups."""
    root = volume.tree(group_tree(volume))
    for chunk in volume.chunks:
        key = Key(chunk.start, layout.BLOCK_GROUP_ITEM, chunk.length)
        data = volume.find(root, key)
        if data is None or len(data) < _CHUNK_OBJECT_BYTES:
            raise volume.damaged(messages.GROUP_MISSING.format(address=chunk.start))
        yield key, data


def group_tree(volume: BtrfsVolume) -> int:
    """The number of the tree that the block groups are listed in."""
    has_own = volume.superblock.compat_ro & layout.GROUP_TREE_FEATURE
    return layout.BLOCK_GROUP_TREE if has_own else layout.EXTENT_TREE


def iter_used(volume: BtrfsVolume, start: int, end: int) -> Iterator[tuple[int, int]]:
    """Yields (start, end) of the extents that begin within a range of addresses."""
    root, node_bytes = volume.tree(layout.EXTENT_TREE), volume.superblock.node_bytes
    for key, _data in volume.items(root, Key(start, 0, 0), Key(end - 1, 255, layout.LAST)):
        if key.kind == layout.EXTENT_ITEM:
            yield key.object, key.object + key.offset
        elif key.kind == layout.METADATA_ITEM:
            yield key.object, key.object + node_bytes


def held_around_superblocks(volume: BtrfsVolume, start: int) -> RangeSet:
    """Logical addresses of a chunk that are never taken: a superblock lies there."""
    held = RangeSet()
    for chunk in volume.chunks:
        if chunk.start != start:
            continue
        areas = [(0, layout.BOOT_AREA_BYTES)]
        areas += [(at, at + layout.STRIPE_BYTES) for at in layout.MIRRORS_AT]
        for place in chunk.places:
            for first, last in areas:
                shift = chunk.start - place
                held.add(max(first, place) + shift, min(last, place + chunk.length) + shift)
    return held
