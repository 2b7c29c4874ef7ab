"""Finding what lies beside the files: swap, journals, free inodes, free space, slack, gaps.

The ranges are those of the volumes' inventories. A change carries them; nothing else is written.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from zeroseal.blocks.patches import Patch, zero_patches
from zeroseal.filesystems.inventory import Part
from zeroseal.traces.changes import Change, ForgetFileChanges, WritePatches
from zeroseal.traces.context import FindContext
from zeroseal.volumes.lvm.hosts import iter_host_patches
from zeroseal.volumes.swap import data_range, find_swap

_SHADOW_HEADER_AT, _SHADOW_HEADER_BYTES = 0x1E00, 512
_SHADOW_HEADER = bytes.fromhex("6b87083876c1484eb7ae04046e6cc752")


def find_swaps(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the swap volumes."""
    for volume in context.swaps:
        area = find_swap(volume.store)
        ranges = [data_range(volume.store, area)] if area else []
        yield from _patched(volume.name, zero_patches(volume.store, ranges, "swap"))


def find_journals(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the journals of the mounted file systems, and their journals of changes."""
    yield from _find_part(context, Part.JOURNAL)
    for mount in context.guest.mounts:
        stored = mount.driver.stored_changes(mount.tree)
        if stored:
            yield ForgetFileChanges(mount.volume.name, stored), "the change journal"


def find_free_inodes(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the unused inodes of the mounted file systems."""
    return _find_part(context, Part.FREE_INODES)


def find_free_space(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the free space of the mounted file systems."""
    return _find_part(context, Part.FREE_SPACE)


def find_slack(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the slack of the mounted file systems."""
    return _find_part(context, Part.SLACK)


def find_gaps(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the places between volumes, each once."""
    for where in dict.fromkeys(gap.where for gap in context.gaps):
        gaps = [gap for gap in context.gaps if gap.where == where]
        ranges = [(gap.offset_bytes, gap.length) for gap in gaps]
        patches = zero_patches(gaps[0].store, ranges, "gap")
        yield from _patched(gaps[0].volume, patches, place=where)


def find_shadow_headers(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the headers of shadow copies, which lie in the boot sectors of a volume of Windows."""
    for mount in context.guest.mounts:
        if "windows" not in mount.driver.holds_root_of:
            continue
        store = mount.volume.store
        if store.read(_SHADOW_HEADER_AT, len(_SHADOW_HEADER)) == _SHADOW_HEADER:
            ranges = [(_SHADOW_HEADER_AT, _SHADOW_HEADER_BYTES)]
            patches = zero_patches(store, ranges, "header of shadow copies")
            yield from _patched(mount.volume.name, patches, "in the boot sectors")


def find_lvm_hosts(context: FindContext) -> Iterator[tuple[Change, str]]:
    """Yields the physical volumes whose metadata names the hosts that changed it."""
    for volume in context.physical_volumes:
        yield from _patched(volume.name, iter_host_patches(volume), "LVM metadata")


def _find_part(context: FindContext, part: Part) -> Iterator[tuple[Change, str]]:
    for mount in context.guest.mounts:
        patches = context.inventory_of(mount).patches(part)
        yield from _patched(mount.volume.name, patches, f"mounted on {mount.path}")


def _patched(
    volume: str, patches: Iterable[Patch], evidence: str = "", place: str = ""
) -> Iterator[tuple[Change, str]]:
    """The change that writes some patches, if there are any."""
    found = tuple(patches)
    if found:
        yield WritePatches(place or volume, volume, found), evidence
