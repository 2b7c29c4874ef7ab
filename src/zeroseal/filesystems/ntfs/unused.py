"""What nobody uses: free clusters, free records, and the gaps around the volume."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.blocks.bitmaps import find_runs
from zeroseal.blocks.patches import ByteRange, Patch
from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.layout import BootSector
from zeroseal.filesystems.ntfs.nodes import load_node
from zeroseal.filesystems.ntfs.slack import (
    clean_free_record,
    mirror_patches,
    record_patches,
    shadow_header,
)
from zeroseal.filesystems.ntfs.streams import read_stream
from zeroseal.filesystems.ntfs.volume import NtfsVolume
from zeroseal.messages import ntfs as messages


def iter_free_space(volume: NtfsVolume) -> Iterator[ByteRange]:
    """Yields free clusters, and what of the volume lies in no cluster, but for boot sectors."""
    attribute = load_node(volume, layout.BITMAP).find(layout.DATA)
    if attribute is None:
        raise volume.damaged(messages.CLUSTER_BITMAP_MISSING)
    bitmap = read_stream(volume, attribute)
    if len(bitmap) * 8 < volume.cluster_count:
        raise volume.damaged(messages.BITMAP_TOO_SMALL)
    size = volume.cluster_bytes
    for first, count in find_runs(bitmap, volume.cluster_count, value=False):
        yield first * size, count * size
    end = volume.cluster_count * size
    if end < volume.size_bytes:
        yield end, volume.size_bytes - end
    behind = volume.size_bytes + _boot_copy_bytes(volume)
    if behind < volume.store.size_bytes:
        yield behind, volume.store.size_bytes - behind
    shadow = shadow_header(volume)
    if shadow:
        yield shadow


def iter_stale_records(volume: NtfsVolume) -> Iterator[Patch]:
    """Yields what free records hold beyond what they need."""
    size = volume.record_bytes
    for first, raw in volume.iter_raw_table():
        if raw.count(0) == len(raw):
            continue
        for start in range(0, len(raw), size):
            record = raw[start : start + size]
            number = first + start // size
            if record[:4] == layout.FILE_MAGIC and record[22] & layout.IN_USE:
                continue
            clean = clean_free_record(volume, number, record)
            if clean != record:
                yield from record_patches(volume, number, record, clean, "free records")
    yield from mirror_patches(volume, is_in_use=False)  # of large clusters it holds more than four


def _boot_copy_bytes(volume: NtfsVolume) -> int:
    """The sector behind the volume, where it is a copy of the first."""
    end = volume.size_bytes
    if end + volume.sector_bytes > volume.store.size_bytes:
        return 0
    copy = volume.store.read(end, BootSector.SIZE)
    return volume.sector_bytes if copy == volume.store.read(0, BootSector.SIZE) else 0
