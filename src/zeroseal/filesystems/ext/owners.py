"""Whose inodes are whose: read from the inode tables at once, names only where they are wanted."""

from __future__ import annotations

import struct
from collections.abc import Collection, Iterator

import numpy as np

from zeroseal.blocks.row_types import row_type
from zeroseal.filesystems.ext import layout
from zeroseal.filesystems.ext.rows import read_inode_table
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.filesystems.ext.xattrs import all_attributes

_FIELDS = {
    "mode": (0x0, "<u2"),
    "uid_lo": (0x2, "<u2"),
    "links": (0x1A, "<u2"),
    "xattr_block": (0x68, "<u4"),
    "uid_hi": (0x78, "<u2"),
}
_USUAL_EXTRA = 32  # bytes of further fields, as mke2fs wants them; attributes begin behind
_EXTRA_SIZE = {
    "extra_size": (0x80, "<u2"),
    "magic": (layout.INODE_BASE_BYTES + _USUAL_EXTRA, "<u4"),
}
_ACL_INDEXES = (2, 3)  # system.posix_acl_access, system.posix_acl_default: fs/ext4/xattr.h
_ACL_HEADER_BYTES = 4
_ACL_USER = 2  # ACL_USER of fs/ext4/acl.h; entries of other kinds without an id are shorter
_ACL_WITH_ID = (0x02, 0x08)


def find_owned(volume: ExtVolume, uids: Collection[int]) -> dict[int, int]:
    """Inodes in use that belong to some users: {inode number: uid}."""
    wanted = np.fromiter(uids, np.int64)
    owned: dict[int, int] = {}
    for first, rows in _iter_rows(volume):
        uid = rows["uid_hi"].astype(np.int64) << 16 | rows["uid_lo"]
        for index in np.flatnonzero((rows["links"] > 0) & np.isin(uid, wanted)).tolist():
            owned[first + index] = int(uid[index])
    return owned


def find_in_acls(volume: ExtVolume, uids: Collection[int]) -> dict[int, int]:
    """Inodes in use whose access lists name some users: {inode number: uid}."""
    named: dict[int, int] = {}
    for first, rows in _iter_rows(volume):
        has_some = rows["xattr_block"] > 0
        if "magic" in (rows.dtype.names or ()):
            usual = rows["extra_size"] == _USUAL_EXTRA
            has_some |= np.where(usual, rows["magic"] == layout.XATTR_MAGIC, rows["extra_size"] > 0)
        for index in np.flatnonzero((rows["links"] > 0) & has_some).tolist():
            number = first + index
            for uid in _acl_users(volume, number):
                if uid in uids:
                    named[number] = uid
    return named


def _iter_rows(volume: ExtVolume) -> Iterator[tuple[int, np.ndarray]]:
    fields = dict(_FIELDS)
    if volume.inode_bytes >= layout.INODE_BASE_BYTES + _USUAL_EXTRA + 4:
        fields |= _EXTRA_SIZE
    row = row_type(fields, volume.inode_bytes)
    per_group = volume.superblock.inodes_per_group
    for group in range(volume.group_count):
        rows = np.frombuffer(read_inode_table(volume, group), dtype=row)
        if len(rows):
            yield group * per_group + 1, rows


def _acl_users(volume: ExtVolume, number: int) -> Iterator[int]:
    slot = volume.read_slot(number)
    base = layout.INODE_BASE_BYTES
    has_block = int.from_bytes(slot[0x68:0x6C], "little")
    if not has_block and len(slot) > base:
        start = base + int.from_bytes(slot[base : base + 2], "little")
        if slot[start : start + 4] != layout.XATTR_MAGIC.to_bytes(4, "little"):
            return
    for item in all_attributes(volume, number, volume.read_inode(number)):
        if item.name_index in _ACL_INDEXES and not item.value_inode:
            yield from _users_of_acl(item.value)


def _users_of_acl(value: bytes) -> Iterator[int]:
    """The users that an access list as ext stores it names."""
    offset = _ACL_HEADER_BYTES
    while offset + 4 <= len(value):
        (tag,) = struct.unpack_from("<H", value, offset)
        offset += 4
        if tag in _ACL_WITH_ID and offset + 4 <= len(value):
            if tag == _ACL_USER:
                yield struct.unpack_from("<I", value, offset)[0]
            offset += 4
