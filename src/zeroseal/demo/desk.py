"""The Windows part of the example: a desk is sealed with a new identifier, and cloned twice."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from zeroseal.errors import RefusedError
from zeroseal.machines.adopt import adopt_image
from zeroseal.machines.hosts.host import Run
from zeroseal.machines.hosts.simulated import SimulatedHost
from zeroseal.machines.sheet.secret_values import Secrets
from zeroseal.machines.yard import Yard, YardMachine
from zeroseal.progress import Progress
from zeroseal.sealing.check import CheckResult, check_image
from zeroseal.sealing.compare import Comparison, compare_images
from zeroseal.sealing.job import SealRequest, SealResult, plan_image, seal
from zeroseal.sealing.plan import check_allowed
from zeroseal.sealing.policy import DEFAULT_POLICY, SealOptions, resolve
from zeroseal.sealing.targets.new_file import NewFile
from zeroseal.sealing.verdict import Level
from zeroseal.templates.clone import CloneBatch, CloneSource, MadeClone, make_clones
from zeroseal.templates.clone_sheet.load import load_clone_sheet
from zeroseal.templates.shelf.intake import NewTemplate, take_in
from zeroseal.templates.shelf.shelf import Shelf

DESK_DISK, DESKS = "purser-ref.qcow2", "desks.toml"
DESK_MACHINE, DESK_TEMPLATE = "purser-ref", "purser"
SEALED_DESK, DESK_VERSION = "purser.sealed.qcow2", "2026-11"


@dataclass(frozen=True)
class DeskStory:
    """What happened to the desk.

    Attributes:
        refusal: why a seal without a new identifier was refused.
        result: of the seal with one.
        clones: two, each with identifiers of its own, and their ``runs``.
        comparison: of the clones and their template.
    """

    machine: YardMachine
    refusal: str
    result: SealResult
    sealed: CheckResult
    clones: tuple[MadeClone, ...]
    runs: tuple[Run, ...]
    comparison: Comparison


def run_desk(folder: Path, yard: Yard, shelf: Shelf, now: int, progress: Progress) -> DeskStory:
    """Adopts the machine, seals it, shelves it, clones it, starts the clones on a simulated host.

    Raises:
        ZeroSealError: a step does not go as told.
    """
    machine = adopt_image(yard, folder / DESK_DISK, DESK_MACHINE)
    refusal = ""
    try:
        check_allowed(plan_image(machine.disk, DEFAULT_POLICY, progress).plan)
    except RefusedError as error:
        refusal = error.message
    policy, sealed = resolve(SealOptions(reissue_sid=True)), folder / SEALED_DESK
    result = seal(SealRequest(machine.disk, NewFile(sealed), policy, now), progress)
    checked = check_image(sealed, Level.FULL, progress)
    take_in(shelf, sealed, NewTemplate(DESK_TEMPLATE, DESK_VERSION, "purser's desk"), now, progress)
    loaded = load_clone_sheet(folder / DESKS, Secrets())
    source = CloneSource.find(loaded.template, shelf)
    batch = CloneBatch(source, loaded.wishes, now, reissue_sid=True)
    clones = make_clones(batch, yard, shelf, progress)
    host = SimulatedHost(yard, now)
    names = [clone.machine.definition.name for clone in clones]
    runs = tuple(host.start(yard.get(name), is_bound=False) for name in names)
    disks = [clone.machine.disk for clone in clones]
    comparison = compare_images([*disks, source.disk], progress)
    return DeskStory(
        machine=machine,
        refusal=refusal,
        result=result,
        sealed=checked,
        clones=tuple(clones),
        runs=runs,
        comparison=comparison,
    )
