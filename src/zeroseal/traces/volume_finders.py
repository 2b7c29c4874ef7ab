"""Finding what lies beside the files of a volume: swap, journal, free inodes, free space."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.blocks.store import Store
from zeroseal.filesystems.cleaner import Cleaner, Part, stored_in
from zeroseal.filesystems.kinds import open_cleaner
from zeroseal.guests.guest import Mount
from zeroseal.traces.changes import (
    BlankFreeInodes,
    BlankFreeSpace,
    BlankGaps,
    BlankJournal,
    BlankShadowHeader,
    BlankSlack,
    BlankSwap,
    Change,
    ForgetHosts,
    VolumeChange,
)
from zeroseal.traces.context import FindContext
from zeroseal.volumes.lvm.hosts import forget_hosts, named_bytes
from zeroseal.volumes.lvm.read import PhysicalVolume
from zeroseal.volumes.swap import data_range, find_swap


def find_swaps(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the swap volumes."""
    for volume in context.swaps:
        yield BlankSwap(volume.name), ""


def find_journals(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the journals of the mounted file systems."""
    for mount in _journaled_mounts(context):
        yield BlankJournal(mount.volume.name), f"mounted on {mount.path}"


def find_free_inodes(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the unused inodes of the mounted file systems."""
    for mount in _journaled_mounts(context):
        yield BlankFreeInodes(mount.volume.name), f"mounted on {mount.path}"


def _journaled_mounts(context: FindContext) -> list[Mount]:
    return [mount for mount in context.guest.mounts if mount.volume.content.has_journal]


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


def find_shadow_headers(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the headers of shadow copies."""
    for mount in context.guest.mounts:
        if mount.volume.content.kind == "ntfs":
            yield BlankShadowHeader(mount.volume.name), "in the boot sectors"


def find_lvm_hosts(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the physical volumes whose metadata names the hosts that changed it."""
    for volume in context.physical_volumes:
        yield ForgetHosts(volume.name), "LVM metadata"


RangeChange = (
    BlankSwap | BlankJournal | BlankFreeInodes | BlankFreeSpace | BlankGaps | BlankShadowHeader
)
_DIRECT = BlankSwap | BlankGaps | BlankShadowHeader
_SHADOW_HEADER_AT, _SHADOW_HEADER_BYTES = 0x1E00, 512
_SHADOW_HEADER = bytes.fromhex("6b87083876c1484eb7ae04046e6cc752")
_PARTS: dict[type[VolumeChange], Part] = {
    BlankJournal: Part.JOURNAL,
    BlankFreeInodes: Part.FREE_INODES,
    BlankFreeSpace: Part.FREE_SPACE,
    BlankSlack: Part.SLACK,
}


def blank(change: VolumeChange, context: FindContext) -> None:
    """Zeroes what a change is about, or leaves what the format has in its place."""
    if isinstance(change, ForgetHosts):
        forget_hosts(_physical_volume(change, context))
    elif isinstance(change, _DIRECT):
        for store, offset, length in list(ranges_of(change, context)):
            store.zero(offset, length)
    else:
        _cleaner(change, context).blank(_PARTS[type(change)])


def stored_bytes(change: VolumeChange, context: FindContext) -> int:
    """How much of it is stored, 0 where all of that is clean."""
    if isinstance(change, ForgetHosts):
        return named_bytes(_physical_volume(change, context))
    if isinstance(change, _DIRECT):
        places = list(ranges_of(change, context))
        stored = [stored_in(store, [(offset, length)]) for store, offset, length in places]
        return sum(stored)
    return _cleaner(change, context).stored_bytes(_PARTS[type(change)])


def ranges_of(change: RangeChange, context: FindContext) -> Iterator[tuple[Store, int, int]]:
    """The (store, offset, length) ranges that a change cleans."""
    if isinstance(change, BlankGaps):
        for gap in context.gaps:
            if gap.where == change.volume:
                yield gap.store, gap.offset_bytes, gap.length
        return
    store = context.get_volume(change.volume).store
    if isinstance(change, BlankShadowHeader):
        if store.read(_SHADOW_HEADER_AT, len(_SHADOW_HEADER)) == _SHADOW_HEADER:
            yield store, _SHADOW_HEADER_AT, _SHADOW_HEADER_BYTES
        return
    if isinstance(change, BlankSwap):
        area = find_swap(store)
        if area:
            yield store, *data_range(store, area)
        return
    for offset, length in _cleaner(change, context).ranges(_PARTS[type(change)]):
        yield store, offset, length


def _physical_volume(change: ForgetHosts, context: FindContext) -> PhysicalVolume:
    return next(item for item in context.physical_volumes if item.name == change.volume)


def _cleaner(change: VolumeChange, context: FindContext) -> Cleaner:
    volume = context.get_volume(change.volume)
    return open_cleaner(volume.content.kind, volume.store, volume.name)
