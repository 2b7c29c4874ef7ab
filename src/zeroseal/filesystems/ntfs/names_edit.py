"""The part of editing that concerns names: in records, in folders, and what they say of a file."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.blocks.store import Store
from zeroseal.filesystems import editing
from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.extend_edit import ExtendEdit
from zeroseal.filesystems.ntfs.index import FOLDER_INDEX, Index, IndexEntry
from zeroseal.filesystems.ntfs.index_edit import FolderEdit, ViewEdit, open_edit, space_of
from zeroseal.filesystems.ntfs.layout import FileName, StandardInformation
from zeroseal.filesystems.ntfs.names import from_bytes, is_storable, to_wide
from zeroseal.filesystems.ntfs.node_writer import NodeWriter
from zeroseal.filesystems.ntfs.nodes import Attribute, NameHead, Node, parse_name
from zeroseal.filesystems.ntfs.read import NtfsTree, ticks_of
from zeroseal.filesystems.ntfs.streams import read_stream
from zeroseal.filesystems.ntfs.volume import NtfsVolume
from zeroseal.messages import ntfs as messages


class NameEditor(NtfsTree):
    """A tree whose nodes and folders may be changed in memory; ``NtfsEditor`` does that.

    Raises:
        NeedsRecoveryError: the volume was not closed.
        ImageError, RefusedError: it cannot be read, or not be changed.
    """

    def __init__(
        self, store: Store, now: int, where: str, zero_removed: bool, volume: NtfsVolume | None
    ) -> None:
        super().__init__(store, where, volume)
        self._now = ticks_of(now)
        self._writer = NodeWriter(self.volume, zero_removed)
        self._indexes: dict[tuple[int, str], ViewEdit] = {}
        self._extend = ExtendEdit(self, self._writer)

    def get_node(self, number: int) -> Node:
        """A node with all its attributes, as changed."""
        return self._writer.changed.get(number) or super().get_node(number)

    def find_entry(self, folder: int, name: bytes) -> IndexEntry | None:
        """The index entry of a name."""
        opened = self._indexes.get((folder, FOLDER_INDEX))
        if not isinstance(opened, FolderEdit):
            return super().find_entry(folder, name)
        try:
            return opened.find(from_bytes(name))
        except UnicodeDecodeError:
            return None

    def iter_names(self, folder: int) -> Iterator[IndexEntry]:
        """Yields the entries of a folder."""
        opened = self._indexes.get((folder, FOLDER_INDEX))
        if isinstance(opened, FolderEdit):
            return opened.iter_sorted()
        return super().iter_names(folder)

    def open_index(self, number: int, name: str) -> ViewEdit:
        """An index that may be changed."""
        opened = self._indexes.get((number, name))
        if opened is None:
            opened = open_edit(Index(self.volume, self.get_node(number), name), self.upcase)
            self._indexes[number, name] = opened
        return opened

    # -- names

    def _folder(self, number: int) -> FolderEdit:
        self.get_index(number)  # it is a folder, or this says so
        opened = self.open_index(number, FOLDER_INDEX)
        assert isinstance(opened, FolderEdit)
        return opened

    def _get_entry(self, folder: int, name: bytes) -> IndexEntry:
        """The entry to be changed; a short name stands for the long one.

        Raises:
            RefusedError: there is none, or it is the file system's own.
        """
        text = self._text_of(name)
        editing.check_folder(self, folder)
        entry = self._folder(folder).find(text)
        if entry is None or self.is_hidden(entry):
            raise editing.missing(self, name)
        return entry

    def _text_of(self, name: bytes) -> str:
        try:
            return from_bytes(name)
        except UnicodeDecodeError as error:
            raise editing.bad_name(self, name) from error

    def _check_new(self, folder: int, name: bytes) -> None:
        text = self._text_of(name)
        if not is_storable(text):
            raise editing.bad_name(self, name)
        editing.check_folder(self, folder)
        if self._folder(folder).find(text) is not None:
            raise editing.taken(self, name)

    def _create(self, folder: int, name: bytes, record_flags: int, flags: int) -> Node:
        self._check_new(folder, name)
        above = self.get_node(folder)
        node = self._writer.new_node(record_flags)
        value = StandardInformation.blank(
            created=self._now,
            modified=self._now,
            changed=self._now,
            accessed=self._now,
            flags=flags,
        )
        raw = value.build() + bytes(layout.STANDARD_BYTES - StandardInformation.SIZE)
        node.attributes.append(Attribute(layout.STANDARD_INFORMATION, value=raw))
        self._set_security_id(node, self._inherited_security(above))
        return node

    def _inherited_security(self, above: Node) -> int:
        own = above.find(layout.SECURITY_DESCRIPTOR)
        if above.security_id or own is None:
            return above.security_id
        return self._extend.store_descriptor(read_stream(self.volume, own))

    def _link(self, folder: int, name: bytes, node: Node) -> None:
        """Gives a node a name, in its record and in the folder."""
        text = from_bytes(name)
        spaces = [head.space for head, _name in node.names()]
        is_first = layout.DOS not in spaces and layout.WIN32_AND_DOS not in spaces
        head = self._name_head(node, folder)
        head.length, head.space = len(to_wide(text)) // 2, space_of(text, is_first)
        key = head.build() + to_wide(text)
        node.attributes.append(Attribute(layout.FILE_NAME, value=key, is_indexed=True))
        self._writer.changed[node.number] = node
        self._folder(folder).add(IndexEntry(key, node.reference))

    def _unlink(self, folder: int, entry: IndexEntry, node: Node) -> None:
        """Takes a name away, with the short or long one that belongs to it."""
        head = parse_name(entry.key)[0]
        pair = {layout.WIN32, layout.DOS} if self._has_pair(node, folder, head) else {head.space}
        wanted = parse_name(entry.key)[1]
        for attribute in list(node.all_of(layout.FILE_NAME)):
            other, text = parse_name(attribute.value or b"")
            if other.parent & layout.REFERENCE_MASK != folder or other.space not in pair:
                continue
            if other.space == head.space and text != wanted:
                continue
            self._folder(folder).remove(text)
            node.attributes.remove(attribute)
        self._writer.changed[node.number] = node

    def _has_pair(self, node: Node, folder: int, head: NameHead) -> bool:
        """Whether a name is the long or short half of two in one folder."""
        spaces = [
            other.space
            for other, _name in node.names()
            if other.parent & layout.REFERENCE_MASK == folder
        ]
        if head.space == layout.DOS:
            return layout.WIN32 in spaces
        # among several long names of a file, none says which one the short name belongs to
        return (
            head.space == layout.WIN32 and layout.DOS in spaces and spaces.count(layout.WIN32) == 1
        )

    # -- what names and standard information say

    def _name_head(self, node: Node, folder: int) -> FileName:
        value = self._standard(node)
        data = node.find(layout.DATA)
        point = self.get_reparse(node)
        extended = node.find(layout.EA_INFORMATION)
        size = data.size_bytes if data else 0
        stored = size if data and data.value is not None else 0
        if data and data.value is None:
            stored = sum(run.clusters for run in data.runs) * self.volume.cluster_bytes
            if data.is_compressed or data.is_sparse:
                stored = data.stored_clusters * self.volume.cluster_bytes
        extra = point.tag if point else 0
        if extended and extended.value and not point:
            extra = int.from_bytes(extended.value[:2], "little")
        return FileName.blank(
            parent=self.get_node(folder).reference,
            created=value.created,
            modified=value.modified,
            changed=value.changed,
            accessed=value.accessed,
            allocated=(stored + 7) & ~7,
            size=size,
            flags=value.flags | (layout.FILE_IS_FOLDER if node.is_folder else 0),
            extra=extra,
        )

    def _sync_names(self, node: Node) -> None:
        """Brings sizes, times and flags to the folders that name a node."""
        for old, text in node.names():
            folder = old.parent & layout.REFERENCE_MASK
            head = self._name_head(node, folder)
            head.length, head.space = old.length, old.space
            self._folder(folder).add(IndexEntry(head.build() + to_wide(text), node.reference))

    def _standard(self, node: Node) -> StandardInformation:
        attribute = node.find(layout.STANDARD_INFORMATION)
        if attribute is None or attribute.value is None:
            raise self.volume.damaged(
                messages.RECORD_NO_STANDARD_INFORMATION.format(number=node.number)
            )
        return StandardInformation.parse(attribute.value[: StandardInformation.SIZE])

    def _set_standard(self, node: Node, value: StandardInformation) -> None:
        attribute = node.find(layout.STANDARD_INFORMATION)
        assert attribute is not None and attribute.value is not None  # ``value`` is of it
        attribute.value = value.build() + attribute.value[StandardInformation.SIZE :]
        self._writer.changed[node.number] = node

    def _set_security_id(self, node: Node, number: int) -> None:
        attribute = node.find(layout.STANDARD_INFORMATION)
        assert attribute is not None and attribute.value is not None  # made or read before
        raw = bytearray(attribute.value.ljust(layout.STANDARD_BYTES, b"\0"))
        start = layout.SECURITY_ID_OFFSET
        raw[start : start + 4] = number.to_bytes(4, "little")
        attribute.value = bytes(raw)
        self._writer.changed[node.number] = node

    def _touch(self, node: Node, content: bool = True) -> None:
        value = self._standard(node)
        value.changed = self._now
        if content:
            value.modified = self._now
        self._set_standard(node, value)
        self._sync_names(node)
