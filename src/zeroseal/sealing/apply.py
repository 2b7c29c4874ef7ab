"""Applying a plan to a staged layer."""

from __future__ import annotations

from typing import assert_never

from zeroseal.guests.guest import Guest
from zeroseal.guests.services import Services
from zeroseal.guests.windows.hives import HiveSet
from zeroseal.guests.windows.reissue import reissue_sid
from zeroseal.progress import Progress, Step
from zeroseal.sealing.apply_to_registry import apply_to_registry
from zeroseal.sealing.first_boot import plant
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.plan import Plan
from zeroseal.traces.changes import (
    BlankSwapFile,
    EmptyFile,
    ForgetFileChanges,
    PathChange,
    PutFile,
    RegistryChange,
    ReissueSid,
    RemovePath,
    RenamePath,
    ReplaceContent,
    RewriteInitramfs,
    TextChange,
    WritePatches,
)
from zeroseal.traces.initramfs_finder import rewritten_initramfs
from zeroseal.traces.swap_file_finder import header_bytes
from zeroseal.traces.text_edits import rewrite_text


def apply_plan(plan: Plan, inspection: Inspection, progress: Progress, now: int) -> None:
    """Does all that the plan says.

    Stale ranges come first: edits then begin on a volume without any, and leave none behind.

    Args:
        plan: made from the same inspection.
        inspection: of a store that may be changed; its guest is opened for editing here.
        progress: told of each finding.
        now: the moment that changed keys of a registry are given, seconds since 1970.
    """
    guest = inspection.guest
    changes = [finding.change for finding in plan.treated]
    for change in changes:
        if isinstance(change, WritePatches):
            store = inspection.store_of(change.volume)
            for patch in change.patches:
                patch.apply(store)
    guest.start_editing(now)
    hives = HiveSet(guest, now)
    for number, change in enumerate(changes):
        progress(Step("removing", number, len(changes), "findings"))
        if isinstance(change, RegistryChange):
            apply_to_registry(change, hives)
        elif isinstance(change, ForgetFileChanges):
            mount = next(item for item in guest.mounts if item.volume.name == change.volume)
            mount.driver.forget_changes(guest.editor_of(mount))
        elif not isinstance(change, WritePatches | ReissueSid):
            apply_to_path(change, guest)
    hives.finish()
    for change in changes:
        if isinstance(change, ReissueSid):
            progress(Step("giving the machine another identifier", 0, 0))
            reissue_sid(guest, change.sid, now)
    if plan.planted_files:
        plant(guest, plan.guard.planted, Services(guest), also_always=plan.policy.plants_first_boot)
    guest.finish()
    progress(Step("removing", len(changes), len(changes), "findings"))


def apply_to_path(change: PathChange, guest: Guest) -> None:
    """Treats one place in the guest's tree."""
    if isinstance(change, TextChange):
        text = rewrite_text(guest.read_text(change.path), change)
        guest.replace_content(change.path, text.encode("utf-8", "surrogateescape"))
        return
    match change:
        case RemovePath(path=path):
            guest.remove(path)
        case EmptyFile(path=path):
            guest.replace_content(path, b"")
        case ReplaceContent(path=path, content=content):
            guest.replace_content(path, content.encode())
        case PutFile(path=path, content=content):
            guest.put_file(path, content.encode(), 0o644)
        case RenamePath(path=path, new_name=new_name):
            guest.rename(path, new_name)
        case BlankSwapFile(path=path):
            guest.zero_content(path, header_bytes(guest, path))
        case RewriteInitramfs(path=path):
            guest.replace_content(path, rewritten_initramfs(guest, change))
        case _:
            assert_never(change)
