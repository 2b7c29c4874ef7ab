"""Changing an NTFS volume: files, folders, streams, links, names, rights.

Changes are kept in memory, but for content and cleared clusters, until ``finish``: folders and the
other indexes are built anew, then the records of all nodes that changed. New files get the
security descriptor of their folder. Times of folders stay: when a name went is nobody's business.
"""

from __future__ import annotations

from zeroseal.blocks.store import Store
from zeroseal.errors import NoSpaceError, RefusedError, UnsupportedError
from zeroseal.filesystems import editing
from zeroseal.filesystems.ntfs import layout, system_compression
from zeroseal.filesystems.ntfs.index import FOLDER_INDEX
from zeroseal.filesystems.ntfs.index_build import build_empty_root
from zeroseal.filesystems.ntfs.index_edit import ViewEdit
from zeroseal.filesystems.ntfs.journals import empty_changes, renew_limits
from zeroseal.filesystems.ntfs.layout import FileName
from zeroseal.filesystems.ntfs.names import from_bytes
from zeroseal.filesystems.ntfs.names_edit import NameEditor
from zeroseal.filesystems.ntfs.node_writer import lies_uncompressed
from zeroseal.filesystems.ntfs.nodes import Attribute, Node
from zeroseal.filesystems.ntfs.read import ticks_of
from zeroseal.filesystems.ntfs.reparse import build_symlink
from zeroseal.filesystems.ntfs.replace import ByteReplacer, Pairs
from zeroseal.filesystems.ntfs.state import require_editable
from zeroseal.filesystems.ntfs.streams import iter_places
from zeroseal.filesystems.ntfs.volume import NtfsVolume
from zeroseal.filesystems.tree import FolderEntry, Kind
from zeroseal.messages import ntfs as messages

_SMALLEST_ROOT = 88
_MOST_LINKS = 1024
_MAX_TARGET_BYTES = 4000  # its two forms lie in a reparse point of 16 KiB
_NAME_BYTES = layout.RESIDENT_BYTES + FileName.SIZE + 8  # of its attribute, but for its letters


class NtfsEditor(NameEditor):
    """An NTFS volume that can be changed; see ``EditableTree`` for the methods.

    Args:
        store: the volume.
        now: the time that changes are given, seconds since 1970.
        where: how messages name the volume.
        zero_removed: whether clusters that files no longer use are zeroed at once.
        volume: the opened volume of a tree that was read, if there is one.

    Raises:
        NeedsRecoveryError: the volume was not closed.
        ImageError, RefusedError: it cannot be read, or not be changed.
    """

    def __init__(
        self,
        store: Store,
        now: int,
        where: str = "the volume",
        zero_removed: bool = True,
        volume: NtfsVolume | None = None,
    ) -> None:
        super().__init__(store, now, where, zero_removed, volume)
        require_editable(self)

    # -- making

    def create_file(
        self, folder: int, name: bytes, content: bytes, mode: int, uid: int = 0, gid: int = 0
    ) -> int:
        """Makes a file and returns its node; a mode without write bits makes it read-only."""
        node = self._create(folder, name, 0, layout.FILE_ARCHIVE | _read_only(mode))
        data = Attribute(layout.DATA)
        node.attributes.append(data)
        self._writer.set_value(node, data, content, _NAME_BYTES + 2 * len(name))
        self._link(folder, name, node)
        return node.number

    def create_folder(self, folder: int, name: bytes, mode: int, uid: int = 0, gid: int = 0) -> int:
        """Makes an empty folder and returns its node."""
        node = self._create(folder, name, layout.IS_FOLDER, 0)
        value = build_empty_root(self.volume.index_bytes, self.volume.cluster_bytes)
        node.attributes.append(Attribute(layout.INDEX_ROOT, FOLDER_INDEX, value=value))
        self._link(folder, name, node)
        return node.number

    def create_link(self, folder: int, name: bytes, target: bytes) -> int:
        """Makes a symbolic link to a file and returns its node."""
        if not 0 < len(target) <= _MAX_TARGET_BYTES:
            raise editing.bad_target(self, target)
        value = build_symlink(from_bytes(target).replace("/", "\\"))
        node = self._create(folder, name, 0, layout.FILE_ARCHIVE | layout.FILE_REPARSE)
        node.attributes.append(Attribute(layout.DATA))
        point = Attribute(layout.REPARSE_POINT)
        node.attributes.append(point)
        self._writer.set_value(node, point, value)
        self._extend.add_reparse(node, layout.TAG_SYMLINK)
        self._link(folder, name, node)
        return node.number

    def add_name(self, folder: int, name: bytes, node: int) -> None:
        """Gives a file one more name (a hard link)."""
        found = self.get_node(node)
        editing.check_can_be_linked(self, node)
        if len(found.names()) >= _MOST_LINKS:
            raise NoSpaceError(
                messages.TOO_MANY_NAMES.format(where=self.volume.where, most_links=_MOST_LINKS)
            )
        self._check_new(folder, name)
        self._link(folder, name, found)

    # -- content

    def replace_content(self, node: int, content: bytes) -> None:
        """Gives a file other content; it is no longer compressed, sparse or kept elsewhere."""
        found = self._get_file(node)
        self.write_stream(node, "", content)
        point = found.find(layout.REPARSE_POINT)
        if point is not None and self._lies_elsewhere(found):
            packed = found.find(layout.DATA, system_compression.STREAM)
            if packed is not None:
                self._writer.drop_attribute(found, packed)
            self._drop_reparse(found, point)
            self._touch(found)

    def write_stream(self, node: int, name: str, content: bytes) -> None:
        """Gives a stream other content, or makes it; the nameless one is a file's own.

        Raises:
            UnsupportedError: it is encrypted.
        """
        found = self.get_node(node)
        attribute = found.find(layout.DATA, name)
        if attribute is None:
            attribute = Attribute(layout.DATA, name)
            found.attributes.append(attribute)
        elif attribute.is_encrypted:
            raise self._unreadable(node, messages.ENCRYPTED_EFS)
        self._writer.set_value(found, attribute, content)
        self._update_flags(found)
        self._touch(found)

    def remove_stream(self, node: int, name: str) -> None:
        """Removes a named stream.

        Raises:
            RefusedError: there is none of that name.
        """
        found = self.get_node(node)
        attribute = found.find(layout.DATA, name) if name else None
        if attribute is None:
            raise RefusedError(
                messages.NO_SUCH_STREAM.format(node=node, where=self.volume.where, name=name)
            )
        self._writer.drop_attribute(found, attribute)
        self._update_flags(found)
        self._touch(found)

    def zero_content(self, node: int, from_byte: int) -> None:
        """Zeroes a file's content from that byte on; its clusters stay where they are."""
        found = self._get_file(node)
        attribute = found.find(layout.DATA)
        if attribute is None:
            return
        if attribute.is_compressed or self._lies_elsewhere(found):
            content = self.read_file(node)
            self.replace_content(node, content[:from_byte].ljust(len(content), b"\0"))
            return
        if attribute.value is not None:
            attribute.value = attribute.value[:from_byte].ljust(len(attribute.value), b"\0")
            self._writer.changed[node] = found
        else:
            for offset, length in list(iter_places(self.volume, attribute, from_byte)):
                self.volume.store.zero(offset, length)
        self._touch(found)

    def truncate(self, node: int, size_bytes: int) -> None:
        """Cuts a file, or lets it grow by zeros."""
        found = self._get_file(node)
        attribute = found.find(layout.DATA)
        size = attribute.size_bytes if attribute else 0
        if attribute is None or attribute.is_encrypted:
            raise self._unreadable(node, messages.CANNOT_BE_TRUNCATED)
        if size == size_bytes:
            return
        if lies_uncompressed(attribute) and size_bytes and not self._lies_elsewhere(found):
            self._writer.resize(found, attribute, size_bytes)
            self._touch(found)
        else:
            content = self.read_file(node, size_bytes) if size_bytes else b""
            self.replace_content(node, content.ljust(size_bytes, b"\0"))

    # -- names

    def rename(self, folder: int, name: bytes, new_name: bytes) -> None:
        """Gives an entry of a folder another name there; its short name goes."""
        entry = self._get_entry(folder, name)
        node = self.get_node(entry.number)
        if self.upcase.fold(from_bytes(name)) != self.upcase.fold(from_bytes(new_name)):
            self._check_new(folder, new_name)
        self._unlink(folder, entry, node)
        self._link(folder, new_name, node)

    def remove(self, folder: int, name: bytes) -> None:
        """Removes a name; the last one takes the content with it. Folders must be empty."""
        entry = self._get_entry(folder, name)
        node = self.get_node(entry.number)
        editing.check_removable(self, FolderEntry(name, node.number, self.kind_of(node)))
        self._unlink(folder, entry, node)
        if not node.all_of(layout.FILE_NAME):
            self._free(node)

    def remove_tree(self, folder: int, name: bytes) -> int:
        """Removes a name and all beneath it; returns how many nodes went."""
        entry = self._get_entry(folder, name)
        top = self.get_node(entry.number)
        if self.kind_of(top) is not Kind.FOLDER:
            self.remove(folder, name)
            return 1
        count, pending, ordered = 0, [top.number], []
        while pending:
            number = pending.pop()
            ordered.append(number)
            for child in self.list_folder(number):
                if child.kind is Kind.FOLDER:
                    pending.append(child.node)
        for number in reversed(ordered):
            count += self._remove_all_in(number)
        self.remove(folder, name)
        return count + 1

    # -- rights and times

    def set_mode(self, node: int, mode: int) -> None:
        """Sets or clears the read-only flag of a file, by the mode's write bits."""
        found = self.get_node(node)
        if not found.is_folder:
            self.set_flags(node, found.flags & ~layout.FILE_READ_ONLY | _read_only(mode))

    def set_owner(self, node: int, uid: int, gid: int) -> None:
        """Not here: NTFS knows owners by security identifiers, see ``set_security``."""
        raise UnsupportedError(
            messages.OWNERS_ARE_SECURITY_IDENTIFIERS.format(where=self.volume.where)
        )

    def set_flags(self, node: int, flags: int) -> None:
        """Sets a node's flags (read-only, hidden, system, ...)."""
        found = self.get_node(node)
        value = self._standard(found)
        value.flags = flags
        self._set_standard(found, value)
        self._touch(found, content=False)

    def set_times(self, node: int, seconds: int) -> None:
        """Sets all four times of a node."""
        found = self.get_node(node)
        value, ticks = self._standard(found), ticks_of(seconds)
        value.created = value.modified = value.changed = value.accessed = ticks
        self._set_standard(found, value)
        self._sync_names(found)

    def set_security(self, node: int, descriptor: bytes) -> None:
        """Gives a node a security descriptor (self-relative), by its number in ``$Secure``."""
        found = self.get_node(node)
        self._set_security_id(found, self._extend.store_descriptor(descriptor))
        own = found.find(layout.SECURITY_DESCRIPTOR)
        if own is not None:
            self._writer.drop_attribute(found, own)
        self._touch(found, content=False)

    def replace_bytes(self, pairs: Pairs) -> int:
        """Puts other bytes in the place of some: in contents, rights, names, owners of quotas.

        Args:
            pairs: (old, new), of the same length, at least seven bytes.

        Returns:
            how many files and folders changed.
        """
        self.finish()  # the bytes of the volume are searched
        return ByteReplacer(self, self._writer, self.rename, pairs).run()

    def forget_changes(self) -> None:
        """Empties the change journal, and takes the volume's own object identifier away."""
        journal = self.change_journal()
        if journal is not None:
            self._writer.clusters.give(empty_changes(journal))
            renew_limits(journal)
            self._writer.changed[journal.number] = journal
        node = self.get_node(layout.VOLUME)
        identifier = node.find(layout.OBJECT_ID)
        if identifier is not None:
            self._extend.drop_object_id(node)
            self._writer.drop_attribute(node, identifier)

    # -- the end

    def finish(self) -> None:
        """Brings everything to the store; the tree may be used on."""
        for (number, name), opened in self._indexes.items():
            if opened.is_changed:
                self._store_index(self.get_node(number), name, opened)
        self._writer.write_all()
        self._indexes.clear()
        self._held.clear()

    def _remove_all_in(self, folder: int) -> int:
        count = 0
        for child in self.list_folder(folder):
            self.remove(folder, child.name)
            count += 1
        return count

    def _free(self, node: Node) -> None:
        self._extend.forget(node)
        self._writer.free_node(node)
        self._held.pop(node.number, None)
        for key in [key for key in self._indexes if key[0] == node.number]:
            del self._indexes[key]

    def _update_flags(self, node: Node) -> None:
        """A file is compressed or sparse as long as one of its streams is."""
        value = self._standard(node)
        streams = node.all_of(layout.DATA)
        for flag, has in (
            (layout.FILE_COMPRESSED, any(stream.is_compressed for stream in streams)),
            (layout.FILE_SPARSE, any(stream.is_sparse for stream in streams)),
        ):
            if not has and not node.is_folder:
                value.flags &= ~flag
        self._set_standard(node, value)

    def _lies_elsewhere(self, node: Node) -> bool:
        """Whether a reparse point says that the content is not where files have it."""
        point = self.get_reparse(node)
        return point is not None and bool(point.content_elsewhere)

    def _drop_reparse(self, node: Node, point: Attribute) -> None:
        self._extend.drop_reparse(node)
        self._writer.drop_attribute(node, point)
        value = self._standard(node)
        value.flags &= ~layout.FILE_REPARSE
        self._set_standard(node, value)

    def _get_file(self, number: int) -> Node:
        node = self.get_node(number)
        if node.is_folder:
            raise editing.not_file(self, number)
        return node

    def _store_index(self, node: Node, name: str, opened: ViewEdit) -> None:
        writer = self._writer
        root = node.find(layout.INDEX_ROOT, name)
        assert root is not None  # the index was read from it
        allocation = node.find(layout.INDEX_ALLOCATION, name)
        bitmap = node.find(layout.BITMAP_ATTRIBUTE, name)
        kept = [item for item in (allocation, bitmap) if item is not None]
        node.attributes = [item for item in node.attributes if item not in kept]
        built = opened.build(max(_SMALLEST_ROOT, writer.room_beside(node, root)))
        root.value = built.root
        writer.changed[node.number] = node
        if not built.blocks:
            for item in kept:
                writer.clusters.give(item.runs)
            return
        allocation = allocation or Attribute(layout.INDEX_ALLOCATION, name)
        bitmap = bitmap or Attribute(layout.BITMAP_ATTRIBUTE, name)
        node.attributes += [allocation, bitmap]
        writer.set_mapped(node, allocation, b"".join(built.blocks))
        if bitmap.value is None:
            writer.set_mapped(node, bitmap, built.bitmap)
        else:
            writer.set_value(node, bitmap, built.bitmap)


def _read_only(mode: int) -> int:
    return 0 if mode & 0o200 else layout.FILE_READ_ONLY
