"""Changing an ext volume as a tree: create, replace, truncate, remove; what goes is zeroed.

Content, names and inodes that are removed are overwritten with zeros in the same step. Times of
what is changed are one fixed moment; times of the folders around it stay, because a row of edit
times would be a trace itself. Bitmaps and counters are written by ``finish``.
"""

from __future__ import annotations

from zeroseal.blocks.store import Store
from zeroseal.errors import UnsupportedError
from zeroseal.filesystems import editing
from zeroseal.filesystems.ext import layout
from zeroseal.filesystems.ext.attributes_edit import AttributeWriter
from zeroseal.filesystems.ext.content_edit import ContentWriter
from zeroseal.filesystems.ext.folders import is_storable
from zeroseal.filesystems.ext.index import Name
from zeroseal.filesystems.ext.layout import Inode
from zeroseal.filesystems.ext.mapping import read_mapping
from zeroseal.filesystems.ext.mapping_edit import write_extents
from zeroseal.filesystems.ext.names_edit import NameWriter
from zeroseal.filesystems.ext.quota_edit import update_quotas
from zeroseal.filesystems.ext.read import ExtTree
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.messages import ext as messages

_MAX_FOLDER_LINKS = 65000
_DEFAULT_EXTRA_ISIZE = 32
_INHERITED_BY_FOLDERS = layout.INODE_PROJECT_INHERIT | layout.INODE_CASEFOLD


class ExtEditor(ExtTree):
    """An ext volume, changed as an ``EditableTree``; see there for the methods.

    Args:
        store: the volume; all changes go to it.
        now: the moment that changed and new inodes are given, seconds since 1970.
        where: the volume's name, for messages.
        zero_removed: whether content and inodes that go are zeroed; without it they stay behind as
            a kernel leaves them.
        volume: the opened volume of a tree that was read, if there is one.

    Raises:
        UnsupportedError: it has a feature that we can read but not change.
    """

    def __init__(
        self,
        store: Store,
        now: int,
        where: str = "the volume",
        zero_removed: bool = True,
        volume: ExtVolume | None = None,
    ) -> None:
        super().__init__(store, where, volume)
        self.volume.check_editable()
        self._now = now
        self._zero_removed = zero_removed
        self._owners_changed = False
        self._content = ContentWriter(self.volume, zero_removed)
        self._attributes = AttributeWriter(self.volume, self._content, zero_removed)
        self._names = NameWriter(self, self._content, self._attributes)

    def create_file(
        self, folder: int, name: bytes, content: bytes, mode: int, uid: int = 0, gid: int = 0
    ) -> int:
        """Makes a file and returns its inode number."""
        node = self._create(folder, name, layout.MODE_FILE | mode, uid, gid)
        self.replace_content(node, content)
        return node

    def create_folder(self, folder: int, name: bytes, mode: int, uid: int = 0, gid: int = 0) -> int:
        """Makes an empty folder and returns its inode number."""
        node = self._create(folder, name, layout.MODE_FOLDER | mode, uid, gid, links=2)
        self._names.begin_folder(node, self.volume.read_inode(node), folder, [])
        self._change_links(folder, +1)
        return node

    def create_link(self, folder: int, name: bytes, target: bytes) -> int:
        """Makes a symbolic link and returns its inode number."""
        if not 0 < len(target) < self.volume.block_bytes:
            raise editing.bad_target(self, target)
        node = self._create(folder, name, layout.MODE_LINK | 0o777, 0, 0)
        if len(target) >= 60:
            self.replace_content(node, target)
            return node
        inode = self.volume.read_inode(node)
        inode.flags &= ~layout.INODE_EXTENTS
        inode.block = target.ljust(60, b"\0")
        inode.size = len(target)
        self.volume.write_inode(node, inode)
        return node

    def add_name(self, folder: int, name: bytes, node: int) -> None:
        """Gives a file one more name."""
        editing.check_can_be_linked(self, node)
        inode = self.get_inode(node)
        self._check_new(folder, name)
        self._names.insert(folder, Name(name, node, layout.ENTRY_TYPES[inode.type]))
        self._change_links(node, +1)

    def replace_content(self, node: int, content: bytes) -> None:
        """Gives a file other content; what it had is zeroed."""
        inode = self.get_inode(node)
        self._check_changeable(node, inode)
        if inode.is_inline:
            self._attributes.drop_inline_data(node, inode)
        mapping = read_mapping(self.volume, node, inode)
        size = self.volume.block_bytes
        blocks = [
            content[start : start + size].ljust(size, b"\0")
            for start in range(0, len(content), size)
        ]
        inode.size = len(content)
        self._touch(inode)
        self._content.replace_blocks(node, inode, mapping, blocks)

    def zero_content(self, node: int, from_byte: int) -> None:
        """Zeroes a file's content from a byte on; its blocks stay where they are."""
        inode = self.get_inode(node)
        self._check_changeable(node, inode)
        for offset, length in self.iter_content(node, from_byte):
            self.volume.store.zero(offset, length)
        self._touch(inode)
        self.volume.write_inode(node, inode)

    def rename(self, folder: int, name: bytes, new_name: bytes) -> None:
        """Gives an entry of a folder another name there; what it is stays."""
        editing.get_entry(self, folder, name)
        if new_name == name:
            return
        self._check_new(folder, new_name)
        node = self._names.remove(folder, name)
        inode = self.get_inode(node)
        self._names.insert(folder, Name(new_name, node, layout.ENTRY_TYPES[inode.type]))

    def truncate(self, node: int, size_bytes: int) -> None:
        """Cuts a file, zeroing what goes, or lets it grow by a hole."""
        inode = self.get_inode(node)
        self._check_changeable(node, inode)
        if inode.is_inline:
            self.replace_content(node, self.read_file(node, size_bytes))
            inode = self.get_inode(node)
        self._touch(inode)
        self._content.cut(node, inode, size_bytes)

    def remove(self, folder: int, name: bytes) -> None:
        """Removes a name; the last one takes the content with it."""
        editing.check_removable(self, editing.get_entry(self, folder, name))
        self.remove_tree(folder, name)

    def remove_tree(self, folder: int, name: bytes) -> int:
        """Removes a name and all beneath it; returns how many names went."""
        editing.get_entry(self, folder, name)
        top = self._names.remove(folder, name)
        if self.get_inode(top).is_folder:
            self._change_links(folder, -1)
        removed, pending, seen = 0, [top], set()
        while pending:
            node = pending.pop()
            inode = self.get_inode(node)
            if inode.is_folder:
                if node in seen:
                    raise self.volume.damaged(messages.FOLDER_CONTAINS_ITSELF.format(node=node))
                seen.add(node)
                pending += [entry.node for entry in self.list_folder(node)]
            removed += 1
            if inode.is_folder or inode.link_count <= 1:
                self._free_inode(node, inode)
            else:
                self._change_links(node, -1)
        return removed

    def set_mode(self, node: int, mode: int) -> None:
        """Sets the permission bits."""
        inode = self.get_inode(node)
        inode.mode = inode.type | (mode & 0o7777)
        self._touch(inode, modified=False)
        self.volume.write_inode(node, inode)

    def set_owner(self, node: int, uid: int, gid: int) -> None:
        """Sets owner and group."""
        inode = self.get_inode(node)
        _set_owner(inode, uid, gid)
        self._owners_changed = True
        self._touch(inode, modified=False)
        self.volume.write_inode(node, inode)

    def finish(self) -> None:
        """Brings bitmaps, counters and quota files to the store."""
        if self._content.allocator.has_changes or self._owners_changed:
            update_quotas(self.volume, self._content)
            self._owners_changed = False
        self._content.allocator.flush()

    def _create(
        self, folder: int, name: bytes, mode: int, uid: int, gid: int, links: int = 1
    ) -> int:
        self._check_new(folder, name)
        volume = self.volume
        is_folder = mode & layout.MODE_TYPE_MASK == layout.MODE_FOLDER
        near = (folder - 1) // volume.superblock.inodes_per_group
        node = self._content.allocator.allocate_inode(near, is_folder)
        uses_extents = bool(volume.superblock.incompat & layout.INCOMPAT_EXTENTS)
        inode = Inode.blank(
            mode=mode,
            link_count=links,
            flags=layout.INODE_EXTENTS if uses_extents else 0,
            generation=(self._now * 2654435761 + node) & 0xFFFFFFFF,
            created_at=self._now & 0xFFFFFFFF,
        )
        if volume.inode_bytes > layout.INODE_BASE_BYTES:
            inode.extra_isize = volume.superblock.want_extra_isize or _DEFAULT_EXTRA_ISIZE
        above = self.get_inode(folder)
        if is_folder:
            inode.flags |= above.flags & _INHERITED_BY_FOLDERS
        if above.flags & layout.INODE_PROJECT_INHERIT and inode.has_project:
            inode.project = above.project
        _set_owner(inode, uid, gid)
        self._touch(inode)
        inode.accessed_at = inode.changed_at
        if uses_extents:
            write_extents(volume, 0, inode, [], lambda: 0)
        volume.write_inode(node, inode)
        self._attributes.inherit_label(folder, above, node, inode)
        type_code = layout.ENTRY_TYPES[mode & layout.MODE_TYPE_MASK]
        self._names.insert(folder, Name(name, node, type_code))
        return node

    def _check_new(self, folder: int, name: bytes) -> None:
        editing.check_folder(self, folder)
        if not is_storable(name):
            raise editing.bad_name(self, name)
        if self._names.is_taken(folder, name):
            raise editing.taken(self, name)

    def _touch(self, inode: Inode, modified: bool = True) -> None:
        """Gives an inode our one time; a short inode has attributes where the rest would be."""
        inode.changed_at = self._now & 0xFFFFFFFF
        if inode.has_extra_times:
            inode.changed_extra = self._now >> 32
        if modified:
            inode.modified_at = self._now & 0xFFFFFFFF
            if inode.has_extra_times:
                inode.modified_extra = self._now >> 32

    def _change_links(self, node: int, difference: int) -> None:
        inode = self.volume.read_inode(node)
        uncounted = inode.is_folder and inode.link_count == 1  # dir_nlink: too many to count
        if not uncounted:
            inode.link_count += difference
            if inode.is_folder and inode.link_count >= _MAX_FOLDER_LINKS:
                inode.link_count = 1
            self.volume.write_inode(node, inode)

    def _free_inode(self, node: int, inode: Inode) -> None:
        if inode.is_folder:
            self.forget_folder()
        self._content.free_all(node, inode)
        self._attributes.release_all(node, inode)
        self._content.allocator.free_inode(node, inode.is_folder, self._zero_removed)
        if not self._zero_removed:
            inode.link_count, inode.deleted_at = 0, self._now & 0xFFFFFFFF
            self.volume.write_inode(node, inode)

    def _check_changeable(self, node: int, inode: Inode) -> None:
        if inode.is_folder:
            raise editing.not_file(self, node)
        if inode.flags & layout.INODE_VERITY:
            raise UnsupportedError(
                messages.PROTECTED_BY_FS_VERITY.format(node=node, where=self.volume.where)
            )


def _set_owner(inode: Inode, uid: int, gid: int) -> None:
    inode.uid_hi, inode.uid_lo = uid >> 16, uid & 0xFFFF
    inode.gid_hi, inode.gid_lo = gid >> 16, gid & 0xFFFF
