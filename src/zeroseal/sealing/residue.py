"""Residue: values of the original machine that are still somewhere on a disk."""

from __future__ import annotations

from dataclasses import dataclass

from zeroseal.blocks.pieced import PiecedStore
from zeroseal.blocks.search import Hit, search_store
from zeroseal.blocks.store import SliceStore, Store
from zeroseal.filesystems.ext.read import ExtTree
from zeroseal.filesystems.fat.read import FatTree
from zeroseal.progress import Progress, quiet
from zeroseal.sealing.subject import Subject
from zeroseal.sealing.values import ValueSet
from zeroseal.volumes.volume import Volume

_MOST_NAMED = 50


@dataclass(frozen=True)
class Residue:
    """A value that was found.

    Attributes:
        label: what it is.
        place: the path of the file it lies in, or where else on the disk.
        offset_bytes: on the disk.
        count: how often it was found there.
    """

    label: str
    place: str
    offset_bytes: int
    count: int


def find_residue(disk: Store, values: ValueSet, progress: Progress = quiet) -> list[Residue]:
    """Searches a disk's bytes for values, and tells where each lies.

    Args:
        disk: read by its bytes alone; its guest is looked at only when something is found.
        values: what to look for.
        progress: told how far the search is.
    """
    hits = search_store(disk, values.needles, progress)
    if not hits:
        return []
    finder = _PlaceFinder(Subject.read(disk))
    grouped: dict[tuple[str, str], list[Hit]] = {}
    for hit in hits:
        key = values.values[hit.value_no].label, finder.place_of(hit.offset_bytes)
        grouped.setdefault(key, []).append(hit)
    return [
        Residue(label, place, found[0].offset_bytes, len(found))
        for (label, place), found in list(grouped.items())[:_MOST_NAMED]
    ]


class _PlaceFinder:
    """From a byte of the disk to the file it belongs to."""

    def __init__(self, subject: Subject) -> None:
        self._subject = subject
        self._owners: dict[str, list[tuple[int, int, str]]] = {}

    def place_of(self, offset: int) -> str:
        for volume in reversed(
            self._subject.disk.volumes
        ):  # logical volumes before their partition
            inside = _offset_in(volume, offset)
            if inside is not None:
                return self._place_on(volume, inside)
        return f"between the volumes, at byte {offset}"

    def _place_on(self, volume: Volume, offset: int) -> str:
        for mount in self._subject.opened.guest.mounts:
            tree = mount.tree
            if mount.volume.name == volume.name and isinstance(tree, ExtTree | FatTree):
                if volume.name not in self._owners:
                    self._owners[volume.name] = _owners(tree, mount.path.rstrip("/"))
                for start, end, path in self._owners[volume.name]:
                    if start <= offset < end:
                        return path
                return f"{volume.name}, outside of files, at its byte {offset}"
        return f"{volume.name} ({volume.content.kind}), at its byte {offset}"


def _offset_in(volume: Volume, offset: int) -> int | None:
    """Where a byte of the disk lies on a volume; None where it does not."""
    if not isinstance(volume.store, PiecedStore):
        inside = offset - volume.offset_bytes
        return inside if 0 <= inside < volume.size_bytes else None
    position = 0
    for piece in volume.store.pieces:
        if isinstance(piece.store, SliceStore):
            start = piece.store.offset_bytes + piece.offset_bytes
            if start <= offset < start + piece.length:
                return position + offset - start
        position += piece.length
    return None


def _owners(tree: ExtTree | FatTree, mount_path: str) -> list[tuple[int, int, str]]:
    """(start, end, path) of everything that files and folders hold, in bytes of the volume."""
    found: list[tuple[int, int, str]] = []
    pending = [(mount_path, tree.root)]
    while pending:
        path, node = pending.pop()
        names = f"{path or '/'} (names)"
        found += [(start, start + length, names) for start, length in tree.iter_ranges(node)]
        for entry in tree.list_folder(node):
            name = f"{path}/{entry.name.decode('utf-8', 'backslashreplace')}"
            if entry.kind.value == "folder":
                pending.append((name, entry.node))
                continue
            ranges = tree.iter_ranges(entry.node)
            found += [(start, start + length, name) for start, length in ranges]
    return found
