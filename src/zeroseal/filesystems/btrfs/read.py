"""A btrfs volume as a tree of numbered nodes: a subvolume, and those beneath it in their folders.

A node's number is the subvolume's, times 2^64, and the inode's. A subvolume in a folder is a folder
like any other, as the kernel shows it.
"""

from __future__ import annotations

import stat
from collections.abc import Iterator
from dataclasses import dataclass

from zeroseal.blocks.store import Store
from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.checksums import name_hash
from zeroseal.filesystems.btrfs.compression import unpack
from zeroseal.filesystems.btrfs.items import Piece, iter_names, iter_references, parse_piece
from zeroseal.filesystems.btrfs.layout import InodeItem, Key, NameHead, RootItem
from zeroseal.filesystems.btrfs.volume import BtrfsVolume, TreeRoot
from zeroseal.filesystems.tree import FolderEntry, Kind, NodeFacts
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


@dataclass(frozen=True)
class Subvolume:
    """A subvolume.

    Attributes:
        number: by which trees and mount options (``subvolid=``) know it.
        path: from the topmost subvolume, as ``subvol=`` has it.
        is_read_only: as snapshots for sending are.
    """

    number: int
    path: str
    is_read_only: bool


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
        self.root = self._top_of(subvolume or self.default_subvolume())

    @property
    def where(self) -> str:
        """The volume's name, for messages."""
        return self.volume.where

    def default_subvolume(self) -> int:
        """The number of the subvolume that is mounted where no option names one."""
        key = Key(layout.ROOT_DIRECTORY, layout.DIR_ITEM, name_hash(_DEFAULT))
        data = self.volume.find(self.volume.roots, key)
        for head, name, _value in self._names(data or b""):
            if name == _DEFAULT:
                return head.object
        return layout.FS_TREE

    def subvolumes(self) -> list[Subvolume]:
        """All subvolumes but the topmost, by number; those that are being deleted are left out."""
        above: dict[int, tuple[int, int, bytes]] = {}
        found: dict[int, RootItem] = {}
        first = Key(layout.FIRST_SUBVOLUME, 0, 0)
        last = Key(layout.LAST - layout.FIRST_SUBVOLUME, 255, layout.LAST)
        for key, data in self.volume.items(self.volume.roots, first, last):
            if key.kind == layout.ROOT_ITEM:
                found[key.object] = RootItem.parse(data[: RootItem.SIZE])
            elif key.kind == layout.ROOT_BACKREF:
                folder = int.from_bytes(data[:8], "little")
                length = int.from_bytes(data[16:18], "little")
                above[key.object] = (key.offset, folder, data[18 : 18 + length])
        return [
            Subvolume(
                number, self._path_of(number, above), bool(item.flags & layout.READ_ONLY_SUBVOLUME)
            )
            for number, item in sorted(found.items())
            if item.references and number in above
        ]

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
        return node >> 64, node & _INODE_MASK

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
            if reference[:8] != inode.to_bytes(8, "little") or reference[18:] != name:
                return FolderEntry(name, (tree << 64) | layout.EMPTY_FOLDER, Kind.FOLDER)
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
