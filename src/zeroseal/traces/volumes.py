"""Finding what lies beside the files: swap, journals, free inodes, free space, slack, gaps.

The ranges are those of the volumes' inventories. A change carries them; nothing else is written.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import ClassVar

from zeroseal.blocks.patches import Patch, zero_patches
from zeroseal.filesystems.inventory import Part
from zeroseal.traces.changes import ForgetFileChanges, WritePatches
from zeroseal.traces.finder import FindContext, Finder, Found
from zeroseal.volumes.lvm.hosts import iter_host_patches
from zeroseal.volumes.swap import data_range, find_swap

_SHADOW_HEADER_AT, _SHADOW_HEADER_BYTES = 0x1E00, 512
_SHADOW_HEADER = bytes.fromhex("6b87083876c1484eb7ae04046e6cc752")


class SwapVolumes(Finder[FindContext]):
    """Finds the swap volumes."""

    name = "swap"

    def find(self, context: FindContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        for volume in context.swaps:
            area = find_swap(volume.store)
            ranges = [data_range(volume.store, area)] if area else []
            yield from _patched(volume.name, zero_patches(volume.store, ranges, "swap"))


class Journals(Finder[FindContext]):
    """Finds the journals of the mounted file systems, and their journals of changes."""

    name = "file-system-journal"

    def find(self, context: FindContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        yield from _find_part(context, Part.JOURNAL)
        for mount in context.guest.volume_mounts:
            stored = mount.driver.stored_changes(mount.tree)
            if stored:
                yield ForgetFileChanges(mount.volume.name, stored), "the change journal"


class _PartFinder(Finder[FindContext]):
    """Finds what is stale in one part of the mounted file systems."""

    part: ClassVar[Part]

    def find(self, context: FindContext) -> Iterator[Found]:
        return _find_part(context, self.part)


class FreeInodes(_PartFinder):
    """Finds the unused inodes of the mounted file systems."""

    name = "free-inodes"
    part = Part.FREE_INODES


class FreeSpace(_PartFinder):
    """Finds the free space of the mounted file systems."""

    name = "free-space"
    part = Part.FREE_SPACE


class SlackSpace(_PartFinder):
    """Finds the slack of the mounted file systems."""

    name = "slack"
    part = Part.SLACK


class Gaps(Finder[FindContext]):
    """Finds the places between volumes, each once."""

    name = "gaps"

    def find(self, context: FindContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        for where in dict.fromkeys(gap.where for gap in context.gaps):
            gaps = [gap for gap in context.gaps if gap.where == where]
            ranges = [(gap.offset_bytes, gap.length) for gap in gaps]
            patches = zero_patches(gaps[0].store, ranges, "gap")
            yield from _patched(gaps[0].volume, patches, place=where)


class ShadowCopyHeaders(Finder[FindContext]):
    """Finds the headers of shadow copies, which lie in the boot sectors of a volume of Windows."""

    name = "shadow-copy-headers"

    def find(self, context: FindContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        for mount in context.guest.volume_mounts:
            if "windows" not in mount.driver.holds_root_of:
                continue
            store = mount.volume.store
            if store.read(_SHADOW_HEADER_AT, len(_SHADOW_HEADER)) == _SHADOW_HEADER:
                ranges = [(_SHADOW_HEADER_AT, _SHADOW_HEADER_BYTES)]
                patches = zero_patches(store, ranges, "header of shadow copies")
                yield from _patched(mount.volume.name, patches, "in the boot sectors")


class LvmHosts(Finder[FindContext]):
    """Finds the physical volumes whose metadata names the hosts that changed it."""

    name = "lvm-hosts"

    def find(self, context: FindContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        for volume in context.physical_volumes:
            yield from _patched(volume.name, iter_host_patches(volume), "LVM metadata")


def _find_part(context: FindContext, part: Part) -> Iterator[Found]:
    for mount in context.guest.volume_mounts:
        patches = context.inventory_of(mount).patches(part)
        yield from _patched(mount.volume.name, patches, f"mounted on {mount.path}")


def _patched(
    volume: str, patches: Iterable[Patch], evidence: str = "", place: str = ""
) -> Iterator[Found]:
    """The change that writes some patches, if there are any."""
    found = tuple(patches)
    if found:
        yield WritePatches(place or volume, volume, found), evidence
