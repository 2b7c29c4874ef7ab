"""The checker's look at subvolumes: inodes, names in both directions, extents of files."""

from __future__ import annotations

import stat
from collections import Counter, defaultdict
from collections.abc import Callable, Mapping

from zeroseal.blocks.ranges import RangeSet
from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.checksums import name_hash
from zeroseal.filesystems.btrfs.items import iter_names, iter_references, parse_piece
from zeroseal.filesystems.btrfs.layout import InodeItem, Key, NameHead, RootItem
from zeroseal.filesystems.btrfs.volume import BtrfsVolume, TreeRoot
from zeroseal.messages import btrfs as messages

Say = Callable[[str, str], None]
Target = tuple[int, int]  # (kind of the key, object)


class FileChecks:
    """Checks the subvolumes of a volume.

    Attributes:
        summed: the logical addresses of data that needs a checksum.
    """

    def __init__(
        self,
        volume: BtrfsVolume,
        subvolumes: Mapping[int, tuple[TreeRoot, RootItem]],
        say: Say,
    ) -> None:
        self.volume, self.subvolumes, self.say = volume, subvolumes, say
        self.summed = RangeSet([])

    def run(self) -> None:
        """All subvolumes, one after the other."""
        for number, (root, _item) in self.subvolumes.items():
            _Subvolume(self.volume, number, root, self.say, self.summed).check()


class _Subvolume:
    """What is collected of one subvolume."""

    def __init__(
        self, volume: BtrfsVolume, number: int, root: TreeRoot, say: Say, summed: RangeSet
    ) -> None:
        self.volume, self.number, self.root = volume, number, root
        self.say_of, self.summed = say, summed
        self.inodes: dict[int, InodeItem] = {}
        self.by_hash: dict[tuple[int, bytes], Target] = {}  # (folder, name)
        self.by_index: dict[tuple[int, int], tuple[bytes, Target, int]] = {}  # (folder, index)
        self.references: dict[tuple[int, int], tuple[int, bytes]] = {}  # (folder, index)
        self.stored: Counter[int] = Counter()
        self.ends: defaultdict[int, int] = defaultdict(int)
        self.orphans: set[int] = set()

    def check(self) -> None:
        """Reads the tree once, then compares what was collected."""
        handlers = {
            layout.DIR_ITEM: self._take_hashed,
            layout.DIR_INDEX: self._take_indexed,
            layout.INODE_REF: self._take_references,
            layout.EXTENDED_REF: self._take_references,
            layout.EXTENT_DATA: self._take_extent,
        }
        items = self.volume.all_items(self.root)
        for key, data in items:
            if key.kind == layout.INODE_ITEM:
                self.inodes[key.object] = InodeItem.parse(data[: InodeItem.SIZE])
            elif key.kind == layout.ORPHAN_ITEM and key.object == layout.ORPHANS:
                self.orphans.add(key.offset)
            elif key.kind in handlers:
                handlers[key.kind](key, data)
        self._compare_names()
        self._compare_inodes()

    def _say(self, inode: int, what: str) -> None:
        self.say_of(f"inode {inode} of tree {self.number}", what)

    def _take_hashed(self, key: Key, data: bytes) -> None:
        for head, name in self._names(key, data):
            if name_hash(name) != key.offset:
                self._say(key.object, messages.NAME_HASH_WRONG)
            self.by_hash[key.object, name] = head.kind, head.object

    def _take_indexed(self, key: Key, data: bytes) -> None:
        for head, name in self._names(key, data):
            self.by_index[key.object, key.offset] = name, (head.kind, head.object), head.type

    def _names(self, key: Key, data: bytes) -> list[tuple[NameHead, bytes]]:
        try:
            return [(head, name) for head, name, _value in iter_names(data)]
        except ValueError as error:
            self._say(key.object, str(error))
            return []

    def _take_references(self, key: Key, data: bytes) -> None:
        """Back references: (index, name) of each name that an inode has in a folder."""
        try:
            for folder, index, name in iter_references(key, data):
                if key.object != folder:  # the topmost folder refers to itself as ".."
                    self.references[folder, index] = key.object, name
        except ValueError as error:
            self._say(key.object, str(error))

    def _take_extent(self, key: Key, data: bytes) -> None:
        inode = self.inodes.get(key.object)
        if inode is None:
            self._say(key.object, messages.EXTENT_WITHOUT_INODE)
            return
        try:
            piece = parse_piece(key, data)
        except ValueError:
            return  # said of its leaf
        head, place = piece.head, piece.place
        sector = self.volume.superblock.sector_bytes
        if key.offset < self.ends[key.object]:
            self._say(key.object, messages.FILE_EXTENTS_OVERLAP)
        if place is None:
            self.stored[key.object] += head.plain_bytes
            self.ends[key.object] = key.offset + -(-head.plain_bytes // sector) * sector
            return
        self.ends[key.object] = key.offset + place.length
        if place.length % sector or key.offset % sector:
            self._say(key.object, messages.EXTENT_NOT_ALIGNED)
        if not place.address:
            return
        self.stored[key.object] += place.length
        if head.type == layout.REGULAR and not inode.flags & layout.NO_DATA_SUMS:
            if head.packing:
                self.summed.add(place.address, place.address + place.stored_bytes)
            else:
                start = place.address + place.offset
                self.summed.add(start, start + place.length)

    # -- comparing

    def _compare_names(self) -> None:
        """Names by hash, by index and from the inodes say the same."""
        listed = {(folder, name): target for (folder, _index), (name, target, _type) in
                  self.by_index.items()}  # fmt: skip
        for folder, name in listed.keys() ^ self.by_hash.keys():
            self._say(folder, messages.NAME_IN_ONE_LIST_ONLY.format(name=name))
        for place in listed.keys() & self.by_hash.keys():
            if listed[place] != self.by_hash[place]:
                self._say(place[0], messages.NAME_LEADS_TO_TWO.format(name=place[1]))
        for (folder, index), (name, (kind, child), code) in self.by_index.items():
            if kind == layout.ROOT_ITEM:
                continue
            if self.references.get((folder, index)) != (child, name):
                self._say(folder, messages.NAME_WITHOUT_REFERENCE.format(name=name))
            inode = self.inodes.get(child)
            if inode is None:
                self._say(folder, messages.NAME_LEADS_NOWHERE.format(name=name))
            elif layout.MODES.get(code) != stat.S_IFMT(inode.mode):
                self._say(folder, messages.NAME_HAS_WRONG_TYPE.format(name=name))
        for at, (child, name) in self.references.items():
            if at not in self.by_index:
                self._say(child, messages.REFERENCE_WITHOUT_NAME.format(name=name))

    def _compare_inodes(self) -> None:
        links = Counter(child for child, _name in self.references.values())
        sizes: Counter[int] = Counter()
        for (folder, _index), (name, _target, _type) in self.by_index.items():
            sizes[folder] += 2 * len(name)
        for number, inode in self.inodes.items():
            is_folder = stat.S_ISDIR(inode.mode)
            expected = 1 if is_folder else links[number]
            if inode.links != expected and number not in self.orphans:
                text = messages.LINK_COUNT_WRONG.format(stated=inode.links, counted=expected)
                self._say(number, text)
            if is_folder and inode.size != sizes[number]:
                self._say(number, messages.FOLDER_SIZE_WRONG)
            if not is_folder and inode.stored_bytes != self.stored[number]:
                self._say(number, messages.STORED_BYTES_WRONG)
            if number != layout.FIRST_INODE and not links[number] and number not in self.orphans:
                self._say(number, messages.INODE_WITHOUT_NAME)
