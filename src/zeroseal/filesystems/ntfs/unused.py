"""What nobody uses: free clusters, free records, and the gaps around the volume."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.blocks.bitmaps import find_runs
from zeroseal.filesystems.cleaner import ByteRange
from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.layout import BootSector
from zeroseal.filesystems.ntfs.nodes import load_node
from zeroseal.filesystems.ntfs.pack import build_free_record
from zeroseal.filesystems.ntfs.slack import copy_mirror, shadow_header
from zeroseal.filesystems.ntfs.streams import read_stream
from zeroseal.filesystems.ntfs.volume import NtfsVolume, put_fixups


def iter_free_space(volume: NtfsVolume) -> Iterator[ByteRange]:
    """Yields free clusters, and what of the volume lies in no cluster, but for boot sectors."""
    attribute = load_node(volume, layout.BITMAP).find(layout.DATA)
    if attribute is None:
        raise volume.damaged("its bitmap is missing")
    bitmap = read_stream(volume, attribute)
    if len(bitmap) * 8 < volume.cluster_count:
        raise volume.damaged("its bitmap is too small")
    size = volume.cluster_bytes
    for first, count in find_runs(bitmap, volume.cluster_count, False):
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


def iter_stale_records(volume: NtfsVolume) -> Iterator[tuple[int, bytes]]:
    """Yields (number, record as it should be) of free records that hold more than they need.

    A free record keeps its sequence number, by which old references are known as such.
    """
    size = volume.record_bytes
    for first, raw in volume.iter_raw_table():
        if raw.count(0) == len(raw):
            continue
        for start in range(0, len(raw), size):
            record = raw[start : start + size]
            number = first + start // size
            is_file = record[:4] == layout.FILE_MAGIC
            if (is_file and record[22] & layout.IN_USE) or record.count(0) == size:
                continue
            sequence = int.from_bytes(record[16:18], "little") if is_file else 1
            clean = put_fixups(build_free_record(number, sequence, size))
            if _without_fixups(record) != _without_fixups(clean):
                yield number, clean


def clean_free_records(volume: NtfsVolume) -> None:
    """Leaves of free records what a format leaves, and their sequence number."""
    for number, clean in list(iter_stale_records(volume)):
        volume.write_raw_record(number, clean)
    copy_mirror(volume)  # of large clusters it holds more than the first four


def _without_fixups(record: bytes) -> bytes:
    """A free record but for the number of its update sequence, which may be any."""
    place = record[4] | record[5] << 8
    mark = record[place : place + 2]
    if not mark.strip(b"\0") or place > 510:
        return record
    return record[:8].ljust(16, b"\0") + record[16:].replace(mark, b"\0\0")


def _boot_copy_bytes(volume: NtfsVolume) -> int:
    """The sector behind the volume, where it is a copy of the first."""
    end = volume.size_bytes
    if end + volume.sector_bytes > volume.store.size_bytes:
        return 0
    copy = volume.store.read(end, BootSector.SIZE)
    return volume.sector_bytes if copy == volume.store.read(0, BootSector.SIZE) else 0
