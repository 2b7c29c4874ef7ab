"""What the file system keeps beside files: security descriptors, and the lists in ``$Extend``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.index import IndexEntry
from zeroseal.filesystems.ntfs.index_edit import ViewEdit
from zeroseal.filesystems.ntfs.layout import DescriptorHeader
from zeroseal.filesystems.ntfs.nodes import Node
from zeroseal.filesystems.ntfs.security import (
    BY_HASH_INDEX,
    BY_ID_INDEX,
    FIRST_ID,
    STREAM,
    hash_descriptor,
    place_descriptor,
)
from zeroseal.filesystems.ntfs.streams import read_stream
from zeroseal.messages import ntfs as messages

if TYPE_CHECKING:
    from zeroseal.filesystems.ntfs.node_writer import NodeWriter

_USED_BYTES_AT = 8  # in an entry of ``$Quota:$Q``


class Indexes(Protocol):
    """Where the indexes to be changed come from: the editor."""

    def get_node(self, number: int) -> Node:
        """A node."""

    def find_entry(self, folder: int, name: bytes) -> IndexEntry | None:
        """The index entry of a name."""

    def open_index(self, number: int, name: str) -> ViewEdit:
        """An index that may be changed."""


class ExtendEdit:
    """Adds to and takes from those lists as files come and go."""

    def __init__(self, indexes: Indexes, writer: NodeWriter) -> None:
        self._indexes, self._writer = indexes, writer

    def store_descriptor(self, content: bytes) -> int:
        """The number of a security descriptor, which is stored if it is new.

        Raises:
            DamagedError: ``$Secure`` is not as it should be.
        """
        by_hash = self._indexes.open_index(layout.SECURE, BY_HASH_INDEX)
        by_id = self._indexes.open_index(layout.SECURE, BY_ID_INDEX)
        node = self._indexes.get_node(layout.SECURE)
        stream = node.find(layout.DATA, STREAM)
        if stream is None:
            raise self._writer.volume.damaged(messages.NO_STORE_OF_SECURITY_DESCRIPTORS)
        value, end, last = hash_descriptor(content), 0, FIRST_ID - 1
        for entry in by_id.iter_all():
            header = DescriptorHeader.parse(entry.data[:20].ljust(20, b"\0"))
            end, last = max(end, header.offset + header.length), max(last, header.id)
            if header.hash == value and header.length == len(content) + DescriptorHeader.SIZE:
                start = header.offset + DescriptorHeader.SIZE
                if read_stream(self._writer.volume, stream, start, len(content)) == content:
                    return header.id
        length = len(content) + DescriptorHeader.SIZE
        header = DescriptorHeader.blank(
            hash=value, id=last + 1, offset=place_descriptor(end, length), length=length
        )
        raw = header.build()
        for place in (header.offset, header.offset + layout.SDS_BLOCK_BYTES):
            self._writer.write_into(node, stream, place, raw + content)
        by_id.put(IndexEntry(header.id.to_bytes(4, "little"), 0, raw))
        key = value.to_bytes(4, "little") + header.id.to_bytes(4, "little")
        by_hash.put(IndexEntry(key, 0, raw))
        return header.id

    def add_reparse(self, node: Node, tag: int) -> None:
        """Lists a reparse point."""
        view = self._view(b"$Reparse", "$R")
        if view:
            view.put(IndexEntry(layout.REPARSE_KEY.pack(tag, node.reference), 0))

    def drop_reparse(self, node: Node) -> None:
        """Takes a reparse point from the list."""
        point = node.find(layout.REPARSE_POINT)
        view = self._view(b"$Reparse", "$R") if point else None
        if point and view:
            raw = read_stream(self._writer.volume, point, 0, 4)
            tag = int.from_bytes(raw, "little")
            view.drop(layout.REPARSE_KEY.pack(tag, node.reference))

    def forget(self, node: Node) -> None:
        """Takes everything away that is kept of a file which goes."""
        self.drop_reparse(node)
        self.drop_object_id(node)
        self._discharge(node)

    def drop_object_id(self, node: Node) -> None:
        """Takes an object identifier from the list."""
        identifier = node.find(layout.OBJECT_ID)
        view = self._view(b"$ObjId", "$O") if identifier else None
        if identifier and view:
            view.drop((identifier.value or b"")[:16])

    def _discharge(self, node: Node) -> None:
        """Lowers what an owner is charged for, where quotas are kept."""
        value = node.standard
        if len(value) < layout.STANDARD_BYTES:
            return
        owner, _security, charged, _usn = layout.STANDARD_MORE.unpack_from(value, 48)
        view = self._view(b"$Quota", "$Q") if owner and charged else None
        entry = view.entries.get(owner.to_bytes(4, "little")) if view else None
        if view and entry:
            data, at = bytearray(entry.data), _USED_BYTES_AT
            used = int.from_bytes(data[at : at + 8], "little")
            data[at : at + 8] = max(0, used - charged).to_bytes(8, "little")
            view.put(entry._replace(data=bytes(data)))

    def _view(self, name: bytes, index: str) -> ViewEdit | None:
        entry = self._indexes.find_entry(layout.EXTEND, name)
        if entry is None:
            return None
        return self._indexes.open_index(entry.number, index)
