"""Quota files kept right after files came and went.

A changed file is built anew from what the inodes say; limits and grace times are taken over.
"""

from __future__ import annotations

import struct

from zeroseal.filesystems.ext.content_edit import ContentWriter
from zeroseal.filesystems.ext.mapping import read_mapping
from zeroseal.filesystems.ext.quota import (
    BLOCK_BYTES,
    ENTRY,
    MAGICS,
    PER_LEAF,
    ROOT_BLOCK,
    TREE_DEPTH,
    VERSION,
    Quota,
    QuotaFile,
    QuotaKind,
    count_usage,
    quota_inodes,
    read_quota_file,
)
from zeroseal.filesystems.ext.volume import ExtVolume


def update_quotas(volume: ExtVolume, content: ContentWriter) -> None:
    """Writes the quota files of a volume anew, if it has any.

    Raises:
        DamagedError: a quota file is none.
    """
    inodes = quota_inodes(volume)
    if not inodes:
        return
    usage = count_usage(volume)
    for kind, number in inodes.items():
        old = read_quota_file(volume, kind, number)
        quotas = old.quotas
        for quota in quotas.values():
            quota.inodes = quota.space_bytes = 0
        for owner, (inodes_used, space) in usage[kind].items():
            quota = quotas.setdefault(owner, Quota())
            quota.inodes, quota.space_bytes = inodes_used, space
        old.quotas = {owner: quota for owner, quota in quotas.items() if quota.says_something}
        raw = build_quota_file(kind, old)
        inode = volume.read_inode(number)
        mapping = read_mapping(volume, number, inode)
        size = volume.block_bytes
        blocks = [raw[at : at + size].ljust(size, b"\0") for at in range(0, len(raw), size)]
        inode.size = len(raw)
        content.replace_blocks(number, inode, mapping, blocks)


def build_quota_file(kind: QuotaKind, file: QuotaFile) -> bytes:
    """Builds a quota file with as few blocks as its entries need."""
    blocks = [bytearray(BLOCK_BYTES), bytearray(BLOCK_BYTES)]
    owners = sorted(file.quotas)
    leaf_no = 0
    for start in range(0, len(owners), PER_LEAF):
        part = owners[start : start + PER_LEAF]
        leaf = bytearray(struct.pack("<IIHHI", 0, 0, len(part), 0, 0))
        leaf += b"".join(ENTRY.pack(owner, 0, *vars(file.quotas[owner]).values()) for owner in part)
        leaf_no = len(blocks)
        blocks.append(leaf.ljust(BLOCK_BYTES, b"\0"))
        for owner in part:
            _point_to(blocks, owner, leaf_no)
    with_room = leaf_no if len(owners) % PER_LEAF else 0
    header = struct.pack("<II", MAGICS[kind], VERSION) + file.settings
    header += struct.pack("<III", len(blocks), 0, with_room)
    blocks[0][: len(header)] = header
    return b"".join(blocks)


def _point_to(blocks: list[bytearray], owner: int, leaf_no: int) -> None:
    """Makes the tree lead from an id to its leaf."""
    block_no = ROOT_BLOCK
    for depth in range(TREE_DEPTH):
        offset = (owner >> (8 * (TREE_DEPTH - 1 - depth)) & 0xFF) * 4
        if depth == TREE_DEPTH - 1:
            blocks[block_no][offset : offset + 4] = leaf_no.to_bytes(4, "little")
            return
        child = int.from_bytes(blocks[block_no][offset : offset + 4], "little")
        if not child:
            child = len(blocks)
            blocks[block_no][offset : offset + 4] = child.to_bytes(4, "little")
            blocks.append(bytearray(BLOCK_BYTES))
        block_no = child
