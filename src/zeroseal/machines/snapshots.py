"""The way back: named snapshots of a machine's disk, each with what it is for.

They are qcow2's internal snapshots; what each is for stands in ``snapshots.json`` beside the disk.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from datetime import UTC, datetime

from zeroseal.errors import DamagedError, RefusedError, UnsupportedError, UsageError
from zeroseal.images.facts import read_image_facts
from zeroseal.images.in_place import InPlaceChange
from zeroseal.images.output import replace_small_file
from zeroseal.images.qcow2.snapshots import drop_snapshot, revert_to_snapshot, take_snapshot
from zeroseal.images.qcow2.write import WritableQcow2
from zeroseal.machines.yard import YardMachine
from zeroseal.messages import machines as messages

NOTES_FILE = "snapshots.json"


@dataclass(frozen=True)
class MachineSnapshot:
    """A state of the disk to come back to; ``taken_at`` is 0 where we did not take it."""

    name: str
    purpose: str = ""
    taken_at: int = 0

    @property
    def taken_on(self) -> str:
        """The minute it was taken, for people."""
        if not self.taken_at:
            return "-"
        return datetime.fromtimestamp(self.taken_at, UTC).strftime("%Y-%m-%d %H:%M")


def list_snapshots(machine: YardMachine) -> list[MachineSnapshot]:
    """The snapshots of a machine's disk, oldest first.

    Raises:
        DamagedError: the file that says what they are for cannot be understood.
    """
    notes = _read_notes(machine)
    names = read_image_facts(machine.disk).snapshots
    return [notes.get(name, MachineSnapshot(name)) for name in names]


def noted_names(machine: YardMachine) -> list[str]:
    """The names of the snapshots that were taken here, without a look at the disk."""
    return list(_read_notes(machine))


def take(machine: YardMachine, name: str, purpose: str, now: int) -> None:
    """Takes a snapshot of a machine that does not run.

    Raises:
        UsageError: the name is taken.
        RefusedError: it runs.
        UnsupportedError: its disk's format keeps no snapshots.
    """
    with _changing(machine) as image:
        take_snapshot(image, name, now)
    notes = _read_notes(machine) | {name: MachineSnapshot(name, purpose, now)}
    _write_notes(machine, notes)


def revert(machine: YardMachine, name: str) -> None:
    """Brings the disk back to a snapshot; what came after is lost, the snapshot stays.

    Raises:
        UsageError: there is none of that name.
        RefusedError, UnsupportedError: as ``take``.
    """
    _check_known(machine, name)
    with _changing(machine) as image:
        revert_to_snapshot(image, name)


def drop(machine: YardMachine, name: str) -> None:
    """Drops a snapshot; the disk's present state stays as it is.

    Raises:
        UsageError: there is none of that name.
        RefusedError, UnsupportedError: as ``take``.
    """
    _check_known(machine, name)
    with _changing(machine) as image:
        drop_snapshot(image, name)
    notes = _read_notes(machine)
    notes.pop(name, None)
    _write_notes(machine, notes)


def drop_older(machine: YardMachine, purpose: str, kept: int) -> list[str]:
    """Drops all but the last ``kept`` snapshots of one purpose; returns the dropped names."""
    mine = [item for item in list_snapshots(machine) if item.purpose == purpose]
    dropped = [item.name for item in mine[: max(0, len(mine) - kept)]]
    for name in dropped:
        drop(machine, name)
    return dropped


@contextmanager
def _changing(machine: YardMachine) -> Iterator[WritableQcow2]:
    name = machine.definition.name
    if machine.state.running:
        raise RefusedError(messages.STOP_MACHINE_FIRST.format(name=name))
    facts = read_image_facts(machine.disk)
    if facts.format_name != "qcow2":
        raise UnsupportedError(
            messages.DISK_CANNOT_KEEP_SNAPSHOTS.format(
                format_name=facts.format_name, disk=machine.disk
            )
        )
    with InPlaceChange(machine.disk) as change:
        image = change.image
        if not isinstance(image, WritableQcow2):  # pragma: no cover - it was asked for above
            raise UnsupportedError(messages.CANNOT_BE_CHANGED.format(disk=machine.disk))
        yield image
        image.flush()
        change.commit()


def _check_known(machine: YardMachine, name: str) -> None:
    names = [item.name for item in list_snapshots(machine)]
    if name not in names:
        raise UsageError(
            messages.NO_SNAPSHOT.format(
                name=machine.definition.name,
                snapshot=name,
                names=", ".join(names) or "no snapshots",
            )
        )


def _read_notes(machine: YardMachine) -> dict[str, MachineSnapshot]:
    path = machine.folder / NOTES_FILE
    if not path.is_file():
        return {}
    try:
        items = [MachineSnapshot(**item) for item in json.loads(path.read_text("utf-8"))]
    except (OSError, ValueError, TypeError) as error:
        raise DamagedError(messages.SNAPSHOTS_UNREADABLE.format(path=path, error=error)) from error
    return {item.name: item for item in items}


def _write_notes(machine: YardMachine, notes: dict[str, MachineSnapshot]) -> None:
    text = json.dumps([asdict(item) for item in notes.values()], indent=1) + "\n"
    replace_small_file(machine.folder / NOTES_FILE, text.encode())
