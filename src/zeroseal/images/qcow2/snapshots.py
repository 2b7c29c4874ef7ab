"""Taking, reverting to and dropping internal snapshots of a qcow2 image.

A snapshot is a copy of the L1 table; everything beneath is shared, and counted once more for it.
What only one table uses is marked as its own (``ENTRY_COPIED``), in the table that is in use.
"""

from __future__ import annotations

import struct
from array import array

from zeroseal.blocks.tables import build_table, read_table
from zeroseal.errors import UnsupportedError, UsageError
from zeroseal.images.qcow2 import layout
from zeroseal.images.qcow2.layout import SnapshotEntry
from zeroseal.images.qcow2.snapshot_table import Snapshot, read_snapshots
from zeroseal.images.qcow2.write import WritableQcow2
from zeroseal.messages import images as messages

_EXTRA = struct.Struct(">QQ")  # size of the machine's state, size of the virtual disk


def take_snapshot(image: WritableQcow2, name: str, seconds: int) -> None:
    """Takes a snapshot; ``seconds`` since 1970 is the time it is given.

    Raises:
        UsageError: the name is taken or empty.
    """
    snapshots = read_snapshots(image.file, image.header)
    if not name or len(name.encode()) > 255 or name in [item.name for item in snapshots]:
        raise UsageError(messages.SNAPSHOT_NAME_NOT_POSSIBLE.format(path=image.path, name=name))
    image.flush()
    _count(image, image.l1, 1)
    raw_l1 = build_table(array("Q", [entry & ~layout.ENTRY_COPIED for entry in image.l1]), ">")
    offset = _store(image, raw_l1)
    number = 1 + max((int(item.id) for item in snapshots if item.id.isdigit()), default=0)
    words = str(number).encode() + name.encode()
    entry = SnapshotEntry.blank(
        l1_table_offset=offset,
        l1_entries=len(image.l1),
        id_bytes=len(str(number)),
        name_bytes=len(name.encode()),
        seconds=seconds,
        extra_bytes=_EXTRA.size,
    )
    raw = entry.build() + _EXTRA.pack(0, image.size_bytes) + words
    raw = raw.ljust(-(-len(raw) // 8) * 8, b"\0")
    _write_table(image, [*(item.raw for item in snapshots), raw])
    _mark_own(image)


def revert_to_snapshot(image: WritableQcow2, name: str) -> None:
    """Makes the disk what it was when the snapshot was taken; the snapshot stays.

    Raises:
        UsageError: there is none of that name.
        UnsupportedError: the disk had another size then.
    """
    snapshot = _get(image, name)
    if snapshot.size_bytes not in (0, image.size_bytes):
        raise UnsupportedError(messages.SNAPSHOT_OF_ANOTHER_SIZE.format(path=image.path, name=name))
    image.flush()
    old = read_table(image.file, snapshot.l1_table_offset, snapshot.l1_entries, "Q", ">")
    if len(old) > len(image.l1):
        raise UnsupportedError(messages.SNAPSHOT_OF_ANOTHER_SIZE.format(path=image.path, name=name))
    _count(image, old, 1)
    _count(image, image.l1, -1)
    image.replace_l1(array("Q", [*old, *[0] * (len(image.l1) - len(old))]))
    _mark_own(image)


def drop_snapshot(image: WritableQcow2, name: str) -> None:
    """Forgets a snapshot; the disk stays as it is, and what only the snapshot used is zeroed.

    Raises:
        UsageError: there is none of that name.
    """
    snapshot = _get(image, name)
    image.flush()
    old = read_table(image.file, snapshot.l1_table_offset, snapshot.l1_entries, "Q", ">")
    kept = [item.raw for item in read_snapshots(image.file, image.header) if item != snapshot]
    _count(image, old, -1)
    _release(image, snapshot.l1_table_offset, len(old) * 8)
    _write_table(image, kept)
    _mark_own(image)


def _get(image: WritableQcow2, name: str) -> Snapshot:
    for item in read_snapshots(image.file, image.header):
        if name in (item.name, item.id):
            return item
    text = ", ".join(image.snapshots) or "no snapshots"
    raise UsageError(messages.NO_SNAPSHOT.format(path=image.path, name=name, snapshots=text))


def _count(image: WritableQcow2, l1: array[int], difference: int) -> None:
    """Counts everything beneath an L1 table once more or once less; what nobody uses is zeroed."""
    step = 2 if image.has_subclusters else 1
    for entry in l1:
        offset = entry & layout.ENTRY_OFFSET_MASK
        if not offset:
            continue
        table = read_table(image.file, offset, image.cluster_bytes // 8, "Q", ">")
        for item in table[::step]:
            for cluster_no in image.clusters_of(item):
                image.count_cluster(cluster_no, difference)
        image.count_cluster(offset // image.cluster_bytes, difference)


def _mark_own(image: WritableQcow2) -> None:
    """Sets in the table in use which of its clusters belong to it alone."""
    image.refcounts.flush()
    step = 2 if image.has_subclusters else 1
    l1 = array("Q", image.l1)
    for number, entry in enumerate(l1):
        offset = entry & layout.ENTRY_OFFSET_MASK
        if not offset:
            continue
        l1[number] = offset | _own_flag(image, offset)
        table = read_table(image.file, offset, image.cluster_bytes // 8, "Q", ">")
        for index in range(0, len(table), step):
            item = table[index]
            place = item & layout.ENTRY_OFFSET_MASK
            if place and not item & layout.ENTRY_COMPRESSED:
                table[index] = item & ~layout.ENTRY_COPIED | _own_flag(image, place)
        image.file.write(offset, build_table(table, ">"))
    image.replace_l1(l1)


def _own_flag(image: WritableQcow2, offset: int) -> int:
    count = image.refcounts.count_of(offset // image.cluster_bytes)
    return layout.ENTRY_COPIED if count == 1 else 0


def _write_table(image: WritableQcow2, entries: list[bytes]) -> None:
    """Writes the snapshot table to a new place; the old one is zeroed."""
    old = read_snapshots(image.file, image.header)
    if old:
        _release(image, image.header.snapshots_offset, sum(len(item.raw) for item in old))
    raw = b"".join(entries)
    image.header.snapshots_offset = _store(image, raw) if entries else 0
    image.header.snapshot_count = len(entries)
    image.header_changed()


def _store(image: WritableQcow2, raw: bytes) -> int:
    clusters = -(-len(raw) // image.cluster_bytes)
    offset = image.allocate(clusters)
    image.file.write(offset, raw.ljust(clusters * image.cluster_bytes, b"\0"))
    return offset


def _release(image: WritableQcow2, offset: int, length: int) -> None:
    size = image.cluster_bytes
    for cluster_no in range(offset // size, -(-(offset + length) // size)):
        image.count_cluster(cluster_no, -1)
