"""What became of a sealed disk: which chunks and files changed, and what that looks like."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from zeroseal.blocks.digest import CHUNK_BYTES
from zeroseal.errors import ZeroSealError
from zeroseal.filesystems.tree import Kind
from zeroseal.guests.guest import Guest
from zeroseal.guests.system import GuestSystem
from zeroseal.images.image import Image
from zeroseal.sealing.inspection import Inspection, recoverable
from zeroseal.sealing.place_finder import PlaceFinder
from zeroseal.sealing.record import SealRecord
from zeroseal.volumes.disk import Disk

_MOST_FILES = 20
_MOST_LOCATED = 16  # chunks whose files are named
_STEP_BYTES = 1024  # the smallest block of a file system


@dataclass(frozen=True)
class ChangedChunk:
    """A chunk that differs from the sealed disk, and what lies in it now."""

    number: int
    places: tuple[str, ...]


@dataclass(frozen=True)
class BrokenSeal:
    """What became of a sealed disk.

    Attributes:
        looks_like: what that looks like, one sentence; empty where nothing can be told.
        volumes: names of those that were changed.
        files: paths whose own times lie behind the seal, at most twenty.
        located: the first changed chunks, with what lies in them.
        error: why the guest could not be looked at.
    """

    looks_like: str = ""
    volumes: tuple[str, ...] = ()
    files: tuple[str, ...] = ()
    located: tuple[ChangedChunk, ...] = ()
    error: ZeroSealError | None = None


def explain_changes(image: Image, record: SealRecord, changed: tuple[int, ...]) -> BrokenSeal:
    """Looks at the chunks that changed, and at the files that were changed after the seal."""
    volumes: tuple[str, ...] = ()
    files: tuple[str, ...] = ()
    located: tuple[ChangedChunk, ...] = ()
    try:
        # a clone that was switched off is told of all the same
        with recoverable(image, recover=True) as store:
            inspection = Inspection.read(store, recover=True)
            volumes = _volumes_of(inspection.disk, changed)
            guest = inspection.guest
            later = list(_changed_files(guest, record.sealed_at))
            files = tuple(sorted(later)[:_MOST_FILES])
            located = tuple(_locate(inspection, changed, image.size_bytes))
            text = _looks_like(inspection.system, later, located, image.size_bytes, record)
    except ZeroSealError as error:
        text = _size_sentence(image.size_bytes, record)
        return BrokenSeal(text, volumes, files, located, error)
    return BrokenSeal(text, volumes, files, located)


def _looks_like(
    system: GuestSystem,
    files: list[str],
    located: tuple[ChangedChunk, ...],
    size_bytes: int,
    record: SealRecord,
) -> str:
    start = system.describe_start(files)
    if start:
        return f"the machine was started: {start}"
    size = _size_sentence(size_bytes, record)
    if size:
        return size
    if len(files) == 1:
        return f"one file was edited: {files[0]}"
    if files:
        return f"{len(files)} files were edited, but this does not look like a start"
    named = [place for chunk in located for place in chunk.places if place.startswith("/")]
    if named:
        return "bytes were changed below the file system: no file times show the change"
    return (
        "no file was changed: a file system was mounted, a table was written or free space was used"
    )


def _size_sentence(size_bytes: int, record: SealRecord) -> str:
    if size_bytes > record.size_bytes:
        return "the disk was made larger after it was sealed"
    return "the disk was made smaller after it was sealed" if size_bytes < record.size_bytes else ""


def _locate(inspection: Inspection, changed: tuple[int, ...], end: int) -> Iterator[ChangedChunk]:
    finder = PlaceFinder(inspection)
    for number in changed[:_MOST_LOCATED]:
        start = number * CHUNK_BYTES
        offsets = range(start, min(start + CHUNK_BYTES, end), _STEP_BYTES)
        places = dict.fromkeys(_short(finder.place_of(offset)) for offset in offsets)
        yield ChangedChunk(number, tuple(sorted(places, key=lambda place: place[:1] != "/")))


def _short(place: str) -> str:
    """A place without the byte that it was asked for."""
    return place.partition(", at its byte")[0].partition(", at byte")[0]


def _volumes_of(disk: Disk, chunks: tuple[int, ...]) -> tuple[str, ...]:
    names = []
    for volume in disk.volumes:
        if volume.is_logical:
            continue  # its bytes lie inside a partition, which is named
        end = volume.offset_bytes + volume.size_bytes
        if any(
            number * CHUNK_BYTES < end and (number + 1) * CHUNK_BYTES > volume.offset_bytes
            for number in chunks
        ):
            names.append(volume.name)
    return tuple(names)


def _changed_files(guest: Guest, sealed_at: int) -> Iterator[str]:
    """Paths whose own times lie behind the seal; folders only where nothing in them does."""
    later = {path: facts.kind for path, facts in guest.walk("/") if facts.changed_at > sealed_at}
    parents = {path.rpartition("/")[0] for path in later}
    for path, kind in later.items():
        if kind is not Kind.FOLDER or path not in parents:
            yield path
