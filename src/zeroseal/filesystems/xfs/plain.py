"""Inodes as nearly all are: those of files in one piece, or few, with nothing stale in their forks.

A look at slack goes over every inode there is. Most need no more than their few fields, which are
taken from the bytes here; whatever is not as plain is left to the code that knows all forms.
"""

from __future__ import annotations

import struct

from zeroseal.blocks.patches import ByteRange
from zeroseal.filesystems.xfs import layout
from zeroseal.filesystems.xfs.forks import EXTENT_BYTES, unpack_runs
from zeroseal.filesystems.xfs.layout import Inode
from zeroseal.filesystems.xfs.volume import XfsVolume, passes

_FIELDS = struct.Struct(">2sHBB18xQ24xQ12xIHBb36xQ24xQ")  # as ``Inode`` has them; up to its number
_MOST_RUNS = 4
_ZEROS = bytes(2048)


def plain_end(volume: XfsVolume, number: int, raw: bytes) -> ByteRange | None:
    """What lies behind a plain file's content in its last block, as (offset, length) in bytes.

    The range is empty where the content fills its blocks. None: the inode is not plain, or is
    damaged; it must be looked at in full.
    """
    magic, mode, version, form, big, size, few, attr_few, fork, attr_form, flags, own = (
        _FIELDS.unpack_from(raw)
    )
    runs, attr_runs = (big, few) if flags & layout.FLAG2_NREXT64 else (few, attr_few)
    is_file = mode & layout.MODE_TYPE == layout.MODE_FILE and form == layout.FORM_EXTENTS
    if (magic, version, own) != (layout.INODE_MAGIC, 3, number) or not is_file or runs > _MOST_RUNS:
        return None
    attr_start = Inode.SIZE + fork * 8 if fork else len(raw)
    used = Inode.SIZE + runs * EXTENT_BYTES
    if used > attr_start or attr_start > len(raw) or not _is_zero(raw, used, attr_start):
        return None
    if fork:
        if attr_form == layout.FORM_LOCAL:
            attr_used = attr_start + int.from_bytes(raw[attr_start : attr_start + 2], "big")
        elif attr_form == layout.FORM_EXTENTS and not attr_runs:
            attr_used = attr_start
        else:
            return None
        if not _is_zero(raw, attr_used, len(raw)):
            return None
    if not passes(raw, layout.INODE_CRC):
        return None
    return _end(volume, raw[Inode.SIZE : used], size)


def _end(volume: XfsVolume, extents: bytes, size: int) -> ByteRange | None:
    block_bytes, end, place = volume.block_bytes, 0, 0
    for run in unpack_runs(extents):
        start, last = run.logical * block_bytes, end
        end = start + run.blocks * block_bytes
        is_sound = start >= last and volume.has_run(run.fsblock, run.blocks)
        if run.unwritten or not is_sound or start >= size:
            return None
        place = volume.offset_of(run.fsblock) + size - start
    if end <= size:
        return 0, 0
    return (place, end - size) if end - size < block_bytes else None


def _is_zero(raw: bytes, start: int, end: int) -> bool:
    return raw[start:end] == _ZEROS[: max(0, end - start)]
