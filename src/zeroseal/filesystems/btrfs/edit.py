"""Changing a btrfs volume as a tree: create, replace, truncate, remove; what goes is zeroed.

Nodes are changed where they lie, or copied where a snapshot refers to them too (``trees_edit.py``).
The volume's generation stays what it is: nothing has mounted it. Times of what is changed are one
fixed moment; those of folders around it stay, because a row of edit times would be a trace itself.
"""

from __future__ import annotations

import stat

from zeroseal.blocks.store import Store
from zeroseal.errors import RefusedError
from zeroseal.filesystems import editing
from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.checksums import name_hash
from zeroseal.filesystems.btrfs.content_edit import ContentEditor
from zeroseal.filesystems.btrfs.extents_edit import ExtentEditor
from zeroseal.filesystems.btrfs.layout import InodeItem, Key, NameHead
from zeroseal.filesystems.btrfs.ledger import Ledger
from zeroseal.filesystems.btrfs.names_edit import NameEditor
from zeroseal.filesystems.btrfs.quota_edit import update_quotas
from zeroseal.filesystems.btrfs.read import BtrfsTree
from zeroseal.filesystems.btrfs.slack import iter_data_slack, iter_node_slack
from zeroseal.filesystems.btrfs.space import Space
from zeroseal.filesystems.btrfs.subvolumes_edit import SubvolumeEditor
from zeroseal.filesystems.btrfs.sums_edit import SumEditor
from zeroseal.filesystems.btrfs.trees_edit import TreeEditor
from zeroseal.filesystems.btrfs.usage import Usage, read_usage
from zeroseal.filesystems.btrfs.volume import TreeRoot
from zeroseal.filesystems.tree import FolderEntry
from zeroseal.messages import btrfs as messages

_CODES = {mode: code for code, mode in layout.MODES.items()}
_LABEL = b"security.selinux"
_MOST_NAME_BYTES, _MOST_LINK_BYTES = 255, 4095


class BtrfsEditor(BtrfsTree):
    """A btrfs volume, changed as an ``EditableTree``; see there for the methods.

    Args:
        store: the volume; all changes go to it.
        now: the moment that changed and new inodes are given, seconds since 1970.
        where: the volume's name, for messages.
        zero_removed: whether content that goes is zeroed.
        subvolume: the number of the one that is the root; 0 for the volume's default.
    """

    def __init__(
        self,
        store: Store,
        now: int,
        where: str = "the volume",
        zero_removed: bool = True,
        subvolume: int = 0,
    ) -> None:
        super().__init__(store, where, subvolume)
        self._now, self._zero_removed = now, zero_removed
        self._trees = TreeEditor(self.volume, Space(self.volume, zero_removed))
        self._extents = ExtentEditor(self.volume, self._trees)
        self._trees.extents = self._extents
        self._sum_editor = SumEditor(self._trees)
        self._content_editor = ContentEditor(self._trees, self._extents, self._sum_editor)
        self._name_editor = NameEditor(self._trees)
        self._subvolumes = SubvolumeEditor(
            self._trees, self._extents, self._content_editor, self._name_editor
        )
        self._ledger = Ledger(self._trees, self._extents)
        self._next_numbers: dict[int, int] = {}

    # -- making

    def create_file(
        self, folder: int, name: bytes, content: bytes, mode: int, uid: int = 0, gid: int = 0
    ) -> int:
        """Makes a file and returns its node."""
        node, inode = self._create(folder, name, stat.S_IFREG | mode, uid, gid)
        tree, number = self._split(node)
        self._content_editor.write(tree, number, inode, content)
        self._name_editor.write_inode(tree, number, inode)
        return node

    def create_folder(self, folder: int, name: bytes, mode: int, uid: int = 0, gid: int = 0) -> int:
        """Makes an empty folder and returns its node."""
        return self._create(folder, name, stat.S_IFDIR | mode, uid, gid)[0]

    def create_link(self, folder: int, name: bytes, target: bytes) -> int:
        """Makes a symbolic link and returns its node."""
        most = min(_MOST_LINK_BYTES, self._content_editor.most_inline_bytes())
        if not 0 < len(target) <= most or b"\0" in target:
            raise editing.bad_target(self, target)
        node, inode = self._create(folder, name, stat.S_IFLNK | 0o777, 0, 0)
        tree, number = self._split(node)
        inode.size = len(target)
        self._content_editor.put_inline(tree, number, inode, target)
        self._name_editor.write_inode(tree, number, inode)
        return node

    def add_name(self, folder: int, name: bytes, node: int) -> None:
        """Gives a file one more name."""
        editing.check_can_be_linked(self, node)
        self._check_new(folder, name)
        (tree, number), (above, _number) = self._split(node), self._split(folder)
        if tree != above:
            raise editing.not_file(self, node)
        self._link(folder, name, number, self._inode(node))
        inode = self._inode(node)
        inode.links += 1
        self._name_editor.write_inode(tree, number, inode)

    # -- changing

    def replace_content(self, node: int, content: bytes) -> None:
        """Gives a file other content; owner, mode, attributes and names stay."""
        (tree, number), inode = self._split(node), self._changeable(node)
        self._content_editor.drop(tree, number, inode)
        self._content_editor.write(tree, number, inode, content)
        self._touch(tree, number, inode)

    def zero_content(self, node: int, from_byte: int) -> None:
        """Zeroes a file's content from that byte on; its blocks stay where they are.

        Content that is packed, or that others share, is written anew instead.
        """
        (tree, number), inode = self._split(node), self._changeable(node)
        pieces = self._content_editor.pieces(tree, number)
        places = [piece.place for piece in pieces if piece.place and piece.place.address]
        if any(piece.head.packing or piece.place is None for piece in pieces) or any(
            self._extents.get(place.address).count > 1 for place in places
        ):
            content = self.read_file(node, from_byte).ljust(inode.size, b"\0")
            self.replace_content(node, content)
            return
        sector, has_sums = self.volume.superblock.sector_bytes, not inode.flags & 1
        for piece in pieces:
            place, start = piece.place, max(from_byte, piece.start)
            skip = (start - piece.start) // sector * sector
            if place is None or not place.address or skip >= piece.length:
                continue
            if piece.head.type != layout.REGULAR:
                continue
            head = self.read_file(node, start)[piece.start + skip : start]
            content = head.ljust(piece.length - skip, b"\0")
            self._content_editor.zero(place.address + place.offset + skip, content, has_sums)

    def truncate(self, node: int, size_bytes: int) -> None:
        """Cuts a file, or lets it grow by a hole."""
        (tree, number), inode = self._split(node), self._changeable(node)
        before, sector = inode.size, self.volume.superblock.sector_bytes
        content = self._content_editor
        pieces = content.pieces(tree, number)
        if pieces and pieces[0].place is None:
            kept = self.read_file(node)[:size_bytes]
            content.drop(tree, number, inode)
            content.write(tree, number, inode, kept)
            if size_bytes > len(kept) > 0 and len(kept) == inode.stored_bytes:
                content.drop(tree, number, inode)
                content.put(tree, number, inode, 0, kept)
        elif size_bytes < before:
            floor = size_bytes // sector * sector
            last = [piece for piece in pieces if piece.start <= floor < piece.start + piece.length]
            place = last[0].place if last else None
            has_tail = floor < size_bytes and place is not None and place.address
            if has_tail and last[0].head.type == layout.REGULAR:
                tail = self.read_file(node, size_bytes)[floor:]
                content.drop(tree, number, inode, floor)
                content.put(tree, number, inode, floor, tail)
            else:
                content.drop(tree, number, inode, -(-size_bytes // sector) * sector)
        if size_bytes > before:
            content.put_hole(tree, number, before, size_bytes)
        inode.size = size_bytes
        self._touch(tree, number, inode)

    def rename(self, folder: int, name: bytes, new_name: bytes) -> None:
        """Gives an entry of a folder another name there."""
        entry = editing.get_entry(self, folder, name)
        if new_name == name:
            return
        self._check_new(folder, new_name)
        number = self._split(entry.node)[1]
        if self._is_apart(folder, entry):
            raise editing.bad_name(self, name)
        self._unlink(folder, name, number)
        self._link(folder, new_name, number, self._inode(entry.node))

    def remove(self, folder: int, name: bytes) -> None:
        """Removes a name; the last one takes the content with it. Folders must be empty.

        A subvolume is removed with all that it holds.
        """
        entry = editing.get_entry(self, folder, name)
        tree, number = self._split(entry.node)
        if self._is_apart(folder, entry):
            self._remove_apart(folder, entry)
            return
        editing.check_removable(self, entry)
        inode = self._inode(entry.node)
        self._unlink(folder, name, number)
        if inode.links > 1:
            inode.links -= 1
            self._name_editor.write_inode(tree, number, inode)
            return
        self._drop_inode(tree, number, inode)

    def remove_tree(self, folder: int, name: bytes) -> int:
        """Removes a name and all beneath it; returns how many nodes went."""
        entry = editing.get_entry(self, folder, name)
        count = 0
        if stat.S_ISDIR(self._inode(entry.node).mode):
            for child in self.list_folder(entry.node):
                count += self.remove_tree(entry.node, child.name)
        self.remove(folder, name)
        return count + 1

    def remove_subvolume(self, number: int) -> None:
        """Removes a subvolume; see ``SubvolumeEditor``."""
        self._subvolumes.remove(number)

    def remove_nameless(self, tree: int, number: int) -> None:
        """Removes an inode that has no name any more."""
        self._drop_inode(tree, number, self._name_editor.read_inode(tree, number))
        self._trees.drop(tree, Key(layout.ORPHANS, layout.ORPHAN_ITEM, number))

    def set_mode(self, node: int, mode: int) -> None:
        """Sets the permission bits."""
        inode = self._inode(node)
        inode.mode = stat.S_IFMT(inode.mode) | mode & 0o7777
        self._touch(*self._split(node), inode, content=False)

    def set_owner(self, node: int, uid: int, gid: int) -> None:
        """Sets owner and group."""
        inode = self._inode(node)
        inode.uid, inode.gid = uid, gid
        self._touch(*self._split(node), inode, content=False)

    def finish(self) -> None:
        """Writes what was changed: nodes, extent tree, free space, superblocks."""
        self._sum_editor.flush()
        if self.volume.changed:
            update_quotas(self._trees)
        self._ledger.write()
        if self._content_editor.loosened and self._zero_removed:
            self._zero_unused(self._content_editor.loosened)

    # -- inside

    def _drop_inode(self, tree: int, number: int, inode: InodeItem) -> None:
        """Drops an inode with all its items."""
        if stat.S_ISREG(inode.mode) or stat.S_ISLNK(inode.mode):
            self._content_editor.drop(tree, number, inode)
        self._trees.drop_range(tree, Key(number, 0, 0), Key(number, 255, layout.LAST))

    def _changeable(self, node: int) -> InodeItem:
        """The inode of a file whose content may change."""
        editing.check_file(self, node)
        inode = self._inode(node)
        if inode.flags & layout.HAS_HASHES:
            raise self.volume.unsupported(messages.FILE_WITH_HASHES)
        return inode

    def _zero_unused(self, addresses: set[int]) -> None:
        """Zeroes what nothing shows any more of extents that others still refer to."""
        usage, sums = read_usage(self.volume), dict[int, bytes]()
        uses = [usage.data[address] for address in addresses if address in usage.data]
        patches = list(iter_data_slack(self.volume, uses, sums))
        leaves = {
            address: tree for address, tree in usage.nodes.items() if tree == layout.CHECKSUM_TREE
        }
        patches += iter_node_slack(self.volume, Usage(leaves), sums) if sums else ()
        for patch in patches:
            patch.apply(self.volume.store)
        for address in leaves:
            self.volume.forget(address)
        self._content_editor.loosened.clear()

    def _root(self, number: int) -> TreeRoot:
        return self._trees.root(number) if hasattr(self, "_trees") else super()._root(number)

    def _check_new(self, folder: int, name: bytes) -> None:
        is_long = not 0 < len(name) <= _MOST_NAME_BYTES
        if is_long or b"/" in name or b"\0" in name or name in (b".", b".."):
            raise editing.bad_name(self, name)
        editing.check_new(self, folder, name)
        if self._split(folder)[1] == layout.EMPTY_FOLDER:
            raise editing.bad_name(self, name)

    def _create(
        self, folder: int, name: bytes, mode: int, uid: int, gid: int
    ) -> tuple[int, InodeItem]:
        """Makes an inode without content, and its name."""
        self._check_new(folder, name)
        tree, _folder = self._split(folder)
        number, generation = self._take_number(tree), self.volume.superblock.generation
        inode = InodeItem.blank(
            generation=generation, changed_in=generation, links=1, uid=uid, gid=gid, mode=mode,
            flags=self._inherited(folder, mode), accessed=self._now, changed=self._now,
            modified=self._now, created=self._now,
        )  # fmt: skip
        self._name_editor.write_inode(tree, number, inode)
        self._link(folder, name, number, inode)
        self._label(folder, tree, number)
        return (tree << 64) | number, inode

    def _take_number(self, tree: int) -> int:
        if tree not in self._next_numbers:
            last = self._trees.last_key(tree, Key(layout.LAST_NUMBER, 255, layout.LAST))
            self._next_numbers[tree] = max(last.object if last else 0, layout.FIRST_INODE)
        self._next_numbers[tree] += 1
        return self._next_numbers[tree]

    def _inherited(self, folder: int, mode: int) -> int:
        """The flags that a new inode has from its folder."""
        above = self._inode(folder).flags
        flags = above & (layout.NO_COPY_ON_WRITE | layout.NO_PACKING | layout.PACKED)
        if flags & layout.NO_COPY_ON_WRITE and stat.S_ISREG(mode):
            flags |= layout.NO_DATA_SUMS
        return flags

    def _label(self, folder: int, tree: int, number: int) -> None:
        """A new inode has its folder's security label."""
        label = self.read_attributes(folder).get(_LABEL)
        if label is None:
            return
        head = NameHead.blank(
            generation=self.volume.superblock.generation, value_bytes=len(label),
            name_bytes=len(_LABEL), type=layout.KIND_ATTRIBUTE,
        )  # fmt: skip
        key = Key(number, layout.XATTR_ITEM, name_hash(_LABEL))
        self._trees.put(tree, key, head.build() + _LABEL + label)

    def _link(self, folder: int, name: bytes, number: int, inode: InodeItem) -> None:
        tree, above = self._split(folder)
        target = Key(number, layout.INODE_ITEM, 0)
        code = _CODES.get(stat.S_IFMT(inode.mode), 0)
        index = self._name_editor.enlist(tree, above, name, target, code)
        self._name_editor.note(tree, number, above, index, name)

    def _unlink(self, folder: int, name: bytes, number: int) -> None:
        tree, above = self._split(folder)
        index = self._name_editor.forget(tree, number, above, name)
        self._name_editor.delist(tree, above, name, index)

    def _is_apart(self, folder: int, entry: FolderEntry) -> bool:
        """Whether an entry is a subvolume, or the name of one that is not there."""
        tree, number = self._split(entry.node)
        return tree != self._split(folder)[0] or number == layout.EMPTY_FOLDER

    def _remove_apart(self, folder: int, entry: FolderEntry) -> None:
        tree, number = self._split(entry.node)
        if number != layout.EMPTY_FOLDER:
            self._subvolumes.remove(tree)
            return
        own, above = self._split(folder)
        if self._is_hidden(own, above, entry.name):
            name = editing.shown(entry.name)
            raise RefusedError(messages.SUBVOLUME_STAYS.format(name=name, where=self.where))
        index = self._name_editor.find_index(own, above, entry.name)
        self._name_editor.delist(own, above, entry.name, index)

    def _is_hidden(self, tree: int, folder: int, name: bytes) -> bool:
        """Whether a subvolume lies behind a name, though it is shown as an empty folder."""
        data = self._trees.get(tree, Key(folder, layout.DIR_ITEM, name_hash(name))) or b""
        return any(
            own == name
            and self._trees.get(layout.ROOT_TREE, Key(tree, layout.ROOT_REF, head.object))
            for head, own, _value in self._names(data)
        )

    def _touch(self, tree: int, number: int, inode: InodeItem, content: bool = True) -> None:
        inode.changed, inode.changed_nanoseconds = self._now, 0
        inode.changed_in = self.volume.superblock.generation
        if content:
            inode.modified, inode.modified_nanoseconds = self._now, 0
        self._name_editor.write_inode(tree, number, inode)
