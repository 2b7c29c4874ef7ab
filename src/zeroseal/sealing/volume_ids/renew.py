"""Planning and giving a disk other identities, and looking at the result afresh."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from zeroseal.blocks.staged import StagedStore
from zeroseal.blocks.store import Store
from zeroseal.errors import NotProvenError
from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.grub_core import parse_grub_core
from zeroseal.guests.linux.initramfs import change_initramfs, find_entries
from zeroseal.guests.system import as_windows
from zeroseal.images.detect import opened_image
from zeroseal.images.in_place import InPlaceChange
from zeroseal.images.reach import OWN_FOLDER, Reach
from zeroseal.messages import sealing as messages
from zeroseal.progress import Progress, quiet
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.proof import check_file_systems
from zeroseal.sealing.volume_ids.ids import (
    Form,
    FormSearch,
    IdKind,
    NewId,
    VolumeId,
    all_forms,
    list_volume_ids,
    make_new_ids,
    name_of_group,
    pairs_of,
    set_volume_ids,
)
from zeroseal.sealing.volume_ids.references import References, find_references
from zeroseal.sentences import some_of

_LONGEST_FILE = 512 << 20
_GRUB_BLOCK, _GRUB_BLOCK_BYTES = b"# GRUB Environment Block\n", 1024

Change = Callable[[bytes], bytes]
Pairs = Sequence[tuple[bytes, bytes]]


@dataclass(frozen=True)
class IdPlan:
    """What a disk has, and what names it; good for every copy of that disk.

    Attributes:
        ids: its identities.
        references: what in its guest names them.
    """

    ids: tuple[VolumeId, ...]
    references: References


def plan_new_ids(
    path: Path,
    progress: Progress = quiet,
    reach: Reach = OWN_FOLDER,
    *,
    renames_group: bool = False,
) -> IdPlan:
    """Looks at an image for other identities; writes nothing.

    Args:
        path: the image.
        progress: told how far it is.
        reach: what the image is, and what may be read for it.
        renames_group: whether its volume group is to get another name too.

    Raises:
        ImageError, RefusedError: they cannot be changed everywhere.
    """
    with opened_image(path, reach=reach) as image:
        return plan_on(Inspection.read(image), progress, renames_group=renames_group)


def plan_on(
    inspection: Inspection, progress: Progress = quiet, *, renames_group: bool = False
) -> IdPlan:
    """The same for a disk that was inspected."""
    ids = list_volume_ids(inspection.disk)
    if renames_group:
        ids.append(name_of_group(inspection.disk))
    forms = _old_forms(ids, inspection)
    references = find_references(inspection, forms, progress)
    return IdPlan(tuple(ids), references)


def renew_disk_ids(path: Path, plan: IdPlan, now: int, group_name: str = "") -> tuple[NewId, ...]:
    """Gives the disk of an image other identities; whole, or not at all.

    Args:
        path: an image that is a copy of the one that was planned for, or hangs on it.
        plan: what ``plan_new_ids`` found.
        now: the moment of the change, seconds since 1970.
        group_name: of its volume group; empty to keep the name.

    Raises:
        ImageError, RefusedError: it cannot be changed; it is as it was.
    """
    with InPlaceChange(path) as change:
        staged = StagedStore(change.image)
        made = renew_ids(staged, plan, now, group_name)
        change.take(staged)
        change.commit()
    return made


def renew_ids(staged: Store, plan: IdPlan, now: int, group_name: str = "") -> tuple[NewId, ...]:
    """Gives a staged disk other identities, and looks at the result afresh.

    Raises:
        ImageError, RefusedError: something cannot be changed.
        NotProvenError: something still names an old one.
    """
    inspection = Inspection.read(staged)
    new = make_new_ids(plan.ids, inspection.disk, group_name)
    forms = all_forms(new)
    change = FormSearch(forms).replaced
    inspection.guest.start_editing(now)
    _change_files(inspection.guest, plan.references, change)
    _change_hives(inspection, plan.references, new, pairs_of(forms), now)
    _change_names(inspection.guest, plan.references, change)
    inspection.guest.finish()
    for place in plan.references.embedded:
        raw = staged.read(place.offset_bytes, place.length)
        staged.write(place.offset_bytes, parse_grub_core(raw).changed(change))
    set_volume_ids(staged, inspection.disk, new)
    _look_again(staged, plan, new, change)
    return tuple(new)


def _change_files(guest: Guest, references: References, change: Change) -> None:
    for path in references.files:
        _put(guest, path, change(guest.read_file(path, _LONGEST_FILE)))
    for path in references.archives:
        _put(guest, path, change_initramfs(guest.read_file(path, _LONGEST_FILE), change))
    for path in references.cores:
        core = parse_grub_core(guest.read_file(path, _LONGEST_FILE))
        _put(guest, path, core.changed(change))


def _change_names(guest: Guest, references: References, change: Change) -> None:
    for path in references.links:
        target = guest.read_link(path).encode("utf-8", "surrogateescape")
        guest.remove(path)
        guest.create_link(path, change(target).decode("utf-8", "surrogateescape"))
    for path in references.names:
        name = path.rpartition("/")[2].encode("utf-8", "surrogateescape")
        guest.rename(path, change(name).decode("utf-8", "surrogateescape"))


def _change_hives(
    inspection: Inspection, references: References, new: Sequence[NewId], pairs: Pairs, now: int
) -> None:
    system = as_windows(inspection.system)
    if system is None or not references.hives:
        return
    from zeroseal.guests.windows import volume_ids
    from zeroseal.guests.windows.hives import HiveSet

    hives = HiveSet(system.registry, now)
    pairs = volume_ids.with_wide(pairs)
    signatures = [one for one in new if one.old.kind is IdKind.MBR]
    for path in references.hives:
        hives.editor(path).replace_bytes(pairs)
        for one in signatures:
            old, after = (int(text, 16).to_bytes(4, "little") for text in (one.old.text, one.new))
            volume_ids.replace_signature(hives, path, old, after)
    hives.finish()


def _put(guest: Guest, path: str, content: bytes) -> None:
    if content.startswith(_GRUB_BLOCK):  # it has a size that GRUB does not change
        content = content.rstrip(b"#").ljust(_GRUB_BLOCK_BYTES, b"#")
    guest.replace_content(path, content)


def _old_forms(ids: Sequence[VolumeId], inspection: Inspection) -> list[Form]:
    """How the identities are written now; what they become does not matter for a search."""
    return all_forms(make_new_ids(ids, inspection.disk, "x"))


def _look_again(staged: Store, plan: IdPlan, new: Sequence[NewId], change: Change) -> None:
    """Reads the disk afresh: sound, with the new identities, and no file names an old one.

    Raises:
        NotProvenError: a file does.
    """
    inspection = Inspection.read(staged)
    check_file_systems(inspection.disk, inspection.trees)
    there = {one.text for one in list_volume_ids(inspection.disk)}
    if there != {one.new for one in new if one.old.kind is not IdKind.GROUP}:
        raise NotProvenError(messages.IDS_NOT_CHANGED.format(places="the disk"))
    left = [path for path in _changed_paths(plan.references, change) if
            _still_names(inspection.guest, path, change)]  # fmt: skip
    if left:
        raise NotProvenError(messages.IDS_NOT_CHANGED.format(places=some_of(left)))


def _changed_paths(references: References, change: Change) -> list[str]:
    """Where what was changed lies now: folders on the way may have other names."""
    paths = (*references.files, *references.archives, *references.cores, *references.hives)
    return [
        change(path.encode("utf-8", "surrogateescape")).decode("utf-8", "surrogateescape")
        for path in paths
    ]


def _still_names(guest: Guest, path: str, change: Change) -> bool:
    """Whether a file still names an old identity: something is left to be replaced."""
    if not guest.is_file(path):
        return True
    raw = guest.read_file(path, _LONGEST_FILE)
    if change(raw) != raw:
        return True
    try:
        entries = find_entries(raw, lambda _path: True)
    except ValueError:
        return False  # no archive
    return any(entry.changed(change) != entry for entry in entries)
