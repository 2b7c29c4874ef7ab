"""An XFS volume as a tree of numbered nodes, for the rooms above."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.blocks.store import Store
from zeroseal.filesystems.tree import FolderEntry, Kind, NodeFacts
from zeroseal.filesystems.xfs import layout
from zeroseal.filesystems.xfs.attributes import read_attributes
from zeroseal.filesystems.xfs.folders import (
    FolderBlocks,
    Name,
    check_data,
    find_addresses,
    hash_name,
    iter_names,
    name_at,
    parse_short,
)
from zeroseal.filesystems.xfs.forks import Mapping, data_fork, read_mapping
from zeroseal.filesystems.xfs.layout import Inode, RemoteHeader
from zeroseal.filesystems.xfs.volume import Slot, XfsVolume, passes
from zeroseal.messages import xfs as messages

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
_OWN_NAMES = (b".", b"..")
_MOST_FILE_BYTES = 1 << 40


class XfsTree:
    """An XFS volume, read as a ``FileTree``; see there for the methods.

    Raises:
        ImageError, RefusedError: as ``XfsVolume`` does.
    """

    def __init__(
        self, store: Store, where: str = "the volume", volume: XfsVolume | None = None
    ) -> None:
        self.volume = volume or XfsVolume(store, where)
        self.root = self.volume.superblock.root_inode

    @property
    def where(self) -> str:
        """The volume's name, for messages."""
        return self.volume.where

    def find_child(self, folder: int, name: bytes) -> FolderEntry | None:
        """The entry of that name; ``.`` and ``..`` are never found."""
        found = None if name in _OWN_NAMES else self._find_name(folder, name)
        return self._entry(found) if found else None

    def list_folder(self, folder: int) -> list[FolderEntry]:
        """All entries but ``.`` and ``..``."""
        return [self._entry(name) for name in self.names_in(folder)]

    def names_in(self, folder: int) -> list[Name]:
        """All entries but ``.`` and ``..``, as the disk has them."""
        slot = self.get_folder(folder)
        if slot.inode.form == layout.FORM_LOCAL:
            fork = data_fork(self.volume, slot)
            return parse_short(self.volume, folder, fork, slot.inode.size)[1]
        blocks = FolderBlocks(self.volume, folder, read_mapping(self.volume, slot))
        return [
            name
            for logical in blocks.data_numbers()
            for name in iter_names(self.volume, folder, blocks.read(logical))
            if name.name not in _OWN_NAMES
        ]

    def get_facts(self, node: int) -> NodeFacts:
        """The node's own data."""
        inode = self.volume.read_slot(node).inode
        return NodeFacts(
            kind=_KINDS.get(inode.type, Kind.UNKNOWN),
            mode=inode.mode & 0o7777,
            uid=inode.uid,
            gid=inode.gid,
            size_bytes=inode.size if inode.type in (layout.MODE_FILE, layout.MODE_LINK) else 0,
            link_count=inode.links,
            changed_at=max(seconds_of(inode, inode.modified), seconds_of(inode, inode.changed)),
        )

    def read_file(self, node: int, limit_bytes: int | None = None) -> bytes:
        """A file's content, or its beginning."""
        slot = self.volume.read_slot(node)
        if slot.inode.type != layout.MODE_FILE:
            raise self.volume.damaged(messages.INODE_NOT_REGULAR_FILE.format(node=node))
        size = slot.inode.size if limit_bytes is None else min(slot.inode.size, limit_bytes)
        if size > _MOST_FILE_BYTES:
            raise self.volume.damaged(messages.INODE_IMPOSSIBLY_LARGE.format(node=node))
        return self._read_runs(read_mapping(self.volume, slot), size)

    def read_link(self, node: int) -> bytes:
        """A symbolic link's target."""
        slot = self.volume.read_slot(node)
        size = slot.inode.size
        if slot.inode.type != layout.MODE_LINK or size > layout.MAX_LINK_BYTES:
            raise self.volume.damaged(messages.INODE_NOT_SYMBOLIC_LINK.format(node=node))
        if slot.inode.form == layout.FORM_LOCAL:
            return data_fork(self.volume, slot)[:size]
        mapping, found = read_mapping(self.volume, slot), b""
        for run in mapping.runs:
            raw = self.volume.read_block(run.fsblock, run.blocks)
            if self.volume.has_crc:
                header = RemoteHeader.parse(raw[: RemoteHeader.SIZE])
                if header.magic != layout.LINK_MAGIC or not passes(raw, layout.REMOTE_CRC):
                    raise self.volume.damaged(
                        messages.SYMBOLIC_LINK_AT_INODE_FAILS_CHECKSUM.format(node=node)
                    )
                raw = raw[RemoteHeader.SIZE : RemoteHeader.SIZE + header.length]
            found += raw
        return found[:size]

    def read_attributes(self, node: int) -> dict[bytes, bytes]:
        """Extended attributes, by full name."""
        slot = self.volume.read_slot(node)
        return {item.full_name: item.value for item in read_attributes(self.volume, slot)}

    def iter_content(self, node: int, from_byte: int) -> Iterator[tuple[int, int]]:
        """Yields (offset, length) on the volume of a file's content from that byte of it on."""
        slot = self.volume.read_slot(node)
        size, block_bytes = slot.inode.size, self.volume.block_bytes
        for run in read_mapping(self.volume, slot).runs:
            start = max(from_byte, run.logical * block_bytes)
            end = min(size, (run.logical + run.blocks) * block_bytes)
            if start < end and not run.unwritten:
                skipped = start - run.logical * block_bytes
                yield self.volume.offset_of(run.fsblock) + skipped, end - start

    def get_folder(self, number: int) -> Slot:
        """A folder's inode.

        Raises:
            DamagedError: it is no folder.
        """
        slot = self.volume.read_slot(number)
        if not slot.inode.is_folder:
            raise self.volume.damaged(messages.INODE_NOT_FOLDER.format(number=number))
        return slot

    # -- inside

    def _entry(self, name: Name) -> FolderEntry:
        kind = _KINDS_BY_ENTRY.get(name.kind)
        if kind is None:
            kind = _KINDS.get(self.volume.read_slot(name.inode).inode.type, Kind.UNKNOWN)
        return FolderEntry(name.name, name.inode, kind)

    def _find_name(self, folder: int, name: bytes) -> Name | None:
        slot = self.get_folder(folder)
        if slot.inode.form == layout.FORM_LOCAL:
            return next((item for item in self.names_in(folder) if item.name == name), None)
        volume = self.volume
        blocks = FolderBlocks(volume, folder, read_mapping(volume, slot))
        for address in find_addresses(volume, folder, blocks, hash_name(name)):
            number, offset = divmod(address, volume.folder_bytes)
            block = blocks.read(number * volume.folder_blocks)
            check_data(volume, folder, block)
            if offset + 16 > len(block):
                raise volume.damaged(
                    messages.LEAF_OF_FOLDER_POINTS_OUTSIDE_FOLDER.format(folder=folder)
                )
            found = name_at(volume, block, offset)
            if found.name == name:
                return found
        return None

    def _read_runs(self, mapping: Mapping, size: int) -> bytes:
        volume, block_bytes = self.volume, self.volume.block_bytes
        pieces, position = [], 0
        for run in mapping.runs:
            start = run.logical * block_bytes
            if start >= size:
                break
            pieces.append(bytes(start - position))
            length = min(run.blocks * block_bytes, size - start)
            if run.unwritten:
                pieces.append(bytes(length))
            else:
                pieces.append(volume.store.read(volume.offset_of(run.fsblock), length))
            position = start + length
        pieces.append(bytes(size - position))
        return b"".join(pieces)


def seconds_of(inode: Inode, stamp: int) -> int:
    """A time of an inode in seconds since 1970."""
    if inode.flags2 & layout.FLAG2_BIGTIME:
        return stamp // 10**9 - layout.BIGTIME_OFFSET_SECONDS
    seconds = stamp >> 32
    return seconds - (1 << 32) if seconds >> 31 else seconds


def stamp_of(inode: Inode, seconds: int) -> int:
    """A time as an inode has it."""
    if inode.flags2 & layout.FLAG2_BIGTIME:
        return (seconds + layout.BIGTIME_OFFSET_SECONDS) * 10**9
    return (seconds & 0xFFFFFFFF) << 32
