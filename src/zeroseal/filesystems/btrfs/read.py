"""A btrfs volume as a tree of numbered nodes: a subvolume, and those beneath it in their folders.

A node's number is the subvolume's, times 2^64, and the inode's. A subvolume in a folder is a folder
like any other, as the kernel shows it; one that is not shown is an empty folder, whose number has
its own, times 2^128, as well.
"""

from __future__ import annotations

import copy
import stat
from collections.abc import Iterator
from typing import Self

from zeroseal.blocks.store import Store
from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.checksums import name_hash
from zeroseal.filesystems.btrfs.compression import unpack
from zeroseal.filesystems.btrfs.items import Piece, iter_names, iter_references, parse_piece
from zeroseal.filesystems.btrfs.layout import InodeItem, Key, NameHead, RootItem
from zeroseal.filesystems.btrfs.volume import BtrfsVolume, TreeRoot, parse_root
from zeroseal.filesystems.tree import FolderEntry, Kind, NodeFacts, Subvolume
from zeroseal.messages import btrfs as messages

_KINDS = {
    stat.S_IFREG: Kind.FILE, stat.S_IFDIR: Kind.FOLDER, stat.S_IFLNK: Kind.LINK,
    stat.S_IFCHR: Kind.DEVICE, stat.S_IFBLK: Kind.DEVICE, stat.S_IFIFO: Kind.PIPE,
    stat.S_IFSOCK: Kind.SOCKET,
}  # fmt: skip
_KINDS_BY_ENTRY = {
    layout.KIND_FILE: Kind.FILE, layout.KIND_FOLDER: Kind.FOLDER, layout.KIND_LINK: Kind.LINK,
    layout.KIND_CHARACTER: Kind.DEVICE, layout.KIND_BLOCK: Kind.DEVICE,
    layout.KIND_PIPE: Kind.PIPE, layout.KIND_SOCKET: Kind.SOCKET,
}  # fmt: skip
_INODE_MASK = (1 << 64) - 1
_MOST_FILE_BYTES, _MOST_LINK_BYTES = 1 << 40, 1 << 16
_DEFAULT = b"default"
_MOST_DEPTH = 256
_SUBVOLUME_KEYS = (
    Key(layout.FIRST_SUBVOLUME, 0, 0), Key(layout.LAST_NUMBER, 255, layout.LAST)
)  # fmt: skip
_UUID, _PARENT_UUID = slice(247, 263), slice(263, 279)  # of a root item, where it is so long


class BtrfsTree:
    """A subvolume and those beneath it, read as a ``FileTree``; see there for the methods.

    Args:
        store: the volume.
        where: its name, for messages.
        subvolume: the number of the subvolume that is the root; 0 for the volume's default.

    Raises:
        ImageError, RefusedError: as ``BtrfsVolume`` does.
    """

    def __init__(self, store: Store, where: str = "the volume", subvolume: int = 0) -> None:
        self.volume = BtrfsVolume(store, where)
        self._roots: dict[int, TreeRoot] = {}
        self._hidden: frozenset[int] = frozenset()
        self.root = self._top_of(subvolume or self.default_subvolume())

    @property
    def where(self) -> str:
        """The volume's name, for messages."""
        return self.volume.where

    def at(self, node: int, hidden: frozenset[int] = frozenset()) -> Self:
        """The same volume with another folder as its root; both share all that is read.

        Subvolumes that are ``hidden`` are shown as empty folders.
        """
        found = copy.copy(self)
        found.root, found._hidden = node, hidden
        return found

    def default_subvolume(self) -> int:
        """The number of the subvolume that is mounted where no option names one."""
        key = Key(layout.ROOT_DIRECTORY, layout.DIR_ITEM, name_hash(_DEFAULT))
        data = self.volume.find(self.volume.roots, key)
        for head, name, _value in self._names(data or b""):
            if name == _DEFAULT:
                return head.object
        return layout.FS_TREE

    def subvolumes(self) -> list[Subvolume]:
        """All subvolumes, the topmost first; those that are being deleted are left out."""
        found = {number: (item, data) for number, _root, item, data in iter_roots(self.volume)}
        above = {
            key.object: (key.offset, int.from_bytes(data[:8], "little"), name_of_root(data))
            for key, data in self.volume.items(self.volume.roots, *_SUBVOLUME_KEYS)
            if key.kind == layout.ROOT_BACKREF
        }
        by_uuid = {
            data[_UUID]: number for number, (_item, data) in found.items() if any(data[_UUID])
        }
        default = self.default_subvolume()
        return [
            Subvolume(
                number,
                self._path_of(number, above),
                (number << 64) | (item.folder or layout.FIRST_INODE),
                by_uuid.get(data[_PARENT_UUID], 0),
                bool(item.flags & layout.READ_ONLY_SUBVOLUME),
                number == default,
            )
            for number, (item, data) in sorted(found.items())
            if item.references and (number in above or number == layout.FS_TREE)
        ]

    def subvolumes_within(self, number: int) -> list[tuple[int, str]]:
        """(number, path) of the subvolumes that one shows in its folders; ``/PATH`` is from it."""
        return [
            (key.offset, "/" + "/".join([*self._folders_above(number, folder), name]))
            for key, data in self.volume.items_of(self.volume.roots, number, layout.ROOT_REF)
            if key.offset not in self._hidden
            for folder in (int.from_bytes(data[:8], "little"),)
            for name in (name_of_root(data).decode("utf-8", "surrogateescape"),)
        ]

    def iter_shown(self) -> Iterator[tuple[int, str]]:
        """Yields (number, path) of the root's subvolume and of those within it that it shows."""
        waiting = [(self.root >> 64, "", 0)]
        while waiting:
            number, path, depth = waiting.pop()
            yield number, path
            if depth < _MOST_DEPTH:
                waiting += [
                    (child, f"{path}{own}", depth + 1)
                    for child, own in self.subvolumes_within(number)
                ]

    def path_in_subvolume(self, node: int) -> str:
        """A path of a node from its subvolume's topmost folder, by the first of its names."""
        tree, inode = self._split(node)
        return "/" + "/".join(self._folders_above(tree, inode))

    def find_child(self, folder: int, name: bytes) -> FolderEntry | None:
        """The entry of that name; ``.`` and ``..`` are never found."""
        tree, inode = self._split(folder)
        data = self.volume.find(self._root(tree), Key(inode, layout.DIR_ITEM, name_hash(name)))
        for head, found, _value in self._names(data or b""):
            if found == name:
                return self._entry(folder, head, found)
        if data is None:
            self._folder(folder)
        return None

    def list_folder(self, folder: int) -> list[FolderEntry]:
        """All entries but ``.`` and ``..``, in the order in which they were made."""
        self._folder(folder)
        tree, inode = self._split(folder)
        return [
            self._entry(folder, head, name)
            for _key, data in self.volume.items_of(self._root(tree), inode, layout.DIR_INDEX)
            for head, name, _value in self._names(data)
        ]

    def get_facts(self, node: int) -> NodeFacts:
        """The node's own data."""
        inode = self._inode(node)
        kind = _KINDS.get(stat.S_IFMT(inode.mode), Kind.UNKNOWN)
        return NodeFacts(
            kind=kind,
            mode=inode.mode & 0o7777,
            uid=inode.uid,
            gid=inode.gid,
            size_bytes=inode.size if kind in (Kind.FILE, Kind.LINK) else 0,
            link_count=inode.links,
            changed_at=max(inode.changed, inode.modified),
        )

    def read_file(self, node: int, limit_bytes: int | None = None) -> bytes:
        """A file's content, or its beginning; each sector that is read passes its checksum."""
        inode = self._inode(node)
        if not stat.S_ISREG(inode.mode):
            raise self.volume.damaged(messages.NOT_A_FILE.format(node=node & _INODE_MASK))
        size = inode.size if limit_bytes is None else min(inode.size, limit_bytes)
        return self._read(node, inode, size)

    def iter_pieces_read(self, node: int) -> Iterator[bytes]:
        """Yields a file's content piece by piece; holes are left out."""
        inode = self._inode(node)
        for piece in self._pieces(node):
            length = max(0, min(piece.length, inode.size - piece.start))
            if piece.place is None or piece.place.address:
                has_sums = not inode.flags & layout.NO_DATA_SUMS
                yield self._content(node, piece, length, has_sums=has_sums)

    def read_link(self, node: int) -> bytes:
        """A symbolic link's target."""
        inode = self._inode(node)
        if not stat.S_ISLNK(inode.mode) or inode.size > _MOST_LINK_BYTES:
            raise self.volume.damaged(messages.NOT_A_LINK.format(node=node & _INODE_MASK))
        return self._read(node, inode, inode.size)

    def iter_content(self, node: int, from_byte: int) -> Iterator[tuple[int, int]]:
        """Yields (offset, length) on the volume of a file's content that is stored unpacked."""
        size = self._inode(node).size
        for piece in self._pieces(node):
            place = piece.place
            start, end = max(from_byte, piece.start), min(size, piece.start + piece.length)
            stored = place is not None and place.address and piece.head.type == layout.REGULAR
            if place is None or not stored or piece.head.packing or start >= end:
                continue
            address = place.address + place.offset + start - piece.start
            yield self.volume.places_of(address, end - start)[0], end - start

    def read_attributes(self, node: int) -> dict[bytes, bytes]:
        """Extended attributes, by full name."""
        tree, inode = self._split(node)
        return {
            name: value
            for _key, data in self.volume.items_of(self._root(tree), inode, layout.XATTR_ITEM)
            for _head, name, value in self._names(data)
        }

    # -- inside

    def _split(self, node: int) -> tuple[int, int]:
        return (node >> 64) & _INODE_MASK, node & _INODE_MASK

    def _top_of(self, number: int) -> int:
        """The node of a subvolume's topmost folder."""
        self._roots[number], item = self.volume.read_tree(number)
        return (number << 64) | (item.folder or layout.FIRST_INODE)

    def _root(self, number: int) -> TreeRoot:
        if number not in self._roots:
            self._top_of(number)
        return self._roots[number]

    def _inode(self, node: int) -> InodeItem:
        tree, inode = self._split(node)
        if inode == layout.EMPTY_FOLDER:
            return InodeItem.blank(mode=stat.S_IFDIR | 0o755, links=1)
        data = self.volume.find(self._root(tree), Key(inode, layout.INODE_ITEM, 0))
        if data is None or len(data) < InodeItem.SIZE:
            raise self.volume.damaged(messages.INODE_MISSING.format(node=inode))
        return InodeItem.parse(data[: InodeItem.SIZE])

    def _folder(self, node: int) -> None:
        if not stat.S_ISDIR(self._inode(node).mode):
            raise self.volume.damaged(messages.NOT_A_FOLDER.format(node=node & _INODE_MASK))

    def _entry(self, folder: int, head: NameHead, name: bytes) -> FolderEntry:
        """An entry of a folder.

        A snapshot has the names of the subvolumes beneath its source, but not those: where no
        reference leads from its tree to one, the name is an empty folder, as for the kernel.
        """
        tree, inode = self._split(folder)
        if head.kind == layout.ROOT_ITEM:
            key = Key(tree, layout.ROOT_REF, head.object)
            reference = self.volume.find(self.volume.roots, key) or b""
            is_there = reference[:8] == inode.to_bytes(8, "little") and reference[18:] == name
            if not is_there or head.object in self._hidden:
                empty = (head.object << 128) | (tree << 64) | layout.EMPTY_FOLDER
                return FolderEntry(name, empty, Kind.FOLDER)
            return FolderEntry(name, self._top_of(head.object), Kind.FOLDER)
        kind = _KINDS_BY_ENTRY.get(head.type, Kind.UNKNOWN)
        return FolderEntry(name, (tree << 64) | head.object, kind)

    def _names(self, data: bytes) -> Iterator[tuple[NameHead, bytes, bytes]]:
        try:
            yield from iter_names(data)
        except ValueError as error:
            raise self.volume.damaged(str(error)) from error

    def _path_of(self, number: int, above: dict[int, tuple[int, int, bytes]]) -> str:
        """The path of a subvolume from the topmost one."""
        parts: list[str] = []
        seen = set()
        while number in above and number not in seen:
            seen.add(number)
            number, folder, name = above[number]
            parts.insert(0, name.decode("utf-8", "surrogateescape"))
            parts[:0] = self._folders_above(number, folder)
        return "/".join(parts)

    def _folders_above(self, tree: int, inode: int) -> list[str]:
        """The names from a subvolume's topmost folder to one of its folders."""
        names: list[str] = []
        root = self._root(tree)
        while inode != layout.FIRST_INODE and len(names) < 4096:
            found = next(self.volume.items_of(root, inode, layout.INODE_REF), None)
            if found is None:
                break
            try:
                inode, _index, name = next(iter_references(*found))
            except (ValueError, StopIteration) as error:
                raise self.volume.damaged(messages.NAME_DAMAGED) from error
            names.insert(0, name.decode("utf-8", "surrogateescape"))
        return names

    def _pieces(self, node: int) -> Iterator[Piece]:
        tree, inode = self._split(node)
        for key, data in self.volume.items_of(self._root(tree), inode, layout.EXTENT_DATA):
            try:
                piece = parse_piece(key, data)
            except ValueError as error:
                raise self.volume.damaged(str(error)) from error
            if piece.head.encryption:
                raise self.volume.unsupported(messages.ENCRYPTION)
            yield piece

    def _read(self, node: int, inode: InodeItem, size: int) -> bytes:
        if size > _MOST_FILE_BYTES:
            raise self.volume.damaged(messages.FILE_TOO_LARGE.format(node=node & _INODE_MASK))
        has_sums = not inode.flags & layout.NO_DATA_SUMS
        pieces, position = [], 0
        for piece in self._pieces(node):
            if piece.start >= size:
                break
            if piece.start < position:
                raise self.volume.damaged(messages.EXTENT_DAMAGED.format(node=node & _INODE_MASK))
            pieces.append(bytes(piece.start - position))
            content = self._content(node, piece, min(piece.length, size - piece.start), has_sums)
            pieces.append(content)
            position = piece.start + len(content)
        pieces.append(bytes(max(0, size - position)))
        return b"".join(pieces)

    def _content(self, node: int, piece: Piece, length: int, has_sums: bool) -> bytes:
        """The first bytes of a piece."""
        head, place = piece.head, piece.place
        sector = self.volume.superblock.sector_bytes
        try:
            if place is None:
                if not head.packing:
                    return piece.inline[:length].ljust(length, b"\0")
                return unpack(head.packing, piece.inline, head.plain_bytes, sector)[:length]
            if not place.address or head.type == layout.PREALLOCATED:
                return bytes(length)
            if not head.packing:
                start = place.offset // sector * sector
                end = -(-(place.offset + length) // sector) * sector
                stored = self._read_data(place.address + start, end - start, has_sums)
                return stored[place.offset - start :][:length]
            stored = self._read_data(place.address, place.stored_bytes, has_sums)
            plain = unpack(head.packing, stored, head.plain_bytes, sector)
            return plain[place.offset : place.offset + length].ljust(length, b"\0")
        except ValueError as error:
            inode = node & _INODE_MASK
            text = messages.FILE_CANNOT_BE_READ.format(node=inode, problem=error)
            raise self.volume.damaged(text) from error

    def _read_data(self, address: int, length: int, has_sums: bool) -> bytes:
        """Data from the first copy whose sectors pass their checksums."""
        places = self.volume.places_of(address, length)
        sums = self._sums(address, length) if has_sums else []
        for place in places:
            data = self.volume.store.read(place, length)
            if self._passes(data, sums):
                return data
        raise ValueError(messages.DATA_FAILS_CHECKSUM)

    def _passes(self, data: bytes, sums: list[bytes]) -> bool:
        sector = self.volume.superblock.sector_bytes
        return all(
            self.volume.checksum(data[at * sector : (at + 1) * sector]) == expected
            for at, expected in enumerate(sums)
        )

    def _sums(self, address: int, length: int) -> list[bytes]:
        """The checksums of a range of data, one a sector."""
        volume, size = self.volume, self.volume.checksum_bytes
        sector = volume.superblock.sector_bytes
        root = self._root(layout.CHECKSUM_TREE)
        reach = volume.superblock.node_bytes // size * sector
        first = Key(layout.CHECKSUMS, layout.EXTENT_CHECKSUM, max(0, address - reach))
        last = Key(layout.CHECKSUMS, layout.EXTENT_CHECKSUM, address + length - 1)
        found: dict[int, bytes] = {}
        for key, data in volume.items(root, first, last):
            for index in range(len(data) // size):
                place = key.offset + index * sector
                if address <= place < address + length:
                    found[place] = data[index * size : (index + 1) * size]
        wanted = range(address, address + length, sector)
        if any(place not in found for place in wanted):
            raise ValueError(messages.CHECKSUM_MISSING)
        return [found[place] for place in wanted]


def iter_subvolume_roots(volume: BtrfsVolume) -> Iterator[tuple[int, TreeRoot, RootItem]]:
    """Yields (number, root, item) of each subvolume that is not being deleted."""
    for number, root, item, _data in iter_roots(volume):
        if item.references:
            yield number, root, item


def iter_roots(volume: BtrfsVolume) -> Iterator[tuple[int, TreeRoot, RootItem, bytes]]:
    """Yields (number, root, item, its data) of each subvolume, those being deleted included."""
    top = (
        Key(layout.FS_TREE, layout.ROOT_ITEM, 0),
        Key(layout.FS_TREE, layout.ROOT_ITEM, layout.LAST),
    )
    for first, last in (top, _SUBVOLUME_KEYS):
        for key, data in volume.items(volume.roots, first, last):
            if key.kind == layout.ROOT_ITEM:
                yield key.object, *parse_root(data), data


def name_of_root(data: bytes) -> bytes:
    """The name of a subvolume in a reference to it."""
    return data[18 : 18 + int.from_bytes(data[16:18], "little")]
