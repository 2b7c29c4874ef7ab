"""Bringing a changed volume to its store: the extent tree, free space, counters, superblocks."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.blocks.ranges import RangeSet
from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.extents_edit import ExtentEditor
from zeroseal.filesystems.btrfs.layout import Backup, Key, RootItem
from zeroseal.filesystems.btrfs.node_build import build_node, with_checksum
from zeroseal.filesystems.btrfs.space import Group, Space, group_tree
from zeroseal.filesystems.btrfs.trees_edit import TreeEditor
from zeroseal.filesystems.btrfs.volume import BtrfsVolume

_USING_BITMAPS = 1  # flag of what the free-space tree says of a group
_WITH_FREE_SPACE_TREE = layout.FREE_SPACE_FEATURE | layout.FREE_SPACE_VALID


class Ledger:
    """Writes what an editor has changed.

    Args:
        trees: of the volume.
        extents: its references.
    """

    def __init__(self, trees: TreeEditor, extents: ExtentEditor) -> None:
        self._trees, self._extents = trees, extents
        self._volume: BtrfsVolume = trees.volume
        self._space: Space = trees.space

    def write(self) -> None:
        """Writes all that was changed; nothing where nothing was."""
        self._trees.may_join = False
        self._settle()
        self._trees.may_join = True
        if not self._volume.changed:
            return
        for address, node in self._volume.changed.items():
            raw = build_node(self._volume, node)
            for place in self._volume.places_of(address, len(raw)):
                self._volume.store.write(place, raw)
        self._volume.keep_changed()
        self._write_superblocks()

    # -- inside

    def _settle(self) -> None:
        """Tells the trees of each other's nodes until nothing new comes of it."""
        space = self._space
        while True:
            while space.born or space.gone or self._trees.gained:
                self._tell_nodes()
            changed = [group for group in space.groups if group.is_changed]
            if not changed:
                return
            for group in changed:
                group.is_changed = False
                self._write_group(group)

    def _tell_nodes(self) -> None:
        space, trees = self._space, self._trees
        for number, nodes in list(trees.gained.items()):
            del trees.gained[number]
            self._count_nodes(number, nodes)
        gone, space.gone = space.gone, set()
        for address in sorted(gone):
            self._extents.forget(address)
        for address in sorted(gone):
            space.give_back(address, self._volume.superblock.node_bytes)
        for address, number in sorted(space.born.items()):
            if address in space.born:
                del space.born[address]
                self._extents.create_node(address, number)

    def _count_nodes(self, number: int, nodes: int) -> None:
        """Keeps how many bytes a tree takes, which its root item notes."""
        found = next(self._volume.items_of(self._volume.roots, number, layout.ROOT_ITEM), None)
        if found and nodes:
            used = RootItem.parse(found[1][: RootItem.SIZE]).used_bytes
            used += nodes * self._volume.superblock.node_bytes
            self._trees.change_root_item(number, used_bytes=used)

    def _write_group(self, group: Group) -> None:
        tree = group_tree(self._volume)
        key = Key(group.start, layout.BLOCK_GROUP_ITEM, group.length)
        data = self._trees.get(tree, key) or b""
        self._trees.put(tree, key, group.used.to_bytes(8, "little") + data[8:])
        features = self._volume.superblock.compat_ro
        if features & _WITH_FREE_SPACE_TREE == _WITH_FREE_SPACE_TREE:
            self._write_free_space(group)

    def _write_free_space(self, group: Group) -> None:
        number, volume = layout.FREE_SPACE_TREE, self._volume
        free = group.free or RangeSet()
        first, last = Key(group.start, 0, 0), Key(group.end - 1, 255, layout.LAST)
        there = dict(volume.items(self._trees.root(number), first, last))
        info = Key(group.start, layout.FREE_SPACE_INFO, group.length)
        flags = there.get(info, b"")[4:8] or bytes(4)
        wanted = {info: len(free).to_bytes(4, "little") + flags}
        if int.from_bytes(flags, "little") & _USING_BITMAPS:
            for key in there:
                if key.kind == layout.FREE_SPACE_BITMAP:
                    wanted[key] = self._bitmap(key, len(there[key]), free)
        else:
            for start, end in free:
                wanted[Key(start, layout.FREE_SPACE_EXTENT, end - start)] = b""
        for key, data in wanted.items():
            if there.get(key) != data:
                self._trees.put(number, key, data)
        for key in there.keys() - wanted.keys():
            self._trees.drop(number, key)

    def _bitmap(self, key: Key, size: int, free: RangeSet) -> bytes:
        sector, bits = self._volume.superblock.sector_bytes, 0
        for start, end in free.within(key.object, key.object + key.offset):
            first, count = (start - key.object) // sector, (end - start) // sector
            bits |= ((1 << count) - 1) << first
        return bits.to_bytes(size, "little")

    def _write_superblocks(self) -> None:
        volume, top = self._volume, self._volume.superblock
        top.used_bytes = sum(group.used for group in self._space.groups)
        if not top.compat_ro & layout.FREE_SPACE_FEATURE and top.cache_generation:
            top.cache_generation = layout.LAST  # a cache in files is made anew by the next mount
        raw = bytearray(top.build())
        self._write_backup(raw)
        volume.superblock = type(top).parse(bytes(raw))
        write_superblocks(volume)

    def _write_backup(self, raw: bytearray) -> None:
        """The newest of the backups names the same trees as the superblock."""
        top = self._volume.superblock
        for number in range(layout.BACKUPS):
            at = layout.BACKUPS_AT + number * Backup.SIZE
            backup = Backup.parse(bytes(raw[at : at + Backup.SIZE]))
            if backup.root_generation == top.generation:
                raw[at : at + Backup.SIZE] = self._backup(backup).build()

    def _backup(self, backup: Backup) -> Backup:
        roots = {
            "root": self._trees.root(layout.ROOT_TREE),
            "chunk_root": self._trees.root(layout.CHUNK_TREE),
            "extent_root": self._trees.root(layout.EXTENT_TREE),
            "fs_root": self._trees.root(layout.FS_TREE),
            "device_root": self._trees.root(layout.DEVICE_TREE),
            "checksum_root": self._trees.root(layout.CHECKSUM_TREE),
        }
        for name, root in roots.items():
            setattr(backup, name, root.address)
            setattr(backup, f"{name}_level", root.level)
            generation = self._volume.read_node(root.address).head.generation
            setattr(backup, f"{name}_generation", generation)
        backup.used_bytes = self._volume.superblock.used_bytes
        return backup


def write_superblocks(volume: BtrfsVolume) -> None:
    """Writes a volume's superblock, and its copies."""
    top = volume.superblock
    for place in superblock_places(volume):
        top.offset = place
        volume.store.write(place, with_checksum(volume, top.build()))
    top.offset = layout.SUPERBLOCK_AT


def superblock_places(volume: BtrfsVolume) -> Iterator[int]:
    """Yields where the superblock and its copies lie."""
    for place in (layout.SUPERBLOCK_AT, *layout.MIRRORS_AT):
        if place + layout.SUPERBLOCK_BYTES <= volume.superblock.size_bytes:
            yield place
