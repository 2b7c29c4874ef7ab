"""Inode tables as numpy rows, for what has to look at all inodes at once."""

from __future__ import annotations

import numpy as np

from zeroseal.filesystems.ext import layout
from zeroseal.filesystems.ext.volume import ExtVolume

EXTENT = np.dtype([("logical", "<u4"), ("length", "<u2"), ("high", "<u2"), ("low", "<u4")])


def read_inode_table(volume: ExtVolume, group: int) -> bytes:
    """A group's inode table as far as it was ever used; empty where it was not."""
    descriptor = volume.get_group(group)
    count = volume.superblock.inodes_per_group
    if volume.has_group_checksums:
        if descriptor.flags & layout.GROUP_INODE_UNINIT:
            return b""
        count -= descriptor.unused_inodes
    if count <= 0:
        return b""
    start = descriptor.inode_table * volume.block_bytes
    return volume.store.read(start, count * volume.inode_bytes)
