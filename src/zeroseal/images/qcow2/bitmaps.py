"""Persistent dirty bitmaps of a qcow2 image: which clusters they take, for dropping them."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.blocks.tables import read_table
from zeroseal.errors import DamagedError
from zeroseal.images.container_file import ContainerFile
from zeroseal.images.qcow2 import layout
from zeroseal.images.qcow2.layout import BitmapEntry, BitmapsExtension
from zeroseal.messages import images as messages

_MAX_TABLE_ENTRIES = 1 << 22


def bitmap_clusters(file: ContainerFile, extension: bytes, cluster_bytes: int) -> Iterator[int]:
    """Yields the number of every cluster that the bitmaps and their directory take.

    Raises:
        DamagedError: the directory runs out of bounds.
    """
    if len(extension) != BitmapsExtension.SIZE:
        raise DamagedError(messages.DAMAGED_BITMAP_DIRECTORY.format(path=file.path), format="qcow2")
    head = BitmapsExtension.parse(extension)
    if head.count > layout.MAX_BITMAPS or head.directory_bytes > file.size_bytes:
        raise DamagedError(messages.DAMAGED_BITMAP_DIRECTORY.format(path=file.path), format="qcow2")
    directory = file.read(head.directory_offset, head.directory_bytes)
    yield from _clusters(head.directory_offset, head.directory_bytes, cluster_bytes)
    position = 0
    for _number in range(head.count):
        raw = directory[position : position + BitmapEntry.SIZE]
        if len(raw) < BitmapEntry.SIZE:
            raise DamagedError(
                messages.DAMAGED_BITMAP_DIRECTORY.format(path=file.path), format="qcow2"
            )
        entry = BitmapEntry.parse(raw)
        if entry.table_entries > _MAX_TABLE_ENTRIES:
            raise DamagedError(messages.DAMAGED_DIRTY_BITMAP.format(path=file.path), format="qcow2")
        table = read_table(file, entry.table_offset, entry.table_entries, "Q", ">")
        for item in table:
            if item & layout.ENTRY_OFFSET_MASK:
                yield (item & layout.ENTRY_OFFSET_MASK) // cluster_bytes
        yield from _clusters(entry.table_offset, entry.table_entries * 8, cluster_bytes)
        length = BitmapEntry.SIZE + entry.extra_bytes + entry.name_bytes
        position += -(-length // 8) * 8


def _clusters(offset: int, length: int, cluster_bytes: int) -> range:
    return range(offset // cluster_bytes, -(-(offset + length) // cluster_bytes))
