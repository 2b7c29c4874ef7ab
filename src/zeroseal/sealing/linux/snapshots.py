"""Snapshots: what stands against a seal because of them, and what is found in each of them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from zeroseal.guests.linux.subvolumes import Snapshot, guest_of_snapshot
from zeroseal.guests.linux.system import LinuxSystem
from zeroseal.messages import sealing_linux as messages
from zeroseal.sealing.policy import Policy
from zeroseal.sealing.remark import Remark
from zeroseal.sentences import counted, some_of
from zeroseal.traces.changes import PathChange
from zeroseal.traces.finders import find_trace
from zeroseal.traces.finding import Finding
from zeroseal.traces.linux.context import LinuxContext
from zeroseal.traces.linux.snapshots import InSnapshot

_DISK = "disk"  # the family of traces that lie beside the files


def snapshot_remarks(context: LinuxContext, policy: Policy) -> Iterator[Remark]:
    """Snapshots stop a seal until it is said what becomes of them."""
    of_root = [one for one in context.snapshots if one.is_of_root]
    others = [one for one in context.snapshots if not one.is_of_root]
    for found, what in ((of_root, "of the root file system"), (others, "of a mounted subvolume")):
        if not found:
            continue
        count = counted(len(found), "snapshot")
        volume = found[0].volume.name
        paths = f"{volume}: {some_of([one.subvolume.path for one in found])}"
        if policy.drops_snapshots:
            text = messages.SNAPSHOTS_DROPPED.format(count=count, what=what, paths=paths)
            yield Remark("snapshots-dropped", text)
        elif policy.seals_snapshots:
            text = messages.SNAPSHOTS_SEALED.format(count=count, what=what, paths=paths)
            yield Remark("snapshots-sealed", text)
        else:
            text = messages.SNAPSHOTS_STAY.format(count=count, what=what, paths=paths)
            yield Remark("snapshots", text)


def find_in_snapshots(context: LinuxContext, policy: Policy) -> Iterator[Finding]:
    """Finds in each snapshot what the catalogue finds in the guest, where that is asked for."""
    if policy.seals_snapshots:
        for snapshot in context.snapshots:
            yield from _find_in(snapshot, context, policy)


def _find_in(snapshot: Snapshot, context: LinuxContext, policy: Policy) -> Iterator[Finding]:
    guest, shown = guest_of_snapshot(context.guest, snapshot)
    own = replace(
        context, guest=guest, system=LinuxSystem(guest), swaps=[], gaps=(), physical_volumes=()
    )
    claimed: set[str] = set()
    for trace in policy.catalogue:
        if trace.guest not in ("any", "linux") or trace.family == _DISK:
            continue
        for finding in find_trace(trace, own, claimed):
            change = finding.change
            if isinstance(change, PathChange) and guest.mount_of(change.path) == shown:
                yield replace(finding, change=InSnapshot(snapshot, change))
