"""Whose inodes are whose, and whom access lists name: read from the inodes themselves."""

from __future__ import annotations

import struct
from collections.abc import Collection, Iterator

from zeroseal.filesystems.xfs.attributes import read_attributes
from zeroseal.filesystems.xfs.slots import iter_slots
from zeroseal.filesystems.xfs.volume import XfsVolume

_ACL_NAMES = (b"trusted.SGI_ACL_FILE", b"trusted.SGI_ACL_DEFAULT")
_ACL_USER = 2  # struct xfs_acl_entry: tag, id, permissions
_ACL_ENTRY = struct.Struct(">IIHxx")


def find_owned(volume: XfsVolume, uids: Collection[int]) -> dict[int, int]:
    """Inodes in use that belong to some users: {inode number: uid}."""
    wanted = {uid.to_bytes(4, "big"): uid for uid in uids}
    return {
        number: wanted[raw[8:12]]
        for number, is_free, raw in iter_slots(volume)
        if not is_free and raw[8:12] in wanted
    }


def find_in_acls(volume: XfsVolume, uids: Collection[int]) -> dict[int, int]:
    """Inodes in use whose access lists name some users: {inode number: uid}."""
    named: dict[int, int] = {}
    for number, is_free, raw in iter_slots(volume):
        if is_free or not raw[82]:  # no attribute fork
            continue
        for item in read_attributes(volume, volume.parse_slot(number, raw)):
            if item.full_name in _ACL_NAMES:
                for uid in _users_of_acl(item.value):
                    if uid in uids:
                        named[number] = uid
    return named


def _users_of_acl(value: bytes) -> Iterator[int]:
    whole = (len(value) - 4) // _ACL_ENTRY.size * _ACL_ENTRY.size
    for tag, uid, _permissions in _ACL_ENTRY.iter_unpack(value[4 : 4 + max(0, whole)]):
        if tag == _ACL_USER:
            yield uid
