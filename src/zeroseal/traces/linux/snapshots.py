"""Snapshots of the file systems that a Linux mounts: removed, or treated like the guest itself."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import ClassVar

from zeroseal.guests.linux.subvolumes import Snapshot, guest_of_snapshot
from zeroseal.traces.changes import Change, Workbench
from zeroseal.traces.finder import Finder, Found
from zeroseal.traces.linux.context import LinuxContext

_RECORD = "info.xml"  # snapper(8): beside the snapshot, in a folder with its number


@dataclass(frozen=True)
class DropSnapshot(Change):
    """Removes a snapshot, and the record that the tool which made it has of it."""

    snapshot: Snapshot

    @property
    def place(self) -> str:
        """The volume and the subvolume."""
        return self.snapshot.place

    def apply(self, bench: Workbench) -> None:  # noqa: D102 - as in Change
        guest, volume = bench.guest, self.snapshot.volume
        mount = next(one for one in guest.volume_mounts if one.volume.name == volume.name)
        mount.driver.drop_subvolume(guest.editor_of(mount), self.snapshot.subvolume.number)
        folder, _slash, _name = self.snapshot.subvolume.path.rpartition("/")
        guest.forget_ways()
        for above in guest.mounts:
            if above.subvolume and above.volume.name == volume.name:
                path = _path_within(folder, above.subvolume.path, above.path)
                if path and guest.is_file(f"{path}/{_RECORD}"):
                    guest.remove(path)
                    return


@dataclass(frozen=True)
class InSnapshot(Change):
    """A change that is made in a snapshot as it is made in the guest."""

    has_size: ClassVar[bool] = True
    snapshot: Snapshot
    change: Change

    @property
    def place(self) -> str:
        """The snapshot and the path in it."""
        return f"{self.snapshot.place}: {self.change.place}"

    def apply(self, bench: Workbench) -> None:  # noqa: D102
        number = self.snapshot.subvolume.number
        if number not in bench.snapshot_guests:
            bench.snapshot_guests[number] = guest_of_snapshot(bench.guest, self.snapshot)[0]
        self.change.apply(replace(bench, guest=bench.snapshot_guests[number]))


class Snapshots(Finder[LinuxContext]):
    """Finds the snapshots, where they are to be removed; those that hold others come last."""

    name = "snapshots"

    def find(self, context: LinuxContext) -> Iterator[Found]:  # noqa: D102 - as in Finder
        if not context.drops_snapshots:
            return
        for one in sorted(context.snapshots, key=lambda one: -one.subvolume.path.count("/")):
            evidence = "holds an earlier state of the machine"
            yield DropSnapshot(one), evidence


def _path_within(folder: str, subvolume: str, mount_point: str) -> str:
    """Where a mount of a subvolume shows a folder; empty where it does not."""
    if folder == subvolume or not folder:
        return ""
    if not subvolume:
        return f"{mount_point.rstrip('/')}/{folder}"
    if folder.startswith(f"{subvolume}/"):
        return f"{mount_point.rstrip('/')}/{folder.removeprefix(f'{subvolume}/')}"
    return ""
