"""Reading an ext volume as a tree of nodes; a node's number is its inode number."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from zeroseal.blocks.store import Store
from zeroseal.errors import DamagedError
from zeroseal.filesystems.ext import checksums, layout
from zeroseal.filesystems.ext.folders import (
    RawEntry,
    find_entry,
    has_tail,
    is_index_block,
    iter_entries,
)
from zeroseal.filesystems.ext.hashing import hash_name, settings_of
from zeroseal.filesystems.ext.index import IndexedBlocks, iter_leaves
from zeroseal.filesystems.ext.layout import INLINE_PARENT_BYTES, Inode
from zeroseal.filesystems.ext.mapping import Run, read_content, read_mapping
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.filesystems.ext.xattrs import read_attributes, read_inline_data
from zeroseal.filesystems.tree import FolderEntry, Kind, NodeFacts
from zeroseal.messages import ext as messages

_KINDS = {
    layout.MODE_FILE: Kind.FILE,
    layout.MODE_FOLDER: Kind.FOLDER,
    layout.MODE_LINK: Kind.LINK,
    layout.MODE_CHARACTER: Kind.DEVICE,
    layout.MODE_BLOCK: Kind.DEVICE,
    layout.MODE_PIPE: Kind.PIPE,
    layout.MODE_SOCKET: Kind.SOCKET,
}
_KINDS_BY_ENTRY = {code: _KINDS[mode] for mode, code in layout.ENTRY_TYPES.items()}
_MAX_FOLDER_BYTES = 4 << 30


class FolderBlock(NamedTuple):
    """A block of a folder, or a part of one that lies in its inode (``block_no`` is None)."""

    logical: int
    block_no: int | None
    content: bytes


class ExtTree:
    """An ext volume, read as a ``FileTree``; see there for the methods.

    Raises:
        ImageError, RefusedError: as ``ExtVolume`` does.
    """

    root = layout.ROOT_INODE

    def __init__(
        self, store: Store, where: str = "the volume", volume: ExtVolume | None = None
    ) -> None:
        self.volume = volume or ExtVolume(store, where)
        self._indexed: tuple[int, IndexedBlocks] | None = None
        self.has_types = bool(self.volume.superblock.incompat & layout.INCOMPAT_FILETYPE)

    @property
    def where(self) -> str:
        """The volume's name, for messages."""
        return self.volume.where

    def find_child(self, folder: int, name: bytes) -> FolderEntry | None:
        """The entry of that name; ``.`` and ``..`` are never found."""
        if name in (b".", b".."):
            return None
        for block in self.iter_blocks_for(folder, name):
            entry = find_entry(block.content, name, self.has_types)
            if entry:
                return FolderEntry(name, entry.inode, self._kind_of(entry))
        return None

    def list_folder(self, folder: int) -> list[FolderEntry]:
        """All entries but ``.`` and ``..``."""
        return [
            FolderEntry(entry.name, entry.inode, self._kind_of(entry))
            for block in self.iter_folder_blocks(folder)
            for entry in self.entries(folder, block.content)
            if entry.inode and entry.name not in (b".", b"..")
        ]

    def get_facts(self, node: int) -> NodeFacts:
        """The node's own data."""
        inode = self.get_inode(node)
        return NodeFacts(
            kind=_KINDS.get(inode.type, Kind.UNKNOWN),
            mode=inode.mode & 0o7777,
            uid=inode.uid,
            gid=inode.gid,
            size_bytes=inode.size,
            link_count=inode.link_count,
            changed_at=_last_change(inode),
        )

    def read_file(self, node: int, limit_bytes: int | None = None) -> bytes:
        """A file's content, or its beginning."""
        inode = self.get_inode(node)
        if inode.type != layout.MODE_FILE:
            raise self.volume.damaged(messages.INODE_NOT_REGULAR_FILE.format(node=node))
        return self._read_content(node, inode, limit_bytes)

    def read_link(self, node: int) -> bytes:
        """A symbolic link's target; a short one lies in the inode itself."""
        inode = self.get_inode(node)
        if inode.type != layout.MODE_LINK or inode.size > self.volume.block_bytes:
            raise self.volume.damaged(messages.INODE_NOT_SYMBOLIC_LINK.format(node=node))
        if is_short_link(self.volume, inode):
            return inode.block[: inode.size]
        return self._read_content(node, inode)

    def read_attributes(self, node: int) -> dict[bytes, bytes]:
        """Extended attributes, by full name."""
        return read_attributes(self.volume, node, self.get_inode(node))

    def iter_runs(self, node: int) -> Iterator[Run]:
        """Where a node's content lies on the volume."""
        inode = self.get_inode(node)
        if owns_blocks(self.volume, inode):
            yield from read_mapping(self.volume, node, inode).runs

    def iter_ranges(self, node: int) -> Iterator[tuple[int, int]]:
        """Yields (offset, length) in bytes of where a node's content lies on the volume."""
        size = self.volume.block_bytes
        for run in self.iter_runs(node):
            yield run.physical * size, run.blocks * size

    def iter_content(self, node: int, from_byte: int) -> Iterator[tuple[int, int]]:
        """Yields (offset, length) on the volume of a file's content from a byte of it on."""
        size = self.volume.block_bytes
        for run in self.iter_runs(node):
            skipped = max(0, from_byte - run.logical * size)
            if skipped < run.blocks * size:
                yield run.physical * size + skipped, run.blocks * size - skipped

    def _read_content(self, node: int, inode: Inode, limit_bytes: int | None = None) -> bytes:
        size = inode.size if limit_bytes is None else min(inode.size, limit_bytes)
        if inode.is_inline:
            content = b"".join(read_inline_data(self.volume, node, inode))
            if inode.size > len(content):
                raise self.volume.damaged(messages.FILE_LARGER_THAN_ITS_BLOCKS.format(node=node))
            return content[:size]
        return b"".join(read_content(self.volume, read_mapping(self.volume, node, inode), size))

    def get_inode(self, node: int) -> Inode:
        """An inode in use.

        Raises:
            DamagedError: it is free.
        """
        inode = self.volume.read_inode(node)
        if not inode.link_count or not inode.mode:
            raise self.volume.damaged(messages.NAMED_INODE_IS_FREE.format(node=node))
        return inode

    def _kind_of(self, entry: RawEntry) -> Kind:
        if self.has_types and entry.type_code in _KINDS_BY_ENTRY:
            return _KINDS_BY_ENTRY[entry.type_code]
        return _KINDS.get(self.volume.read_inode(entry.inode).type, Kind.UNKNOWN)

    def entries(self, folder: int, block: bytes) -> list[RawEntry]:
        """The entries of a block of a folder."""
        try:
            return list(iter_entries(block, self.has_types))
        except DamagedError as error:
            raise self.volume.damaged(
                messages.FOLDER_DAMAGED.format(folder=folder, message=error.message)
            ) from error

    def iter_folder_blocks(self, folder: int) -> Iterator[FolderBlock]:
        """Yields all blocks of a folder; those of its index too."""
        inode = self._get_folder(folder)
        if inode.is_inline:
            yield from self._inline_parts(folder, inode)
            return
        size = self.volume.block_bytes
        is_indexed = bool(inode.flags & layout.INODE_INDEX)
        seed = self.volume.inode_seed(folder, inode)
        for run in read_mapping(self.volume, folder, inode).runs:
            content = self.volume.read_block(run.physical, run.blocks)
            for number in range(run.blocks):
                block = content[number * size : (number + 1) * size]
                logical = run.logical + number
                if not (is_indexed and is_index_block(logical, block)):
                    self._check_folder_block(folder, seed, block)
                yield FolderBlock(logical, run.physical + number, block)

    def iter_blocks_for(self, folder: int, name: bytes) -> Iterator[FolderBlock]:
        """Yields the blocks of a folder that may hold a name: those that its index tells of."""
        inode = self._get_folder(folder)
        if not inode.flags & layout.INODE_INDEX or inode.is_inline:
            for block in self.iter_folder_blocks(folder):
                if name in block.content:
                    yield block
            return
        blocks = self.indexed_blocks(folder, inode)
        seed = self.volume.inode_seed(folder, inode)
        settings = settings_of(self.volume.superblock, blocks.root.hash_version, inode)
        for logical in iter_leaves(blocks.read, blocks.root, hash_name(name, settings)[0]):
            content = blocks.read(logical)
            self._check_folder_block(folder, seed, content)
            yield FolderBlock(logical, blocks.physical(logical), content)

    def indexed_blocks(self, folder: int, inode: Inode) -> IndexedBlocks:
        """The blocks of an indexed folder; those of the last one are kept for the next question."""
        if self._indexed is None or self._indexed[0] != folder:
            self._indexed = folder, IndexedBlocks(self.volume, folder, inode)
        return self._indexed[1]

    def forget_folder(self) -> None:
        """Has to be called when a folder's blocks change, or a folder goes."""
        self._indexed = None

    def _get_folder(self, folder: int) -> Inode:
        inode = self.get_inode(folder)
        if not inode.is_folder or inode.size > _MAX_FOLDER_BYTES:
            raise self.volume.damaged(messages.INODE_NOT_FOLDER.format(folder=folder))
        return inode

    def _inline_parts(self, folder: int, inode: Inode) -> Iterator[FolderBlock]:
        """The entries in an inode: behind the parent's number, and in its attribute."""
        head, rest = read_inline_data(self.volume, folder, inode)
        yield FolderBlock(0, None, head[INLINE_PARENT_BYTES:])
        if rest:
            yield FolderBlock(1, None, rest)

    def _check_folder_block(self, folder: int, seed: int, block: bytes) -> None:
        """Verifies a leaf's sum; those of index blocks are the checker's business."""
        if self.volume.has_checksums and has_tail(block):
            stored = int.from_bytes(block[-4:], "little")
            if checksums.folder_block_checksum(seed, block) != stored:
                raise self.volume.damaged(messages.FOLDER_FAILS_CHECKSUM.format(folder=folder))


def owns_blocks(volume: ExtVolume, inode: Inode) -> bool:
    """Whether an inode's block field is a mapping (and not content, or a device's number)."""
    if inode.is_inline:
        return False
    if inode.type == layout.MODE_LINK:
        return not is_short_link(volume, inode)
    return inode.type in (layout.MODE_FILE, layout.MODE_FOLDER)


def is_short_link(volume: ExtVolume, inode: Inode) -> bool:
    """Whether a symbolic link's target lies in the inode: it has no blocks but for attributes."""
    if inode.flags & (layout.INODE_EXTENTS | layout.INODE_INLINE_DATA):
        return False
    if volume.superblock.incompat & layout.INCOMPAT_EA_INODE:
        return inode.size < 60
    xattr_sectors = volume.block_bytes * volume.cluster_blocks // 512 if inode.xattr_block else 0
    return inode.sectors == xattr_sectors and inode.size < 60


def _last_change(inode: Inode) -> int:
    if not inode.has_extra_times:
        return max(_seconds(inode.changed_at, 0), _seconds(inode.modified_at, 0))
    return max(
        _seconds(inode.changed_at, inode.changed_extra),
        _seconds(inode.modified_at, inode.modified_extra),
    )


def _seconds(base: int, extra: int) -> int:
    """Seconds since 1970: a signed base, and two more bits above it."""
    signed = base - (1 << 32) if base & 0x80000000 else base
    return signed + ((extra & 3) << 32)
