"""Whose inodes are whose, and whom access lists name: read from the trees of subvolumes."""

from __future__ import annotations

import struct
from collections.abc import Collection, Iterator

from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.items import iter_names
from zeroseal.filesystems.btrfs.layout import Key
from zeroseal.filesystems.btrfs.read import BtrfsTree
from zeroseal.messages import btrfs as messages

_ACL_NAMES = (b"system.posix_acl_access", b"system.posix_acl_default")
_ACL_ENTRY = struct.Struct("<HHI")  # tag, permissions, id: linux/posix_acl_xattr.h
_ACL_HEADER_BYTES, _ACL_USER = 4, 2
_UID = slice(44, 48)  # of an inode's item
Item = tuple[int, Key, bytes]  # of a subvolume


def find_owned(tree: BtrfsTree, uids: Collection[int]) -> dict[int, int]:
    """Inodes that a tree shows and that belong to some users: {node: uid}."""
    wanted = {uid.to_bytes(4, "little"): uid for uid in uids}
    return {
        number << 64 | key.object: wanted[data[_UID]]
        for number, key, data in _iter_items(tree)
        if key.kind == layout.INODE_ITEM and data[_UID] in wanted
    }


def find_in_acls(tree: BtrfsTree, uids: Collection[int]) -> dict[int, int]:
    """Inodes that a tree shows and whose access lists name some users: {node: uid}."""
    named: dict[int, int] = {}
    for number, key, data in _iter_items(tree):
        if key.kind != layout.XATTR_ITEM or b"posix_acl" not in data:
            continue
        try:
            values = [value for _head, name, value in iter_names(data) if name in _ACL_NAMES]
        except ValueError as error:
            raise tree.volume.damaged(messages.NAME_DAMAGED) from error
        for uid in (uid for value in values for uid in _users_of_acl(value)):
            if uid in uids:
                named[number << 64 | key.object] = uid
    return named


def _iter_items(tree: BtrfsTree) -> Iterator[Item]:
    for number, _path in tree.iter_shown():
        for key, data in tree.volume.all_items(tree.volume.tree(number)):
            yield number, key, data


def _users_of_acl(value: bytes) -> Iterator[int]:
    whole = (len(value) - _ACL_HEADER_BYTES) // _ACL_ENTRY.size * _ACL_ENTRY.size
    entries = value[_ACL_HEADER_BYTES : _ACL_HEADER_BYTES + max(0, whole)]
    for tag, _permissions, uid in _ACL_ENTRY.iter_unpack(entries):
        if tag == _ACL_USER:
            yield uid
