"""Finding what lies beside the files of a volume: swap, journal, free inodes, free space."""

from __future__ import annotations

from collections.abc import Iterator
from typing import assert_never

from zeroseal.blocks.store import Extent, Store
from zeroseal.filesystems.ext.slack import clean_slack, iter_slack
from zeroseal.filesystems.ext.unused import iter_free_inodes, iter_free_space, iter_journal_body
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.filesystems.fat.read import FatTree
from zeroseal.filesystems.fat.slack import clean_slack as clean_fat_slack
from zeroseal.filesystems.fat.slack import iter_slack as iter_fat_slack
from zeroseal.filesystems.fat.volume import FatVolume
from zeroseal.guests.guest import Mount
from zeroseal.traces.changes import (
    BlankFreeInodes,
    BlankFreeSpace,
    BlankGaps,
    BlankJournal,
    BlankSlack,
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
    for mount in _ext_mounts(context):
        yield BlankJournal(mount.volume.name), f"mounted on {mount.path}"


def find_free_inodes(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the unused inodes of the mounted file systems."""
    for mount in _ext_mounts(context):
        yield BlankFreeInodes(mount.volume.name), f"mounted on {mount.path}"


def _ext_mounts(context: FindContext) -> list[Mount]:
    return [mount for mount in context.guest.mounts if mount.volume.content.is_ext]


def _readable_mounts(context: FindContext) -> list[Mount]:
    return [mount for mount in context.guest.mounts if mount.volume.content.is_readable]


def find_free_space(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the free space of the mounted file systems."""
    for mount in _readable_mounts(context):
        yield BlankFreeSpace(mount.volume.name), f"mounted on {mount.path}"


def find_slack(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the slack of the mounted file systems."""
    for mount in _readable_mounts(context):
        yield BlankSlack(mount.volume.name), f"mounted on {mount.path}"


def find_gaps(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the places between volumes, each once."""
    for where in dict.fromkeys(gap.where for gap in context.gaps):
        yield BlankGaps(where), ""


RangeChange = BlankSwap | BlankJournal | BlankFreeInodes | BlankFreeSpace | BlankGaps


def blank(change: VolumeChange, context: FindContext) -> None:
    """Zeroes what a change is about."""
    if isinstance(change, BlankSlack):
        volume = context.get_volume(change.volume)
        if volume.content.is_ext:
            clean_slack(ExtVolume(volume.store, volume.name))
        else:
            clean_fat_slack(FatTree(volume.store, volume.name))
        return
    for store, offset, length in list(ranges_of(change, context)):
        store.zero(offset, length)


def stored_bytes(change: VolumeChange, context: FindContext) -> int:
    """How much of it is stored, 0 where all of that reads as zeros.

    In ranges, reading stops at the first byte that is not zero: a used disk costs no more than a
    sealed one.
    """
    if isinstance(change, BlankSlack):
        volume = context.get_volume(change.volume)
        if volume.content.is_ext:
            slack = iter_slack(ExtVolume(volume.store, volume.name))
            return sum(item.stale_bytes for item in slack)
        pieces = iter_fat_slack(FatTree(volume.store, volume.name))
        return sum(
            sum(a != b for a, b in zip(stale, clean, strict=True)) for _at, stale, clean in pieces
        )
    stored, dirty = 0, False
    for store, offset, length in ranges_of(change, context):
        for extent in store.iter_extents(offset, length):
            if not extent.is_zero:
                stored += extent.length
                dirty = dirty or has_content(store, extent)
    return stored if dirty else 0


def ranges_of(change: RangeChange, context: FindContext) -> Iterator[tuple[Store, int, int]]:
    """The (store, offset, length) ranges that a change zeroes."""
    if isinstance(change, BlankGaps):
        for gap in context.gaps:
            if gap.where == change.volume:
                yield gap.store, gap.offset_bytes, gap.length
        return
    volume = context.get_volume(change.volume)
    for offset, length in _ranges_on(change, volume):
        yield volume.store, offset, length


def _ranges_on(
    change: BlankSwap | BlankJournal | BlankFreeInodes | BlankFreeSpace, volume: Volume
) -> Iterator[tuple[int, int]]:
    match change:
        case BlankSwap():
            area = find_swap(volume.store)
            if area:
                yield data_range(volume.store, area)
        case BlankJournal():
            yield from iter_journal_body(ExtVolume(volume.store, volume.name))
        case BlankFreeInodes():
            yield from iter_free_inodes(ExtVolume(volume.store, volume.name))
        case BlankFreeSpace() if volume.content.is_ext:
            yield from iter_free_space(ExtVolume(volume.store, volume.name))
        case BlankFreeSpace():
            yield from FatVolume(volume.store, volume.name).iter_free()
        case _:
            assert_never(change)


def has_content(store: Store, extent: Extent, piece_bytes: int = 1 << 16) -> bool:
    """Whether a range holds anything but zeros."""
    end = extent.offset_bytes + extent.length
    for start in range(extent.offset_bytes, end, piece_bytes):
        content = store.read(start, min(piece_bytes, end - start))
        if content != bytes(len(content)):
            return True
    return False
