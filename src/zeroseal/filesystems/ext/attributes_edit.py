"""Changing extended attributes: as far as files come, go, and leave their inodes.

A block of attributes and an inode that holds a value count their users; both go with the last.
"""

from __future__ import annotations

from zeroseal.filesystems.ext import layout
from zeroseal.filesystems.ext.checksums import xattr_block_checksum
from zeroseal.filesystems.ext.content_edit import ContentWriter
from zeroseal.filesystems.ext.layout import Inode, XattrBlockHeader
from zeroseal.filesystems.ext.mapping_edit import write_extents
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.filesystems.ext.xattrs import (
    Attribute,
    all_attributes,
    block_attributes,
    inode_attributes,
    read_xattr_block,
    write_inode_attributes,
)
from zeroseal.messages import ext as messages

_SECURITY, _LABEL = 6, b"selinux"


class AttributeWriter:
    """Changes the attributes of one volume's inodes.

    Args:
        volume: what is changed.
        content: gives blocks back.
        zero_removed: whether inodes that go are zeroed.
    """

    def __init__(self, volume: ExtVolume, content: ContentWriter, zero_removed: bool) -> None:
        self._volume = volume
        self._content = content
        self._zero_removed = zero_removed

    def release_all(self, node: int, inode: Inode) -> None:
        """Gives back what a node that goes has outside of its inode."""
        self._release_values(inode_attributes(self._volume, node, inode))
        if inode.xattr_block:
            self._release_block(node, inode.xattr_block)

    def inherit_label(self, folder: int, folder_inode: Inode, node: int, inode: Inode) -> None:
        """Gives a new node the security label of its folder, as a kernel without rules would."""
        labels = [
            item._replace(hash=0)
            for item in all_attributes(self._volume, folder, folder_inode)
            if (item.name_index, item.name) == (_SECURITY, _LABEL) and not item.value_inode
        ]
        if labels:
            write_inode_attributes(self._volume, node, inode, labels)

    def drop_inline_data(self, node: int, inode: Inode) -> None:
        """Makes an inode one that maps blocks, and has none yet; its content is gone."""
        rest = [
            item for item in inode_attributes(self._volume, node, inode) if not item.is_inline_data
        ]
        inode.flags &= ~layout.INODE_INLINE_DATA
        inode.block = bytes(60)
        inode.size = 0
        if self._volume.superblock.incompat & layout.INCOMPAT_EXTENTS:
            inode.flags |= layout.INODE_EXTENTS
            write_extents(self._volume, 0, inode, [], lambda: 0)
        self._volume.write_inode(node, inode)
        write_inode_attributes(self._volume, node, inode, rest)

    def replace_inline_rest(self, node: int, inode: Inode, rest: bytes) -> None:
        """Writes the second part of what lies in an inode; its length stays."""
        attributes = [
            item._replace(value=rest) if item.is_inline_data else item
            for item in inode_attributes(self._volume, node, inode)
        ]
        write_inode_attributes(self._volume, node, inode, attributes)

    def _release_block(self, node: int, block_no: int) -> None:
        block = read_xattr_block(self._volume, block_no)
        header = XattrBlockHeader.parse(block[: XattrBlockHeader.SIZE])
        if header.reference_count <= 1:
            self._release_values(block_attributes(self._volume, node, block_no))
            self._content.free_single(block_no)
            return
        header.reference_count -= 1
        block = header.build() + block[XattrBlockHeader.SIZE :]
        if self._volume.has_checksums:
            seed = self._volume.checksum_seed
            header.checksum = xattr_block_checksum(seed, block_no, block)
            block = header.build() + block[XattrBlockHeader.SIZE :]
        self._volume.write_block(block_no, block)

    def _release_values(self, attributes: list[Attribute]) -> None:
        for item in attributes:
            if item.value_inode:
                self._release_value(item.value_inode)

    def _release_value(self, value_no: int) -> None:
        value = self._volume.read_inode(value_no)
        if not value.flags & layout.INODE_EA_INODE or not value.value_references:
            raise self._volume.damaged(messages.VALUE_INODE_EXPECTED.format(value_no=value_no))
        value.value_references -= 1
        if value.value_references:
            self._volume.write_inode(value_no, value)
            return
        self._content.free_all(value_no, value)
        self._content.allocator.free_inode(value_no, is_folder=False, zero_slot=self._zero_removed)
        if not self._zero_removed:
            value.link_count = 0
            self._volume.write_inode(value_no, value)
