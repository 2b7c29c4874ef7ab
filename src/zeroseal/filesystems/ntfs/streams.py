"""The content of attributes: resident, in clusters, with holes, compressed."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.filesystems.ntfs.lznt1 import CompressionError, decompress
from zeroseal.filesystems.ntfs.nodes import Attribute
from zeroseal.filesystems.ntfs.runs import HOLE, cut_runs
from zeroseal.filesystems.ntfs.volume import NtfsVolume
from zeroseal.messages import ntfs as messages


def read_stream(
    volume: NtfsVolume, attribute: Attribute, offset: int = 0, length: int | None = None
) -> bytes:
    """Reads content, or all of it; what lies behind its end is left out.

    Raises:
        DamagedError: compressed content cannot be decompressed, or all of it is asked for and it
            is larger than the volume, as no structure of the file system is.
    """
    size = attribute.size_bytes
    if length is None and size > volume.store.size_bytes:
        raise volume.damaged(messages.STRUCTURE_LARGER_THAN_VOLUME)
    end = size if length is None else min(size, offset + length)
    if offset >= end:
        return b""
    if attribute.value is not None:
        return attribute.value[offset:end]
    known = min(end, attribute.initialized)
    if offset >= known:
        return bytes(end - offset)
    reader = _read_compressed if attribute.is_compressed else _read_plain
    return reader(volume, attribute, offset, known) + bytes(end - known)


def iter_places(
    volume: NtfsVolume, attribute: Attribute, from_byte: int = 0
) -> Iterator[tuple[int, int]]:
    """Yields (offset, length) on the volume of content in clusters, from that byte of it on.

    Of compressed content these are the bytes that are stored.
    """
    position, end = 0, attribute.initialized
    if attribute.is_compressed:
        end = -(-end // volume.cluster_bytes) * volume.cluster_bytes
    for run in attribute.runs:
        size = run.clusters * volume.cluster_bytes
        start, stop = max(position, from_byte), min(position + size, end)
        if start < stop and run.lcn != HOLE:
            yield run.lcn * volume.cluster_bytes + start - position, stop - start
        position += size


def _read_plain(volume: NtfsVolume, attribute: Attribute, start: int, end: int) -> bytes:
    pieces, cluster_bytes = [], volume.cluster_bytes
    first = start // cluster_bytes
    position = first * cluster_bytes
    for run in cut_runs(attribute.runs, first, -(-end // cluster_bytes)):
        size = run.clusters * cluster_bytes
        skip = max(0, start - position)
        count = min(size, end - position) - skip
        if run.lcn == HOLE:
            pieces.append(bytes(count))
        else:
            pieces.append(volume.store.read(run.lcn * cluster_bytes + skip, count))
        position += size
    return b"".join(pieces)


def _read_compressed(volume: NtfsVolume, attribute: Attribute, start: int, end: int) -> bytes:
    clusters = 1 << attribute.unit
    unit_bytes = clusters * volume.cluster_bytes
    first = start // unit_bytes
    pieces = [
        _read_unit(volume, attribute, number * clusters, clusters)
        for number in range(first, -(-end // unit_bytes))
    ]
    skip = start - first * unit_bytes
    return b"".join(pieces)[skip : skip + end - start]


def _read_unit(volume: NtfsVolume, attribute: Attribute, vcn: int, clusters: int) -> bytes:
    runs = cut_runs(attribute.runs, vcn, vcn + clusters)
    stored = [run for run in runs if run.lcn != HOLE]
    unit_bytes = clusters * volume.cluster_bytes
    if not stored:
        return bytes(unit_bytes)
    raw = b"".join(volume.read_clusters(run.lcn, run.clusters) for run in stored)
    if sum(run.clusters for run in stored) == clusters:
        return raw
    try:
        return decompress(raw, unit_bytes)
    except CompressionError as error:
        raise volume.damaged(
            messages.COMPRESSED_CONTENT_CANNOT_BE_READ.format(error=error)
        ) from error
