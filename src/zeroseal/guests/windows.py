"""Windows guests as far as they are known here: which system, its name, how its volumes were left.

They are looked at, not sealed. What a system says of itself is read from its registry; a hive that
was not closed is read through its logs, in memory.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

from zeroseal.blocks.bitmaps import count_set
from zeroseal.errors import ZeroSealError
from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.read import NtfsTree
from zeroseal.filesystems.ntfs.state import LOG_OPEN, SHUT_DOWN, read_state
from zeroseal.filesystems.ntfs.streams import read_stream
from zeroseal.filesystems.tree import Kind
from zeroseal.guests.registry.paths import CONFIG_FOLDER, Registry
from zeroseal.guests.windows_identity import (
    NO_IDENTITY,
    WindowsIdentity,
    read_identity,
    read_text,
)
from zeroseal.volumes.disk import Disk
from zeroseal.volumes.volume import Volume

FAMILY = "windows"
_FIRST_OF_ELEVEN = 22000  # builds from here on are Windows 11, whatever the product name says


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


@dataclass(frozen=True)
class WindowsFacts:
    """What a Windows says of itself.

    Attributes:
        volume: the name of the volume that it lies on.
        host_name: its computer name; empty where its registry does not say.
        identity: what else is its own.
        problem: why the registry could not be read; empty where it could.
    """

    volume: str
    name: str = "Windows"
    build: str = ""
    host_name: str = ""
    identity: WindowsIdentity = NO_IDENTITY
    problem: str = ""


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


def find_windows(disk: Disk) -> WindowsFacts | None:
    """The Windows on a disk; None where there is none, or its volume cannot be read."""
    for volume in disk.volumes:
        if volume.content.kind != "ntfs" or volume.content.refusal:
            continue
        try:
            files = _Files(NtfsTree(volume.store, volume.name))
            if files.find(f"{CONFIG_FOLDER}/SYSTEM") is not None:
                return _read_facts(volume.name, files)
        except ZeroSealError:
            continue  # its volume is told with the reason
    return None


class _Files:
    """Files of the system volume by their paths; no link is followed."""

    def __init__(self, tree: NtfsTree) -> None:
        self._tree = tree

    def find(self, path: str) -> int | None:
        node = self._tree.root
        for part in path.strip("/").split("/"):
            entry = self._tree.find_child(node, part.encode("utf-8", "surrogatepass"))
            if entry is None or entry.kind is Kind.LINK:
                return None
            node = entry.node
        return node

    def read(self, path: str) -> bytes | None:
        """A whole file, as the registry asks for its hives."""
        node = self.find(path)
        return None if node is None else self._tree.read_file(node)


def _read_facts(volume: str, files: _Files) -> WindowsFacts:
    registry = Registry(files, recover=True)
    facts = WindowsFacts(volume)
    try:
        version = "SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion"
        build = read_text(registry, version, "CurrentBuild")
        name = read_text(registry, version, "ProductName") or facts.name
        if build.isdigit() and int(build) >= _FIRST_OF_ELEVEN:
            name = name.replace("Windows 10", "Windows 11")
        names = "SYSTEM\\CSn\\Control\\ComputerName\\ComputerName"
        facts = WindowsFacts(volume, name, build, read_text(registry, names, "ComputerName"))
        return replace(facts, identity=read_identity(registry))
    except ZeroSealError as error:
        return replace(facts, problem=error.message)
