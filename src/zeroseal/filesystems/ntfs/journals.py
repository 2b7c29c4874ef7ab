"""The log, the change journal and the volume's own object identifier.

An empty log is filled with ones; all zeros would be a log that was not closed. The change journal
keeps its length, as a hole: update sequence numbers in files go on to be in its past, and a new
identifier tells its readers that it is another. (When Windows deletes a journal it goes over all
files to set those numbers back, which a journal of the same length makes needless.)
"""

from __future__ import annotations

import secrets
from collections.abc import Iterator

from zeroseal.blocks.patches import ByteRange, OnesPattern, Patch
from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.nodes import Attribute, Node, load_node
from zeroseal.filesystems.ntfs.runs import HOLE, Run, count_clusters
from zeroseal.filesystems.ntfs.streams import iter_places
from zeroseal.filesystems.ntfs.volume import NtfsVolume
from zeroseal.messages import ntfs as messages

CHANGES, LIMITS = "$J", "$Max"
_PIECE_BYTES = 1 << 20
_OBJECT_ID_BYTES = 16
_ID_AT = 16  # in the limits: size, growth, identifier, lowest valid number


def log_ranges(volume: NtfsVolume) -> list[ByteRange]:
    """Where the log lies, all clusters of it."""
    attribute = _get_log(volume)
    size = volume.cluster_bytes
    return [(run.lcn * size, run.clusters * size) for run in attribute.runs if run.lcn != HOLE]


def iter_stale_log(volume: NtfsVolume) -> Iterator[Patch]:
    """Yields the log, unless it is empty: filled with ones, which the next mount begins anew."""
    if not _is_empty_log(volume):
        for offset, length in log_ranges(volume):
            yield Patch(offset, length, "log", OnesPattern(), length)


def _is_empty_log(volume: NtfsVolume) -> bool:
    for offset, length in log_ranges(volume):
        for start in range(offset, offset + length, _PIECE_BYTES):
            piece = volume.store.read(start, min(_PIECE_BYTES, offset + length - start))
            if piece.count(0xFF) != len(piece):
                return False
    return True


def stored_changes(volume: NtfsVolume, journal: Node | None) -> int:
    """How many bytes the change journal and the volume's own object identifier take."""
    identifier = _OBJECT_ID_BYTES if volume_object_id(volume) else 0
    return identifier + sum(length for _offset, length in _change_ranges(volume, journal))


def _change_ranges(volume: NtfsVolume, journal: Node | None) -> Iterator[ByteRange]:
    """Yields where the change journal is stored."""
    attribute = journal.find(layout.DATA, CHANGES) if journal else None
    if attribute is not None and attribute.value is None:
        yield from iter_places(volume, attribute)


def empty_changes(journal: Node) -> list[Run]:
    """Makes the change journal a hole of the same length; returns the clusters that it had."""
    attribute = journal.find(layout.DATA, CHANGES)
    if attribute is None or attribute.value is not None:
        return []
    freed = [run for run in attribute.runs if run.lcn != HOLE]
    if freed:
        attribute.runs = [Run(HOLE, count_clusters(attribute.runs))]
        attribute.flags |= layout.SPARSE
    return freed


def renew_limits(journal: Node) -> None:
    """Gives the change journal another identifier, and nothing valid before its end."""
    limits, changes = journal.find(layout.DATA, LIMITS), journal.find(layout.DATA, CHANGES)
    if limits is None or limits.value is None or len(limits.value) < 32 or changes is None:
        return
    value = bytearray(limits.value)
    fresh = int.from_bytes(value[_ID_AT : _ID_AT + 8], "little") + 1 + secrets.randbelow(10**7)
    value[_ID_AT : _ID_AT + 8] = (fresh % (1 << 63)).to_bytes(8, "little")
    value[_ID_AT + 8 : _ID_AT + 16] = changes.size_bytes.to_bytes(8, "little")
    limits.value = bytes(value)


def volume_object_id(volume: NtfsVolume) -> Attribute | None:
    """The object identifier of the volume, which holds a network card's address and a time."""
    return load_node(volume, layout.VOLUME).find(layout.OBJECT_ID)


def _get_log(volume: NtfsVolume) -> Attribute:
    attribute = load_node(volume, layout.LOG_FILE).find(layout.DATA)
    if attribute is None or attribute.value is not None:
        raise volume.damaged(messages.LOG_MISSING)
    return attribute
