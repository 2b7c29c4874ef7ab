"""Residue: values of the original machine that are still somewhere on a disk."""

from __future__ import annotations

from bisect import bisect_right
from collections import Counter
from dataclasses import dataclass

from zeroseal.blocks.pieced import PiecedStore
from zeroseal.blocks.search import MOST_EACH, Hit, search_store
from zeroseal.blocks.store import SliceStore, Store
from zeroseal.filesystems.ext.read import ExtTree
from zeroseal.filesystems.fat.read import FatTree
from zeroseal.progress import Progress, quiet
from zeroseal.sealing.common_words import NAMES_SUFFIX, ShippedFiles
from zeroseal.sealing.packed_files import search_packed_files
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
        offset_bytes: on the disk; 0 where it lies inside a compressed file.
        count: how often it was found there.
    """

    label: str
    place: str
    offset_bytes: int
    count: int


@dataclass(frozen=True)
class ValueSearch:
    """What a search for values found.

    Attributes:
        residue: at most so many as fit into a report.
        not_searched: values that could not be searched, or not everywhere, each with the reason.
        opened: how many compressed files were opened and searched.
    """

    residue: tuple[Residue, ...]
    not_searched: tuple[str, ...]
    opened: int = 0


def find_residue(disk: Store, values: ValueSet, progress: Progress = quiet) -> ValueSearch:
    """Searches a disk's bytes for values, and tells where each lies.

    Args:
        disk: read by its bytes, and once more by its guest for what lies in compressed files.
        values: what to look for.
        progress: told how far the search is.
    """
    hits = search_store(disk, values.needles, progress)
    subject = Subject.read(disk)
    packed = search_packed_files(subject.opened.guest, values, progress)
    finder, shipped = _PlaceFinder(subject), ShippedFiles(subject.opened.guest)
    grouped: dict[tuple[str, str], list[Hit]] = {}
    words: dict[str, set[str]] = {}
    for hit in hits:
        value = values.values[hit.value_no]
        place = finder.place_of(hit.offset_bytes)
        if value.is_word and shipped.holds(place):
            words.setdefault(value.label, set()).add(place)
        else:
            grouped.setdefault((value.label, place), []).append(hit)
    found = [
        Residue(label, place, found[0].offset_bytes, len(found))
        for (label, place), found in list(grouped.items())[:_MOST_NAMED]
    ]
    found += [Residue(label, f"{path}, inside", 0, 1) for label, path in packed.found]
    counts = Counter(hit.value_no for hit in hits)
    told = [
        f"The {values.values[number].label} stands in so many places that only the first "
        f"{count} were looked at."
        for number, count in counts.items()
        if count >= MOST_EACH
    ]
    told += [
        f"The {label} is a common word too: it stands in {len(places)} "
        f"file{'' if len(places) == 1 else 's'} that packages brought, which are as they were."
        for label, places in words.items()
    ]
    not_searched = (*values.not_searched, *told, *packed.not_opened)
    return ValueSearch(tuple(found), not_searched, packed.opened)


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
                path = _owner_of(self._owners[volume.name], offset)
                if path:
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
        names = (path or "/") + NAMES_SUFFIX
        found += [(start, start + length, names) for start, length in tree.iter_ranges(node)]
        for entry in tree.list_folder(node):
            name = f"{path}/{entry.name.decode('utf-8', 'backslashreplace')}"
            if entry.kind.value == "folder":
                pending.append((name, entry.node))
                continue
            ranges = tree.iter_ranges(entry.node)
            found += [(start, start + length, name) for start, length in ranges]
    return sorted(found)


def _owner_of(owners: list[tuple[int, int, str]], offset: int) -> str:
    """Whose a byte is; no two files share one, but several names may lead to one file."""
    number = bisect_right(owners, offset, key=lambda owner: owner[0]) - 1
    if number >= 0 and owners[number][0] <= offset < owners[number][1]:
        return owners[number][2]
    return ""
