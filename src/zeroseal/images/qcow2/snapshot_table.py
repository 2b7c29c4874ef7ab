"""The table of a qcow2 image's internal snapshots."""

from __future__ import annotations

from dataclasses import dataclass

from zeroseal.errors import DamagedError
from zeroseal.images.container_file import ContainerFile
from zeroseal.images.qcow2 import layout
from zeroseal.images.qcow2.layout import Header, SnapshotEntry
from zeroseal.messages import images as messages

_MAX_EXTRA = 1024


@dataclass(frozen=True)
class Snapshot:
    """One snapshot.

    Attributes:
        size_bytes: of the virtual disk when it was taken; 0 where the entry does not say.
        raw: the entry as it lies on the disk, padding included.
    """

    id: str
    name: str
    l1_table_offset: int
    l1_entries: int
    size_bytes: int
    raw: bytes


def read_snapshots(file: ContainerFile, header: Header) -> list[Snapshot]:
    """Reads the table.

    Raises:
        DamagedError: it runs out of its bounds.
    """
    if header.snapshot_count > layout.MAX_SNAPSHOTS:
        raise DamagedError(
            messages.TOO_MANY_SNAPSHOTS.format(
                path=file.path, snapshot_count=header.snapshot_count
            ),
            format="qcow2",
        )
    found = []
    position = header.snapshots_offset
    for _number in range(header.snapshot_count):
        entry = SnapshotEntry.parse(file.read(position, SnapshotEntry.SIZE))
        if (
            entry.extra_bytes > _MAX_EXTRA
            or entry.l1_entries * 8 > layout.MAX_L1_BYTES
            or position - header.snapshots_offset > layout.MAX_SNAPSHOT_TABLE_BYTES
        ):
            raise DamagedError(
                messages.DAMAGED_SNAPSHOT_TABLE.format(path=file.path), format="qcow2"
            )
        length = SnapshotEntry.SIZE + entry.extra_bytes + entry.id_bytes + entry.name_bytes
        length = -(-length // 8) * 8
        raw = file.read(position, min(length, file.size_bytes - position)).ljust(length, b"\0")
        extra = raw[SnapshotEntry.SIZE : SnapshotEntry.SIZE + entry.extra_bytes]
        words = raw[SnapshotEntry.SIZE + entry.extra_bytes :]
        found.append(
            Snapshot(
                id=words[: entry.id_bytes].decode("utf-8", "replace"),
                name=words[entry.id_bytes :][: entry.name_bytes].decode("utf-8", "replace"),
                l1_table_offset=entry.l1_table_offset,
                l1_entries=entry.l1_entries,
                size_bytes=int.from_bytes(extra[8:16], "big") if len(extra) >= 16 else 0,
                raw=raw,
            )
        )
        position += length
    return found
