"""What is printed of machines: states, builds, trials, what was learned."""

from __future__ import annotations

from typing import Literal, NotRequired, TypedDict

from zeroseal.machines.definition import MachineDefinition
from zeroseal.machines.snapshots import MachineSnapshot
from zeroseal.machines.tasks import TaskReport
from zeroseal.reports.schemas.disks import IdentityValue, MachineReadiness, Output
from zeroseal.templates.shelf.entry import ShelfEntry


class Machine(TypedDict):
    """A machine of a yard."""

    host: str
    definition: MachineDefinition
    disk: str
    running: bool
    boots: int
    address: str
    sshPort: int
    unfinished: str


class MachineOutput(Output, Machine):
    """One machine."""


class MachinesOutput(Output):
    """The machines of a yard."""

    machines: list[Machine]


class RunOutput(Output, Machine):
    """A machine that was started or stopped."""

    messages: list[str]
    simulated: bool


class Built(Machine):
    """A machine that was built."""

    new: bool
    simulated: bool
    seconds: int
    tasks: list[TaskReport]
    messages: list[str]
    readiness: MachineReadiness


class BuildsOutput(Output):
    """Machines that were built."""

    builds: list[Built]


class SnapshotsOutput(Output, Machine):
    """A machine and its snapshots."""

    snapshots: list[MachineSnapshot]
    addresses: NotRequired[list[str]]
    readiness: NotRequired[MachineReadiness]


class Removed(TypedDict):
    """A machine that was removed, and its disk where that stays."""

    name: str
    disk: str | None


class RemovalOutput(Output):
    """Machines that were removed."""

    removed: list[Removed]


class DefinitionOutput(Output):
    """A machine described for another host."""

    form: str
    text: str


class Template(TypedDict):
    """A template of the shelf."""

    entry: ShelfEntry
    state: str
    disk: str


class RenewalOutput(Output):
    """A machine that was patched, and its new template."""

    machine: Machine
    simulated: bool
    tasks: list[TaskReport]
    copyTasks: list[TaskReport]
    changes: list[str]
    snapshot: str
    dropped: list[str]
    messages: list[str]
    template: Template


class Regrown(TypedDict):
    """What became of one kind of identity."""

    kind: str
    good: bool
    text: str


class TriedMachine(TypedDict):
    """One machine of a trial."""

    name: str
    values: list[IdentityValue]
    failed: list[str]
    refused: list[str]
    messages: list[str]


class KeptFile(TypedDict):
    """A secret, or a file that looks like identity, that two machines have from their image."""

    path: str
    what: str


class TrialOutput(Output):
    """What two throwaway machines became."""

    good: bool
    simulated: bool
    image: str
    seconds: int
    regrowth: list[Regrown]
    kept: list[KeptFile]
    machines: list[TriedMachine]


class LearnedFile(TypedDict):
    """A file of two machines: different on each (own), or the same on both (shared)."""

    path: str
    sizeBytes: int
    renewal: Literal["own", "shared"]
    reasons: list[str]
    trace: str | None
    new: bool
    owner: str


class LearnedOutput(Output):
    """What two machines of an image taught."""

    good: bool
    simulated: bool
    image: str
    imageSealed: bool
    seconds: int
    sharedValues: list[str]
    compared: int
    timely: int
    files: list[LearnedFile]
    messages: list[str]
