"""Putting names into folders and taking them out.

A folder's names lie in its inode (*inline_data*), in blocks without order, or in leaves under an
index. A folder that lies in its inode is given a block with the first name that is added to it.
"""

from __future__ import annotations

from zeroseal.filesystems.ext import layout
from zeroseal.filesystems.ext.attributes_edit import AttributeWriter
from zeroseal.filesystems.ext.checksums import folder_block_checksum
from zeroseal.filesystems.ext.content_edit import ContentWriter
from zeroseal.filesystems.ext.folders import (
    empty_block,
    has_tail,
    insert_entry,
    is_index_block,
    pack_entry,
    remove_entry,
)
from zeroseal.filesystems.ext.hashing import fold_case, hash_name, settings_of
from zeroseal.filesystems.ext.index import (
    FolderShape,
    Name,
    build_index,
    iter_leaves,
    most_levels,
    parse_root,
)
from zeroseal.filesystems.ext.layout import INLINE_PARENT_BYTES, Inode
from zeroseal.filesystems.ext.mapping import Mapping, read_mapping
from zeroseal.filesystems.ext.read import ExtTree, FolderBlock
from zeroseal.messages import ext as messages


class NameWriter:
    """Changes the names in one volume's folders.

    Args:
        tree: reads what is changed.
        content, attributes: give folders their blocks and take their inline parts away.
    """

    def __init__(self, tree: ExtTree, content: ContentWriter, attributes: AttributeWriter) -> None:
        self._tree = tree
        self._volume = tree.volume
        self._content = content
        self._attributes = attributes
        self._has_types = tree.has_types

    def begin_folder(self, node: int, inode: Inode, parent: int, names: list[Name]) -> None:
        """Gives a folder its first block: itself, its parent, and these names."""
        size = self._volume.block_bytes
        code = layout.ENTRY_TYPES[layout.MODE_FOLDER] if self._has_types else 0
        block = empty_block(size, self._volume.has_checksums)
        end = size - (layout.TAIL_BYTES if self._volume.has_checksums else 0)
        block[:12] = pack_entry(node, 12, b".", code, size)
        block[12:end] = pack_entry(parent, end - 12, b"..", code, size)
        for item in names:
            if not insert_entry(block, item.inode, item.name, item.type_code, self._has_types):
                raise self._volume.damaged(messages.INLINE_FOLDER_TOO_LARGE.format(node=node))
        self._tree.forget_folder()
        self._content.replace_blocks(node, inode, Mapping(), [bytes(block)])
        block_no = read_mapping(self._volume, node, inode).runs[0].physical
        self._write_leaf(node, inode, block_no, block)

    def insert(self, folder: int, item: Name) -> None:
        """Adds a name that is not taken (``is_taken``)."""
        inode = self._tree.get_inode(folder)
        if not self._has_types:
            item = item._replace(type_code=0)
        if inode.is_inline:
            self._leave_inode(folder, inode)
        mapping = read_mapping(self._volume, folder, inode)
        if inode.flags & layout.INODE_INDEX:
            if not self._insert_indexed(folder, inode, item):
                self._rebuild_index(folder, inode, mapping, item)
        elif not self._insert_anywhere(folder, inode, mapping, item):
            if self._volume.superblock.compat & layout.COMPAT_DIR_INDEX:
                self._rebuild_index(folder, inode, mapping, item)
            else:
                self._append_leaf(folder, inode, mapping, item)

    def remove(self, folder: int, name: bytes) -> int:
        """Takes a name that is there out and zeroes it; returns the inode that it led to.

        Raises:
            DamagedError: it is found, but in none of the blocks.
        """
        inode = self._tree.get_inode(folder)
        is_indexed = bool(inode.flags & layout.INODE_INDEX)
        for block in self._tree.iter_blocks_for(folder, name):
            if is_indexed and is_index_block(block.logical, block.content):
                continue
            for entry in self._tree.entries(folder, block.content):
                if entry.inode and entry.name == name:
                    content = bytearray(block.content)
                    remove_entry(content, entry.offset, self._has_types)
                    self._write_part(folder, inode, block, content)
                    return entry.inode
        raise self._volume.damaged(messages.FOLDER_NO_ENTRY.format(folder=folder, name=name))

    def is_taken(self, folder: int, name: bytes) -> bool:
        """Whether a folder has that name, or one that it holds for the same."""
        inode = self._tree.get_inode(folder)
        if not inode.flags & layout.INODE_CASEFOLD:
            return self._tree.find_child(folder, name) is not None
        folded = fold_case(name)
        return any(fold_case(entry.name) == folded for entry in self._tree.list_folder(folder))

    def _insert_anywhere(self, folder: int, inode: Inode, mapping: Mapping, item: Name) -> bool:
        return any(
            self._insert_into(folder, inode, run.physical + number, item)
            for run in reversed(mapping.runs)
            for number in range(run.blocks)
        )

    def _insert_indexed(self, folder: int, inode: Inode, item: Name) -> bool:
        blocks = self._tree.indexed_blocks(folder, inode)
        settings = settings_of(self._volume.superblock, blocks.root.hash_version, inode)
        leaf = next(iter_leaves(blocks.read, blocks.root, hash_name(item.name, settings)[0]))
        return self._insert_into(folder, inode, blocks.physical(leaf), item)

    def _insert_into(self, folder: int, inode: Inode, block_no: int, item: Name) -> bool:
        block = bytearray(self._volume.read_block(block_no))
        if not insert_entry(block, item.inode, item.name, item.type_code, self._has_types):
            return False
        self._write_leaf(folder, inode, block_no, block)
        return True

    def _append_leaf(self, folder: int, inode: Inode, mapping: Mapping, item: Name) -> None:
        block = empty_block(self._volume.block_bytes, self._volume.has_checksums)
        insert_entry(block, item.inode, item.name, item.type_code, self._has_types)
        self._tree.forget_folder()
        block_no = self._content.append_block(folder, inode, mapping)
        self._write_leaf(folder, inode, block_no, block)

    def _rebuild_index(self, folder: int, inode: Inode, mapping: Mapping, item: Name) -> None:
        """Lays all names of a folder out anew, in as many blocks as that takes."""
        names, parent = [item], folder
        version = self._volume.superblock.default_hash
        for block in self._tree.iter_folder_blocks(folder):
            for entry in self._tree.entries(folder, block.content):
                if entry.name == b"..":
                    parent = entry.inode
                elif entry.inode and entry.name != b".":
                    names.append(Name(entry.name, entry.inode, entry.type_code))
            if block.logical == 0 and inode.flags & layout.INODE_INDEX:
                version = parse_root(block.content).hash_version
        volume = self._volume
        own_seed = volume.inode_seed(folder, inode) if volume.has_checksums else None
        shape = FolderShape(volume.block_bytes, self._has_types, own_seed, most_levels(volume))
        settings = settings_of(volume.superblock, version, inode)
        blocks = build_index(names, folder, parent, settings, shape)
        inode.flags |= layout.INODE_INDEX
        self._tree.forget_folder()
        self._content.replace_blocks(folder, inode, mapping, blocks)

    def _leave_inode(self, folder: int, inode: Inode) -> None:
        """Moves the names that lie in a folder's inode into a block."""
        names = [
            Name(entry.name, entry.inode, entry.type_code)
            for block in self._tree.iter_folder_blocks(folder)
            for entry in self._tree.entries(folder, block.content)
            if entry.inode
        ]
        parent = int.from_bytes(inode.block[:INLINE_PARENT_BYTES], "little")
        self._attributes.drop_inline_data(folder, inode)
        self.begin_folder(folder, inode, parent, names)

    def _write_part(
        self, folder: int, inode: Inode, block: FolderBlock, content: bytearray
    ) -> None:
        if block.block_no is not None:
            self._write_leaf(folder, inode, block.block_no, content)
        elif block.logical == 0:
            inode.block = inode.block[:INLINE_PARENT_BYTES] + bytes(content)
            self._volume.write_inode(folder, inode)
        else:
            self._attributes.replace_inline_rest(folder, inode, bytes(content))

    def _write_leaf(self, folder: int, inode: Inode, block_no: int, block: bytearray) -> None:
        if self._volume.has_checksums and has_tail(block):
            seed = self._volume.inode_seed(folder, inode)
            block[-4:] = folder_block_checksum(seed, bytes(block)).to_bytes(4, "little")
        self._volume.write_block(block_no, bytes(block))
