"""Reading an ext volume as a tree of nodes; a node's number is its inode number."""

from __future__ import annotations

from collections.abc import Iterator

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
from zeroseal.filesystems.ext.layout import Inode
from zeroseal.filesystems.ext.mapping import Mapping, Run, read_mapping
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.filesystems.ext.xattrs import read_attributes
from zeroseal.filesystems.tree import FolderEntry, Kind, NodeFacts

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
_MAX_FOLDER_BYTES = 1 << 30
_READ_PIECE_BYTES = 4 << 20


class ExtTree:
    """An ext volume, read as a ``FileTree``; see there for the methods.

    Raises:
        ImageError, RefusedError: as ``ExtVolume`` does.
    """

    root = layout.ROOT_INODE

    def __init__(self, store: Store, where: str = "the volume") -> None:
        self.volume = ExtVolume(store, where)
        self._has_types = bool(self.volume.superblock.incompat & layout.INCOMPAT_FILETYPE)

    def find_child(self, folder: int, name: bytes) -> FolderEntry | None:
        """The entry of that name; ``.`` and ``..`` are never found."""
        if name in (b".", b".."):
            return None
        for _logical, _block_no, block in self._iter_folder_blocks(folder, holding=name):
            entry = find_entry(block, name, self._has_types)
            if entry:
                return FolderEntry(name, entry.inode, self._kind_of(entry))
        return None

    def list_folder(self, folder: int) -> list[FolderEntry]:
        """All entries but ``.`` and ``..``."""
        return [
            FolderEntry(entry.name, entry.inode, self._kind_of(entry))
            for _logical, _block_no, block in self._iter_folder_blocks(folder)
            for entry in self._entries(folder, block)
            if entry.inode and entry.name not in (b".", b"..")
        ]

    def get_facts(self, node: int) -> NodeFacts:
        """The node's own data."""
        inode = self._get_inode(node)
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
        inode = self._get_inode(node)
        if inode.type != layout.MODE_FILE:
            raise self.volume.damaged(f"inode {node} should be a file")
        size = inode.size if limit_bytes is None else min(inode.size, limit_bytes)
        mapping = read_mapping(self.volume, node, inode)
        return b"".join(self._iter_content(mapping, size))

    def read_link(self, node: int) -> bytes:
        """A symbolic link's target; a short one lies in the inode itself."""
        inode = self._get_inode(node)
        if inode.type != layout.MODE_LINK or inode.size > self.volume.block_bytes:
            raise self.volume.damaged(f"inode {node} should be a symbolic link")
        if is_short_link(self.volume, inode):
            return inode.block[: inode.size]
        mapping = read_mapping(self.volume, node, inode)
        return b"".join(self._iter_content(mapping, inode.size))

    def read_attributes(self, node: int) -> dict[bytes, bytes]:
        """Extended attributes, by full name."""
        return read_attributes(self.volume, node, self._get_inode(node))

    def iter_runs(self, node: int) -> Iterator[Run]:
        """Where a node's content lies on the volume."""
        inode = self._get_inode(node)
        if owns_blocks(self.volume, inode):
            yield from read_mapping(self.volume, node, inode).runs

    def iter_ranges(self, node: int) -> Iterator[tuple[int, int]]:
        """Yields (offset, length) in bytes of where a node's content lies on the volume."""
        size = self.volume.block_bytes
        for run in self.iter_runs(node):
            yield run.physical * size, run.blocks * size

    def _get_inode(self, node: int) -> Inode:
        inode = self.volume.read_inode(node)
        if not inode.link_count or not inode.mode:
            raise self.volume.damaged(f"inode {node} is named, but free")
        return inode

    def _kind_of(self, entry: RawEntry) -> Kind:
        if self._has_types and entry.type_code in _KINDS_BY_ENTRY:
            return _KINDS_BY_ENTRY[entry.type_code]
        return _KINDS.get(self.volume.read_inode(entry.inode).type, Kind.UNKNOWN)

    def _entries(self, folder: int, block: bytes) -> list[RawEntry]:
        try:
            return list(iter_entries(block, self._has_types))
        except DamagedError as error:
            raise self.volume.damaged(f"folder {folder}: {error.message}") from error

    def _iter_folder_blocks(
        self, folder: int, holding: bytes = b""
    ) -> Iterator[tuple[int, int, bytes]]:
        """Yields (logical, physical, content) of each block, or only of those that hold a text."""
        inode = self._get_inode(folder)
        if not inode.is_folder or inode.size > _MAX_FOLDER_BYTES:
            raise self.volume.damaged(f"inode {folder} should be a folder")
        seed = self.volume.inode_seed(folder, inode)
        is_indexed = bool(inode.flags & layout.INODE_INDEX)
        size = self.volume.block_bytes
        for run in read_mapping(self.volume, folder, inode).runs:
            content = self.volume.read_block(run.physical, run.blocks)
            for number in range(run.blocks):
                block = content[number * size : (number + 1) * size]
                if holding in block:
                    if not (is_indexed and is_index_block(run.logical + number, block)):
                        self._check_folder_block(folder, seed, block)
                    yield run.logical + number, run.physical + number, block

    def _check_folder_block(self, folder: int, seed: int, block: bytes) -> None:
        """Verifies a leaf's sum; those of index blocks are the checker's business."""
        if self.volume.has_checksums and has_tail(block):
            stored = int.from_bytes(block[-4:], "little")
            if checksums.folder_block_checksum(seed, block) != stored:
                raise self.volume.damaged(f"folder {folder} fails its checksum")

    def _iter_content(self, mapping: Mapping, size: int) -> Iterator[bytes]:
        """Yields a file's bytes up to ``size``, in pieces."""
        block_bytes, done = self.volume.block_bytes, 0
        for run in mapping.runs:
            if run.logical * block_bytes >= size:
                break
            yield from _zeros(run.logical * block_bytes - done)
            done = run.logical * block_bytes
            count = min(run.blocks * block_bytes, size - done)
            if run.written:
                start = run.physical * block_bytes
                for offset in range(0, count, _READ_PIECE_BYTES):
                    piece = min(_READ_PIECE_BYTES, count - offset)
                    yield self.volume.store.read(start + offset, piece)
            else:
                yield from _zeros(count)
            done += count
        yield from _zeros(size - done)


def owns_blocks(volume: ExtVolume, inode: Inode) -> bool:
    """Whether an inode's block field is a mapping (and not a short link's target or a device)."""
    if inode.type == layout.MODE_LINK:
        return not is_short_link(volume, inode)
    return inode.type in (layout.MODE_FILE, layout.MODE_FOLDER)


def is_short_link(volume: ExtVolume, inode: Inode) -> bool:
    """Whether a symbolic link's target lies in the inode: it has no blocks but for attributes."""
    if inode.flags & layout.INODE_EXTENTS:
        return False
    xattr_sectors = volume.block_bytes // 512 if inode.xattr_block else 0
    return inode.sectors == xattr_sectors and inode.size < 60


def _zeros(count: int) -> Iterator[bytes]:
    while count > 0:
        yield bytes(min(count, _READ_PIECE_BYTES))
        count -= _READ_PIECE_BYTES


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
