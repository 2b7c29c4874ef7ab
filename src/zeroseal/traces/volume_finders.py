"""Finding what lies beside the files of a volume: swap, journal, free inodes, free space."""

from __future__ import annotations

from collections.abc import Iterator
from typing import assert_never

from zeroseal.blocks.store import Extent, Store
from zeroseal.filesystems.ext.unused import iter_free_inodes, iter_free_space, iter_journal_body
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.traces.changes import (
    BlankFreeInodes,
    BlankFreeSpace,
    BlankJournal,
    BlankSwap,
    Change,
    VolumeChange,
)
from zeroseal.traces.context import FindContext
from zeroseal.volumes.swap import data_range, find_swap
from zeroseal.volumes.volume import Volume


def find_swaps(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the swap volumes."""
    for volume in context.swaps:
        yield BlankSwap(volume.name), ""


def find_journals(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the journals of the mounted file systems."""
    for mount in context.guest.mounts:
        yield BlankJournal(mount.volume.name), f"mounted on {mount.path}"


def find_free_inodes(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the unused inodes of the mounted file systems."""
    for mount in context.guest.mounts:
        yield BlankFreeInodes(mount.volume.name), f"mounted on {mount.path}"


def find_free_space(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the free space of the mounted file systems."""
    for mount in context.guest.mounts:
        yield BlankFreeSpace(mount.volume.name), f"mounted on {mount.path}"


def ranges_of(change: VolumeChange, volume: Volume) -> Iterator[tuple[int, int]]:
    """The (offset, length) ranges of a volume that a change zeroes."""
    match change:
        case BlankSwap():
            area = find_swap(volume.store)
            if area:
                yield data_range(volume.store, area)
        case BlankJournal():
            yield from iter_journal_body(ExtVolume(volume.store, volume.name))
        case BlankFreeInodes():
            yield from iter_free_inodes(ExtVolume(volume.store, volume.name))
        case BlankFreeSpace():
            yield from iter_free_space(ExtVolume(volume.store, volume.name))
        case _:
            assert_never(change)


def stored_bytes(change: VolumeChange, context: FindContext) -> int:
    """How much of the ranges is stored, 0 where all of that reads as zeros.

    Reading stops at the first byte that is not zero: a used disk costs no more than a sealed one.
    """
    volume = context.get_volume(change.volume)
    stored, dirty = 0, False
    for offset, length in ranges_of(change, volume):
        for extent in volume.store.iter_extents(offset, length):
            if not extent.is_zero:
                stored += extent.length
                dirty = dirty or has_content(volume.store, extent)
    return stored if dirty else 0


def has_content(store: Store, extent: Extent, piece_bytes: int = 1 << 16) -> bool:
    """Whether a range holds anything but zeros."""
    end = extent.offset_bytes + extent.length
    for start in range(extent.offset_bytes, end, piece_bytes):
        content = store.read(start, min(piece_bytes, end - start))
        if content != bytes(len(content)):
            return True
    return False
