"""Quota files: who uses how much, as the files say and as the inodes say.

With the *quota* feature hidden inodes hold one file each for users, groups and projects: a header,
then a tree over the four bytes of an id, whose leaves lead to blocks of entries.

Source: Linux 6.1 ``fs/quota/quotaio_v2.h`` and ``fs/quota/quota_tree.h`` (format ``vfsv1``). What
is counted for whom: e2fsprogs ``lib/support/mkquota.c`` and ``e2fsck/pass1.c``.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Literal

import numpy as np
from numpy.typing import DTypeLike, NDArray

from zeroseal.blocks.row_types import row_type
from zeroseal.filesystems.ext import layout
from zeroseal.filesystems.ext.mapping import read_content, read_mapping
from zeroseal.filesystems.ext.rows import read_inode_table
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.filesystems.ext.xattrs import count_values
from zeroseal.messages import ext as messages

QuotaKind = Literal["user", "group", "project"]

BLOCK_BYTES = 1024
ROOT_BLOCK = 1
TREE_DEPTH = 4
_REFERENCES = BLOCK_BYTES // 4
ENTRY = struct.Struct("<II8Q")  # id, pad, then the fields of Quota
_LEAF_HEADER_BYTES = 16
PER_LEAF = (BLOCK_BYTES - _LEAF_HEADER_BYTES) // ENTRY.size
VERSION = 1
MAGICS: dict[QuotaKind, int] = {"user": 0xD9C01F11, "group": 0xD9C01927, "project": 0xD9C03F14}
_MAX_FILE_BYTES = 1 << 28

_FIELDS: dict[str, tuple[int, DTypeLike]] = {
    "mode": (0x0, "<u2"),
    "uid_lo": (0x2, "<u2"),
    "gid_lo": (0x18, "<u2"),
    "links": (0x1A, "<u2"),
    "sectors_lo": (0x1C, "<u4"),
    "flags": (0x20, "<u4"),
    "sectors_hi": (0x74, "<u2"),
    "uid_hi": (0x78, "<u2"),
    "gid_hi": (0x7A, "<u2"),
}
_LARGE_FIELDS: dict[str, tuple[int, DTypeLike]] = {"extra": (0x80, "<u2"), "project": (0x9C, "<u4")}


@dataclass
class Quota:
    """What one user, group or project may use and does; space in bytes, limits in KiB."""

    inode_hard_limit: int = 0
    inode_soft_limit: int = 0
    inodes: int = 0
    space_hard_limit: int = 0
    space_soft_limit: int = 0
    space_bytes: int = 0
    space_grace_until: int = 0
    inode_grace_until: int = 0

    @property
    def says_something(self) -> bool:
        """Whether anything is used or limited."""
        return any(vars(self).values())


@dataclass
class QuotaFile:
    """A parsed quota file.

    Attributes:
        settings: the grace times and flags of the header, as they lie there.
        quotas: by id.
    """

    settings: bytes = bytes(12)
    quotas: dict[int, Quota] = field(default_factory=dict)


def quota_inodes(volume: ExtVolume) -> dict[QuotaKind, int]:
    """The inodes of a volume's quota files; empty without the feature."""
    superblock = volume.superblock
    if not superblock.ro_compat & layout.RO_QUOTA:
        return {}
    numbers: dict[QuotaKind, int] = {
        "user": superblock.user_quota_inode,
        "group": superblock.group_quota_inode,
        "project": superblock.project_quota_inode,
    }
    return {kind: number for kind, number in numbers.items() if number}


def read_quota_file(volume: ExtVolume, kind: QuotaKind, inode_no: int) -> QuotaFile:
    """Reads a quota file.

    Raises:
        DamagedError: it is none, or its tree is wrong.
    """
    inode = volume.read_inode(inode_no)
    if inode.size > _MAX_FILE_BYTES:
        raise volume.damaged(messages.QUOTA_FILE_TOO_LARGE.format(kind=kind))
    mapping = read_mapping(volume, inode_no, inode)
    raw = b"".join(read_content(volume, mapping, inode.size))
    try:
        return parse_quota_file(kind, raw)
    except ValueError as error:
        raise volume.damaged(messages.QUOTA_FILE_DAMAGED.format(kind=kind, error=error)) from None


def parse_quota_file(kind: QuotaKind, raw: bytes) -> QuotaFile:
    """Parses a quota file.

    Raises:
        ValueError: it is none, or its tree is wrong.
    """
    if len(raw) < 2 * BLOCK_BYTES or struct.unpack_from("<II", raw) != (MAGICS[kind], VERSION):
        raise ValueError(messages.QUOTA_HEADER_MISSING)
    found = QuotaFile(raw[8:20])
    seen: set[int] = set()

    def walk(block_no: int, depth: int) -> None:
        if not 0 < block_no < len(raw) // BLOCK_BYTES or (block_no in seen and depth < TREE_DEPTH):
            raise ValueError(messages.QUOTA_BLOCK_OUT_OF_RANGE.format(block_no=block_no))
        if block_no in seen:
            return
        seen.add(block_no)
        block = raw[block_no * BLOCK_BYTES : (block_no + 1) * BLOCK_BYTES]
        if depth == TREE_DEPTH:
            for owner, quota in _iter_entries(block):
                found.quotas[owner] = quota
            return
        for child in struct.unpack(f"<{_REFERENCES}I", block):
            if child:
                walk(child, depth + 1)

    walk(ROOT_BLOCK, 0)
    return found


def count_usage(volume: ExtVolume) -> dict[QuotaKind, dict[int, tuple[int, int]]]:
    """(inodes, bytes) that each user, group and project uses, by what the inodes say."""
    fields = dict(_FIELDS)
    if volume.inode_bytes > layout.INODE_BASE_BYTES:
        fields |= _LARGE_FIELDS
    row = row_type(fields, volume.inode_bytes)
    totals: dict[QuotaKind, dict[int, tuple[int, int]]] = {"user": {}, "group": {}, "project": {}}
    has_values = bool(volume.superblock.incompat & layout.INCOMPAT_EA_INODE)
    for group in range(volume.group_count):
        table = read_inode_table(volume, group)
        rows = np.frombuffer(table, dtype=row)
        numbers = np.arange(len(rows)) + group * volume.superblock.inodes_per_group + 1
        counted = _is_counted(volume, rows, numbers)
        rows, numbers = rows[counted], numbers[counted]
        space = (rows["sectors_hi"].astype(np.int64) << 32 | rows["sectors_lo"]) * 512
        in_blocks = rows["flags"] & layout.INODE_HUGE_FILE != 0
        space = np.where(in_blocks, space // 512 * volume.block_bytes, space)
        count = np.ones(len(rows), np.int64)
        if has_values:
            for index, number in enumerate(numbers.tolist()):
                count[index] += count_values(volume, number, volume.read_inode(number))[0]
        for kind, owners in _owners(rows).items():
            _add(totals[kind], owners, count, space)
    return totals


def _iter_entries(block: bytes) -> Iterator[tuple[int, Quota]]:
    for index in range(PER_LEAF):
        offset = _LEAF_HEADER_BYTES + index * ENTRY.size
        if any(block[offset : offset + ENTRY.size]):
            owner, _pad, *values = ENTRY.unpack_from(block, offset)
            yield owner, Quota(*values)


def _is_counted(
    volume: ExtVolume, rows: NDArray[np.void], numbers: NDArray[np.int64]
) -> NDArray[np.bool_]:
    superblock = volume.superblock
    hidden = (superblock.project_quota_inode, superblock.orphan_file_inode)
    counted: NDArray[np.bool_] = (
        (rows["links"] != 0)
        & ((numbers == layout.ROOT_INODE) | (numbers >= volume.first_inode))
        & ~np.isin(numbers, hidden)
        & (rows["flags"] & layout.INODE_EA_INODE == 0)
    )
    return counted


def _owners(rows: NDArray[np.void]) -> dict[QuotaKind, NDArray[np.int64]]:
    projects = np.zeros(len(rows), np.int64)
    if "project" in (rows.dtype.names or ()):
        projects = np.where(rows["extra"] >= 32, rows["project"], 0).astype(np.int64)
    return {
        "user": rows["uid_hi"].astype(np.int64) << 16 | rows["uid_lo"],
        "group": rows["gid_hi"].astype(np.int64) << 16 | rows["gid_lo"],
        "project": projects,
    }


def _add(
    totals: dict[int, tuple[int, int]],
    owners: NDArray[np.int64],
    count: NDArray[np.int64],
    space: NDArray[np.int64],
) -> None:
    names, places = np.unique(owners, return_inverse=True)
    inodes, sizes = np.zeros(len(names), np.int64), np.zeros(len(names), np.int64)
    np.add.at(inodes, places, count)
    np.add.at(sizes, places, space)
    for owner, more, size in zip(names.tolist(), inodes.tolist(), sizes.tolist(), strict=True):
        before = totals.get(owner, (0, 0))
        totals[owner] = before[0] + more, before[1] + size
