"""Applying a plan to a staged layer."""

from __future__ import annotations

from typing import assert_never

from zeroseal.guests.guest import Guest
from zeroseal.guests.services import Services
from zeroseal.progress import Progress, Step
from zeroseal.sealing.first_boot import plant
from zeroseal.sealing.plan import Plan
from zeroseal.sealing.subject import Subject
from zeroseal.traces.changes import (
    DropAccounts,
    DropHostNames,
    EmptyFile,
    LockPassword,
    PathChange,
    RemovePath,
    ReplaceContent,
    RewriteInitramfs,
    VolumeChange,
)
from zeroseal.traces.initramfs_finder import rewritten_initramfs
from zeroseal.traces.text_edits import drop_accounts, drop_host_names, lock_password
from zeroseal.traces.volume_finders import blank


def apply_plan(plan: Plan, subject: Subject, progress: Progress) -> None:
    """Does all that the plan says.

    Args:
        plan: made from the same store.
        subject: read from the staged store, with trees that can be changed.
        progress: told of each finding.
    """
    guest = subject.opened.guest
    changes = [finding.change for finding in plan.treated]
    for number, change in enumerate(changes):
        progress(Step("removing", number, len(changes), "findings"))
        if not isinstance(change, VolumeChange):
            apply_to_path(change, guest)
    if plan.choices.plant_first_boot:
        plant(guest, plan.guard.planted, Services(guest))
    guest.finish()
    context = subject.context(plan.choices)
    for change in changes:
        if isinstance(change, VolumeChange):
            blank(change, context)
    progress(Step("removing", len(changes), len(changes), "findings"))


def apply_to_path(change: PathChange, guest: Guest) -> None:
    """Treats one place in the guest's tree."""
    match change:
        case RemovePath(path=path):
            guest.remove(path)
        case EmptyFile(path=path):
            guest.replace_content(path, b"")
        case ReplaceContent(path=path, content=content):
            guest.replace_content(path, content.encode())
        case DropAccounts(path=path):
            _rewrite(guest, path, drop_accounts(guest.read_text(path), change))
        case LockPassword(path=path):
            _rewrite(guest, path, lock_password(guest.read_text(path), change))
        case DropHostNames(path=path):
            _rewrite(guest, path, drop_host_names(guest.read_text(path), change))
        case RewriteInitramfs(path=path):
            guest.replace_content(path, rewritten_initramfs(guest, change))
        case _:
            assert_never(change)


def _rewrite(guest: Guest, path: str, text: str) -> None:
    guest.replace_content(path, text.encode("utf-8", "surrogateescape"))
