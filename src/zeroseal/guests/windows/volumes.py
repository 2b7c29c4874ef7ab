"""Volumes of NTFS: label, version, room, and how they were left."""

from __future__ import annotations

from dataclasses import dataclass

from zeroseal.blocks.bitmaps import count_set
from zeroseal.errors import ZeroSealError
from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.read import NtfsTree
from zeroseal.filesystems.ntfs.state import LOG_OPEN, SHUT_DOWN, read_state
from zeroseal.filesystems.ntfs.streams import read_stream
from zeroseal.volumes.volume import Volume


@dataclass(frozen=True)
class NtfsFacts:
    """A volume of NTFS.

    Attributes:
        volume: its name on the disk.
        flags: what the volume says of its state, in words.
        log: ``closed``, ``empty`` or ``open``.
        sleeps: whether Windows hibernates on it, or was shut down for a fast start.
        problem: why it could not be read; empty where it could.
    """

    volume: str
    label: str = ""
    version: str = ""
    flags: tuple[str, ...] = ()
    log: str = ""
    size_bytes: int = 0
    free_bytes: int = 0
    cluster_bytes: int = 0
    sleeps: bool = False
    problem: str = ""

    @property
    def against_changing(self) -> str:
        """Why the volume may not be changed as it is; empty where it may."""
        if self.problem:
            return self.problem
        reasons = []
        if self.sleeps:
            reasons.append("Windows hibernates on it, or was shut down for a fast start")
        if layout.VOLUME_FLAGS[layout.VOLUME_IS_DIRTY] in self.flags:
            reasons.append("it is marked dirty")
        if self.log == LOG_OPEN:
            reasons.append("it was not closed")
        if not reasons:
            return ""
        way = f"start the machine once and shut it down fully ({SHUT_DOWN})"
        return f"{', '.join(reasons)}: {way}"


def read_ntfs_facts(volume: Volume) -> NtfsFacts:
    """The facts of one volume; what cannot be read is told, not raised."""
    try:
        tree = NtfsTree(volume.store, volume.name)
        state = read_state(tree.volume)
        bitmap = tree.get_node(layout.BITMAP).find(layout.DATA)
        used = (
            count_set(read_stream(tree.volume, bitmap), tree.volume.cluster_count) if bitmap else 0
        )
        size = tree.volume.cluster_bytes
        return NtfsFacts(
            volume=volume.name,
            label=state.label,
            version=state.version,
            flags=state.flags,
            log=state.log,
            size_bytes=tree.volume.size_bytes,
            free_bytes=(tree.volume.cluster_count - used) * size,
            cluster_bytes=size,
            sleeps=tree.is_asleep(),
        )
    except ZeroSealError as error:
        return NtfsFacts(volume.name, problem=error.message)
