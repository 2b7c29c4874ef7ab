"""Giving a volume another UUID.

A volume of version 5 names its UUID in every block of its metadata. The feature *meta_uuid* lets
the superblock bear another one: the first is kept beside it, and the blocks stay as they are. A log
whose last record bears another UUID than the superblock is not mounted by the kernel.

Source: ``xfs_format.h``, ``sb_meta_uuid``; the kernel's ``xlog_header_check_mount``.
"""

from __future__ import annotations

from zeroseal.blocks.store import Store
from zeroseal.filesystems.xfs import layout
from zeroseal.filesystems.xfs.allocate import write_copy
from zeroseal.filesystems.xfs.layout import LogRecord, Superblock
from zeroseal.filesystems.xfs.log import EmptyLog, find_last_record, highest_cycle, log_range
from zeroseal.filesystems.xfs.volume import XfsVolume, passes
from zeroseal.messages import xfs as messages

_PIECE_BYTES = 1 << 20


def set_volume_id(store: Store, where: str, new: bytes) -> None:
    """Gives a volume another UUID, in all superblocks and in its log.

    Args:
        store: the volume; its log must be empty.
        where: its name, for messages.
        new: 16 bytes.

    Raises:
        ImageError: it cannot be read.
    """
    volume = XfsVolume(store, where)
    for group in range(volume.superblock.group_count):
        _change_superblock(volume, group, new)
    volume = XfsVolume(store, where, ignore_log=True)
    _change_log(store, volume.superblock)


def _change_superblock(volume: XfsVolume, group: int, new: bytes) -> None:
    offset = volume.header_offset(group, 0)
    raw = volume.store.read(offset, volume.superblock.sector_bytes)
    superblock = Superblock.parse(raw[: Superblock.SIZE])
    is_sound = not volume.has_crc or passes(raw, layout.SUPERBLOCK_CRC)
    if superblock.magic != layout.MAGIC or not is_sound:
        raise volume.damaged(messages.COPY_OF_SUPERBLOCK_DAMAGED.format(group=group))
    if volume.has_crc and not superblock.incompat & layout.INCOMPAT_META_UUID:
        superblock.incompat |= layout.INCOMPAT_META_UUID
        superblock.meta_uuid = superblock.uuid
    superblock.uuid = new
    write_copy(volume, group, superblock, raw)


def _change_log(store: Store, superblock: Superblock) -> None:
    """Only the last record counts; one with a checksum is of a kernel, and all is written anew."""
    start, length = log_range(superblock)
    found = find_last_record(store, superblock)
    if found is None:
        return
    place, record = found
    if not record.crc:
        at = start + place * layout.SECTOR + LogRecord.offset_of("uuid")
        store.write(at, superblock.uuid)
        return
    empty = EmptyLog(superblock, highest_cycle(store, superblock) + 1)
    for offset in range(0, length, _PIECE_BYTES):
        piece = min(_PIECE_BYTES, length - offset)
        store.write(start + offset, empty.read(offset, piece))
