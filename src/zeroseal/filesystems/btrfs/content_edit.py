"""Changing the content of files: extents taken, cut and given back, with their checksums."""

from __future__ import annotations

import struct

from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.extents import Reference
from zeroseal.filesystems.btrfs.extents_edit import ExtentEditor
from zeroseal.filesystems.btrfs.items import Piece, parse_piece
from zeroseal.filesystems.btrfs.layout import ExtentHead, InodeItem, Key
from zeroseal.filesystems.btrfs.node_build import ITEM_BYTES, leaf_room
from zeroseal.filesystems.btrfs.sums_edit import SumEditor
from zeroseal.filesystems.btrfs.trees_edit import TreeEditor

_MOST_INLINE_BYTES = 2048


class ContentEditor:
    """The content of a volume's files, to be changed.

    Files are given by the tree that they are of, their number there and their inode, which the
    caller writes.

    Attributes:
        loosened: addresses of extents that fewer refer to than before, and maybe not to all of it.
    """

    def __init__(self, trees: TreeEditor, extents: ExtentEditor, sums: SumEditor) -> None:
        self._trees, self._extents, self._sums = trees, extents, sums
        self._volume, self._space = trees.volume, trees.space
        self._sector = self._volume.superblock.sector_bytes
        self.loosened: set[int] = set()

    def most_inline_bytes(self) -> int:
        """The most content that a leaf may hold."""
        return leaf_room(self._volume) - ITEM_BYTES - ExtentHead.SIZE

    def pieces(self, tree: int, number: int) -> list[Piece]:
        """The pieces of a file, in order."""
        root = self._trees.root(tree)
        items = self._volume.items_of(root, number, layout.EXTENT_DATA)
        try:
            return [parse_piece(key, data) for key, data in items]
        except ValueError as error:
            raise self._volume.damaged(str(error)) from error

    def write(self, tree: int, number: int, inode: InodeItem, content: bytes) -> None:
        """Gives a file without content some."""
        inode.size = len(content)
        most = min(_MOST_INLINE_BYTES, self._sector - 1, self.most_inline_bytes())
        if 0 < len(content) <= most:
            self.put_inline(tree, number, inode, content)
        else:
            self.put(tree, number, inode, 0, content)

    def put_inline(self, tree: int, number: int, inode: InodeItem, content: bytes) -> None:
        """Keeps a file's content in its leaf."""
        head = ExtentHead.blank(
            generation=self._volume.superblock.generation, plain_bytes=len(content)
        )
        self._trees.put(tree, Key(number, layout.EXTENT_DATA, 0), head.build() + content)
        inode.stored_bytes += len(content)

    def put(self, tree: int, number: int, inode: InodeItem, start: int, content: bytes) -> None:
        """Writes content where a file has none; its end is filled with zeros.

        It begins at ``start`` in the file, a multiple of a sector.
        """
        if not content:
            return
        whole = content.ljust(-(-len(content) // self._sector) * self._sector, b"\0")
        done = 0
        for address, length in self._space.take_data(len(whole)):
            part = whole[done : done + length]
            for place in self._volume.places_of(address, length):
                self._volume.store.write(place, part)
            if not inode.flags & layout.NO_DATA_SUMS:
                self._sums.add(address, self._sums.make(part))
            at = start + done
            self._put_piece(tree, number, at, (address, length, 0, length))
            self._extents.create_data(address, length, tree, ("file", tree, number, at))
            done += length
        inode.stored_bytes += len(whole)

    def drop(self, tree: int, number: int, inode: InodeItem, start: int = 0) -> None:
        """Drops the content of a file from ``start`` on, a multiple of a sector."""
        gone = [piece for piece in self.pieces(tree, number) if piece.start + piece.length > start]
        cut = gone[0] if gone and gone[0].start < start else None
        first = Key(number, layout.EXTENT_DATA, start)
        self._trees.drop_range(tree, first, Key(number, layout.EXTENT_DATA, layout.LAST))
        if cut is not None:
            self._cut(tree, number, inode, cut, start)
        for piece in gone:
            place = piece.place
            if piece is cut or (place is not None and not place.address):
                continue
            inode.stored_bytes -= piece.length
            if place is None:
                continue
            reference = ("file", tree, number, (piece.start - place.offset) & layout.LAST)
            self.release(place.address, reference)

    def release(self, address: int, reference: Reference) -> None:
        """Drops a reference to data, and the data with its checksums where it was the last."""
        length = self._extents.drop(address, reference)
        if length:
            self._sums.drop(address, length)
            self._space.give_back(address, length)
        else:
            self.loosened.add(address)

    def put_hole(self, tree: int, number: int, start: int, end: int) -> None:
        """Notes a hole, where the volume does so."""
        start, end = (-(-at // self._sector) * self._sector for at in (start, end))
        if start < end and not self._volume.superblock.incompat & layout.HAS_NO_HOLE_ITEMS:
            self._put_piece(tree, number, start, (0, 0, 0, end - start))

    def zero(self, address: int, content: bytes, has_sums: bool) -> None:
        """Puts whole sectors in the place of some that no one else refers to."""
        for place in self._volume.places_of(address, len(content)):
            self._volume.store.write(place, content)
        if has_sums:
            self._sums.replace(address, self._sums.make(content))

    # -- inside

    def _cut(self, tree: int, number: int, inode: InodeItem, piece: Piece, end: int) -> None:
        """A piece ends sooner; its extent stays whole."""
        key = Key(number, layout.EXTENT_DATA, piece.start)
        data = self._trees.get(tree, key) or b""
        kept = end - piece.start
        self._trees.put(tree, key, data[:45] + kept.to_bytes(8, "little") + data[53:])
        if piece.place is not None and piece.place.address:
            inode.stored_bytes -= piece.length - kept
            self.loosened.add(piece.place.address)

    def _put_piece(
        self, tree: int, number: int, start: int, place: tuple[int, int, int, int]
    ) -> None:
        plain_bytes = place[1] or place[3]
        head = ExtentHead.blank(
            generation=self._volume.superblock.generation, plain_bytes=plain_bytes,
            type=layout.REGULAR,
        )  # fmt: skip
        data = head.build() + struct.pack("<QQQQ", *place)
        self._trees.put(tree, Key(number, layout.EXTENT_DATA, start), data)
