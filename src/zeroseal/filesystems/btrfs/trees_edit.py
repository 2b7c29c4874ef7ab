"""Changing trees: items are put and dropped, nodes split, joined, copied where others share them.

A node that one tree alone refers to is changed where it lies. Its generation stays: what refers to
it still fits. One that a snapshot refers to as well is copied first, as the kernel does it
(``update_ref_for_cow``): references by owner become references by parent where the owner leaves.
A new node has the generation of the one that it comes from, because the kernel takes none beneath
a root to be younger than the root.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections import Counter
from typing import TYPE_CHECKING, Any

from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.extents import references_of
from zeroseal.filesystems.btrfs.layout import Header, Key, RootItem
from zeroseal.filesystems.btrfs.node_build import ITEM_BYTES, leaf_room, most_children
from zeroseal.filesystems.btrfs.space import Space
from zeroseal.filesystems.btrfs.volume import BtrfsVolume, Node, TreeRoot, parse_root

if TYPE_CHECKING:
    from zeroseal.filesystems.btrfs.extents_edit import ExtentEditor

Path = list[tuple[int, int]]  # (address, which of its entries) from the root down
_GENERATION_AGAIN = slice(239, 247)  # of a root item: it must equal the generation
_IN_RELOCATION = 2  # flag of a node


class TreeEditor:
    """The trees of a volume, to be changed; what changes waits in ``volume.changed``.

    Attributes:
        extents: the editor of references; set by the one that makes both.
        may_join: whether nodes that are nearly empty are joined with others.
    """

    extents: ExtentEditor

    def __init__(self, volume: BtrfsVolume, space: Space) -> None:
        self.volume, self.space = volume, space
        self.may_join = True
        self._roots: dict[int, TreeRoot] = {}
        self._own_alone: set[int] = set()
        self.gained: Counter[int] = Counter()  # nodes, by tree

    def root(self, number: int) -> TreeRoot:
        """Where a tree begins."""
        if number == layout.ROOT_TREE:
            return self.volume.roots
        if number == layout.CHUNK_TREE:
            return self.volume.chunk_root
        if number not in self._roots:
            self._roots[number] = self.volume.tree(number)
        return self._roots[number]

    def get(self, number: int, key: Key) -> bytes | None:
        """The data of one item; None where there is none."""
        return self.volume.find(self.root(number), key)

    def put(self, number: int, key: Key, data: bytes) -> None:
        """Adds an item, or gives the one with that key other data.

        Raises:
            NoSpaceError: there is no room for a further node.
        """
        self.space.look_ahead(number)
        path = self._descend(number, key)
        address, slot = path.pop()
        node = self.volume.read_node(address)
        is_there = slot < len(node.keys) and node.keys[slot] == key
        end = slot + is_there
        keys = (*node.keys[:slot], key, *node.keys[end:])
        values = (*node.data[:slot], data, *node.data[end:])
        self._store(number, path, address, node, keys, values)

    def drop(self, number: int, key: Key) -> None:
        """Removes an item, where there is one of that key."""
        self.drop_range(number, key, key)

    def drop_range(self, number: int, first: Key, last: Key) -> None:
        """Removes all items from one key to another, both included."""
        self.space.look_ahead(number)
        while True:
            found = next(self.volume.items(self.root(number), first, last), None)
            if found is None:
                return
            path = self._descend(number, found[0])
            address, slot = path.pop()
            node = self.volume.read_node(address)
            end = bisect_right(node.keys, last)
            keys = node.keys[:slot] + node.keys[end:]
            values = node.data[:slot] + node.data[end:]
            self._store(number, path, address, node, keys, values, is_less=True)

    def last_key(self, number: int, last: Key) -> Key | None:
        """The largest key of a tree that is not above one; None where all are."""
        root = self.root(number)
        node = self.volume.read_node(root.address, root.level)
        while node.level:
            slot = max(0, bisect_right(node.keys, last) - 1)
            node = self.volume.read_node(node.children[slot][0], node.level - 1)
        slot = bisect_right(node.keys, last) - 1
        return node.keys[slot] if slot >= 0 else None

    def make_own(self, number: int, address: int) -> int:
        """Makes a node one of this tree alone, whose parent already is; returns its address."""
        volume = self.volume
        if address in self._own_alone or not is_subvolume(number) or address in self.space.born:
            return address
        extent, node = self.extents.get(address), volume.read_node(address)
        by_parent = bool(extent.flags & layout.ALL_BY_PARENT)
        if extent.count == 1:
            if by_parent:
                self._refer_by_owner(number, node, address)
            self._own_alone.add(address)
            return address
        copy = self.space.take_node(number)
        self.gained[number] += 1
        made = self._with_head(node, copy, number)
        volume.changed[copy] = made
        if node.head.owner == number and not by_parent:
            for target, _by_owner, by_address in list(references_of(node, address)):
                self.extents.add(target, by_address)
            self.extents.set_all_by_parent(address, is_set=True)
        else:
            for target, by_owner, _by_address in list(references_of(made, copy)):
                self.extents.add(target, by_owner)
        self.extents.drop(address, ("root", number))
        return copy

    def set_root(self, number: int, address: int, level: int) -> None:
        """A tree begins at another node."""
        volume, top = self.volume, self.volume.superblock
        generation = volume.read_node(address).head.generation
        root = TreeRoot(address, level, generation)
        if number == layout.ROOT_TREE:
            volume.roots, top.root, top.root_level = root, address, level
            return
        if number == layout.CHUNK_TREE:
            volume.chunk_root, top.chunk_root, top.chunk_root_level = root, address, level
            top.chunk_root_generation = generation
            return
        self._roots[number] = root
        self.change_root_item(number, address=address, level=level, generation=generation)

    def forget_root(self, number: int) -> None:
        """A tree is gone."""
        self._roots.pop(number, None)
        self.gained.pop(number, None)

    def change_root_item(self, number: int, **values: int) -> None:
        """Changes fields of a tree's root item."""
        key, data = next(self.volume.items_of(self.volume.roots, number, layout.ROOT_ITEM))
        _root, item = parse_root(data)
        for name, value in values.items():
            setattr(item, name, value)
        made = bytearray(item.build() + data[RootItem.SIZE :])
        if len(made) >= _GENERATION_AGAIN.stop and "generation" in values:
            made[_GENERATION_AGAIN] = values["generation"].to_bytes(8, "little")
        if made != data:
            self.put(layout.ROOT_TREE, key, bytes(made))

    def give_back(self, number: int, address: int) -> None:
        """A node of a tree is no longer in use."""
        self.volume.forget(address)
        self.space.give_back_node(address)
        self._own_alone.discard(address)
        self.gained[number] -= 1

    # -- inside

    def _refer_by_owner(self, number: int, node: Node, address: int) -> None:
        """What a node refers to by its address is referred to by its tree from now on."""
        by_address = [target for _at, target in _by_address(node, address)]
        node.head.owner = number
        self.volume.changed[address] = node
        by_owner = list(references_of(node, address))
        for (target, own, _old), old in zip(by_owner, by_address, strict=True):
            self.extents.add(target, own)
            self.extents.drop(target, old)
        self.extents.set_all_by_parent(address, is_set=False)

    def _descend(self, number: int, key: Key) -> Path:
        """The path to where a key is or belongs; each node of it is this tree's alone."""
        root = self.root(number)
        address = self.make_own(number, root.address)
        if address != root.address:
            self.set_root(number, address, root.level)
        path: Path = []
        node = self.volume.read_node(address)
        while node.level:
            slot = max(0, bisect_right(node.keys, key) - 1)
            path.append((address, slot))
            address = self._own_child(number, address, slot)
            node = self.volume.read_node(address)
        return [*path, (address, bisect_left(node.keys, key))]

    def _own_child(self, number: int, address: int, slot: int) -> int:
        node = self.volume.read_node(address)
        child = node.children[slot][0]
        own = self.make_own(number, child)
        if own != child:
            pointer = (own, self.volume.read_node(own).head.generation)
            children = (*node.children[:slot], pointer, *node.children[slot + 1 :])
            self._write(address, node, node.keys, children)
        return own

    def _store(
        self,
        number: int,
        path: Path,
        address: int,
        node: Node,
        keys: tuple[Key, ...],
        values: tuple[Any, ...],
        is_less: bool = False,
    ) -> None:
        """Gives a node other entries; it is split, joined or removed where that is due.

        The path has the nodes above it; a leaf's values are data, an inner node's are children;
        ``is_less`` says that entries went.
        """
        if not keys and path:
            self.give_back(number, address)
            self._change_pointers(number, path, (), (), is_less=True)
            return
        if not path and node.level and len(keys) <= 1:
            self._lower_root(number, address, node, values)
            return
        parts = self._parts(node.level, values)
        pointers = []
        for index, (start, end) in enumerate(parts):
            own = address if not index else self._new_node(number, node)
            made = self._write(own, self.volume.read_node(own), keys[start:end], values[start:end])
            pointers.append((own, made.head.generation))
        firsts = tuple(keys[start] for start, _end in parts if keys)
        if not path:
            if len(parts) > 1:
                self._raise_root(number, node, firsts, tuple(pointers))
            return
        above, slot = self.volume.read_node(path[-1][0]), path[-1][1]
        if len(parts) > 1 or above.keys[slot] != firsts[0]:
            self._change_pointers(number, path, firsts, tuple(pointers))
        elif is_less and self.may_join:
            self._join(number, path, address)

    def _change_pointers(
        self,
        number: int,
        path: Path,
        keys: tuple[Key, ...],
        pointers: tuple[tuple[int, int], ...],
        is_less: bool = False,
        count: int = 1,
    ) -> None:
        """Puts other pointers in the place of ``count`` that the last node of a path has."""
        address, slot = path[-1]
        node = self.volume.read_node(address)
        keys = node.keys[:slot] + keys + node.keys[slot + count :]
        children = node.children[:slot] + pointers + node.children[slot + count :]
        self._store(number, path[:-1], address, node, keys, children, is_less)

    def _lower_root(self, number: int, address: int, node: Node, children: tuple[Any, ...]) -> None:
        """The root has one child, which becomes the root; or none, and becomes an empty leaf."""
        if not children:
            self.volume.changed[address] = Node(0, (), (), (), node.head)
            self.set_root(number, address, 0)
            return
        child = self.make_own(number, children[0][0])
        self.give_back(number, address)
        self.set_root(number, child, node.level - 1)
        below = self.volume.read_node(child)
        if below.level and len(below.keys) == 1:
            self._lower_root(number, child, below, below.children)

    def _raise_root(
        self, number: int, node: Node, keys: tuple[Key, ...], pointers: tuple[Any, ...]
    ) -> None:
        root = self._new_node(number, node, level=node.level + 1)
        self._write(root, self.volume.read_node(root), keys, pointers)
        self.set_root(number, root, node.level + 1)

    def _join(self, number: int, path: Path, address: int) -> None:
        """Joins a node that is nearly empty with one beside it, where both fit into one."""
        node = self.volume.read_node(address)
        room = self._room(node.level)
        own = self._size(node.level, node.children or node.data)
        if own * 3 > room:
            return
        above, slot = self.volume.read_node(path[-1][0]), path[-1][1]
        for left in (slot, slot - 1):
            if left < 0 or left + 1 >= len(above.keys):
                continue
            pair = [self.volume.read_node(above.children[at][0]) for at in (left, left + 1)]
            size = sum(self._size(one.level, one.children or one.data) for one in pair)
            if size > room * 9 // 10:
                continue
            first, second = (self._own_child(number, path[-1][0], at) for at in (left, left + 1))
            one, two = self.volume.read_node(first), self.volume.read_node(second)
            values = one.children + two.children if node.level else one.data + two.data
            made = self._write(first, one, one.keys + two.keys, values)
            self.give_back(number, second)
            path = [*path[:-1], (path[-1][0], left)]
            pointer = (first, made.head.generation)
            self._change_pointers(number, path, (made.keys[0],), (pointer,), is_less=True, count=2)
            return

    def _room(self, level: int) -> int:
        return most_children(self.volume) if level else leaf_room(self.volume)

    def _size(self, level: int, values: tuple[Any, ...]) -> int:
        """How much of a node's room its entries take."""
        return len(values) if level else sum(map(len, values)) + ITEM_BYTES * len(values)

    def _parts(self, level: int, values: tuple[Any, ...]) -> list[tuple[int, int]]:
        """(start, end) of the entries of each node that they take, about equally filled."""
        room, total = self._room(level), self._size(level, values)
        if total <= room:
            return [(0, len(values))]
        sizes = [1 if level else len(value) + ITEM_BYTES for value in values]
        wanted = total / -(-total // room)
        parts, start, filled = [], 0, 0
        for index, size in enumerate(sizes):
            if index > start and (filled + size > room or filled >= wanted):
                parts.append((start, index))
                start, filled = index, 0
            filled += size
        return [*parts, (start, len(values))]

    def _new_node(self, number: int, like: Node, level: int | None = None) -> int:
        address = self.space.take_node(number)
        self.gained[number] += 1
        head = self._head(like, address, number)
        level = like.level if level is None else level
        self.volume.changed[address] = Node(level, (), (), (), head)
        return address

    def _head(self, like: Node, address: int, number: int) -> Header:
        head = Header.parse(like.head.build())
        head.address, head.owner = address, number
        head.flags &= ~_IN_RELOCATION
        return head

    def _with_head(self, node: Node, address: int, number: int) -> Node:
        head = self._head(node, address, number)
        return Node(node.level, node.keys, node.children, node.data, head)

    def _write(
        self, address: int, node: Node, keys: tuple[Key, ...], values: tuple[Any, ...]
    ) -> Node:
        """A node with other entries, which will be written."""
        children, data = (values, ()) if node.level else ((), values)
        made = Node(node.level, keys, children, data, node.head)
        self.volume.changed[address] = made
        return made


def _by_address(node: Node, address: int) -> list[tuple[int, Any]]:
    return [(target, own) for target, _by_owner, own in references_of(node, address)]


def is_subvolume(number: int) -> bool:
    """Whether a tree is a subvolume, whose nodes a snapshot may share."""
    return number == layout.FS_TREE or layout.FIRST_SUBVOLUME <= number < 1 << 63
