"""The full example, from build sheets to clones; nothing outside its folder is touched."""

from __future__ import annotations

from dataclasses import dataclass
from importlib import resources
from pathlib import Path

from zeroseal.demo.desk import DESK_DISK, DESKS, DeskStory, run_desk
from zeroseal.errors import RefusedError, environment_error
from zeroseal.machines.adopt import adopt_image
from zeroseal.machines.build import BuildWish, build_machine
from zeroseal.machines.hosts.host import Run
from zeroseal.machines.hosts.simulated import SimulatedHost
from zeroseal.machines.sheet.load import Wishes, load_sheet
from zeroseal.machines.sheet.secret_values import Secrets
from zeroseal.machines.yard import Yard, YardMachine
from zeroseal.messages import cli as messages
from zeroseal.progress import Progress, quiet
from zeroseal.sealing.check import CheckResult, check_image
from zeroseal.sealing.compare import Comparison, compare_images
from zeroseal.sealing.job import SealRequest, SealResult, seal
from zeroseal.sealing.policy import DEFAULT_POLICY
from zeroseal.sealing.survey import Survey, survey_image
from zeroseal.sealing.targets.new_file import NewFile
from zeroseal.sealing.verdict import Level
from zeroseal.templates.clone import CloneBatch, CloneSource, MadeClone, make_clones
from zeroseal.templates.clone_check import CloneAnswer, check_clone
from zeroseal.templates.clone_sheet.load import load_clone_sheet
from zeroseal.templates.renew import RenewWish, renew_machine
from zeroseal.templates.shelf.difference import Difference, compare_templates
from zeroseal.templates.shelf.entry import Template
from zeroseal.templates.shelf.intake import NewTemplate, take_in
from zeroseal.templates.shelf.shelf import Shelf

BASE_DISK, SERVER_DISK = "tideline-4.qcow2", "tideline-4-server.qcow2"
SHEET, OTHER_SHEET, PATCHES = "gangway.toml", "ledger.toml", "november.toml"
GATES, LEDGERS = "gates.toml", "ledgers.csv"
MACHINE, OTHER_MACHINE = "gangway-ref", "ledger-ref"
SEALED_DISK = "gangway.sealed.qcow2"
TEMPLATE, OTHER_TEMPLATE = "gangway", "ledger"
VERSIONS = ("2026-10", "2026-11")
BY_ACCIDENT = "by-accident"
_MINUTE = 60
_SHIPPED = (BASE_DISK, SERVER_DISK, SHEET, OTHER_SHEET, PATCHES, GATES, LEDGERS, DESK_DISK, DESKS)


@dataclass(frozen=True)
class DemoStory:
    """What happened, step by step.

    Attributes:
        before: the check of the reference machine's disk.
        sealed: the check of the sealed disk.
        templates: what is on the shelf in the end.
        difference: between the two versions of the ticket gate.
        clones: two linked ones that take a seed, then two full ones that were told in their disks.
        runs: the starts of the clones.
        answers: by clone, whether each became what its sheet asks for.
        accident: a machine that took the sealed disk itself and was started.
        broken: the check of its disk.
        desk: what happened to a third machine, with Windows.
    """

    folder: Path
    machine: YardMachine
    survey: Survey
    before: CheckResult
    result: SealResult
    sealed: CheckResult
    templates: tuple[Template, ...]
    difference: Difference
    clones: tuple[MadeClone, ...]
    runs: tuple[Run, ...]
    comparison: Comparison
    answers: dict[str, list[CloneAnswer]]
    accident: Run
    broken: CheckResult
    desk: DeskStory


def run_demo(folder: Path, now: int, progress: Progress = quiet) -> DemoStory:
    """Builds, seals, renews, shelves and clones made-up machines; then breaks a seal.

    Args:
        folder: made if it is not there; must be empty.
        now: the moment of the first seal, seconds since 1970; what comes before lies before it.
        progress: told of each stage.

    Raises:
        RefusedError: the folder holds something.
        UnfinishedError: it cannot be written to.
    """
    lay_out(folder)
    yard, shelf = Yard(folder / "yard"), Shelf(folder / "shelf")
    wish = BuildWish(now - 60 * _MINUTE)
    machine = build_machine(load_sheet(folder / SHEET), yard, wish, progress).machine
    survey = survey_image(machine.disk, DEFAULT_POLICY, progress)
    before = check_image(machine.disk, Level.FULL, progress)
    sealed = folder / SEALED_DISK
    result = seal(SealRequest(machine.disk, NewFile(sealed), DEFAULT_POLICY, now), progress)
    after = check_image(sealed, Level.FULL, progress)
    take_in(shelf, sealed, NewTemplate(TEMPLATE, VERSIONS[0], "ticket gate"), now, progress)
    _renew(folder, yard, shelf, now, progress)
    old, new = (shelf.get(f"{TEMPLATE}@{version}") for version in VERSIONS)
    difference = compare_templates(old, new, progress)
    clones = _make_clones(folder, yard, shelf, now + 4 * _MINUTE, progress)
    host = SimulatedHost(yard, now + 5 * _MINUTE)
    names = [clone.machine.definition.name for clone in clones]
    runs = tuple(host.start(yard.get(name), is_bound=False) for name in names)
    comparison = compare_images([clone.machine.disk for clone in clones], progress)
    answers = {
        clone.machine.definition.name: check_clone(
            clone.machine.disk, clone.wish, clone.machine.definition, progress
        )
        for clone in clones
    }
    desk = run_desk(folder, yard, shelf, now + 5 * _MINUTE, progress)
    adopted = adopt_image(yard, sealed, BY_ACCIDENT)
    accident = SimulatedHost(yard, now + 6 * _MINUTE).start(adopted, is_bound=False)
    broken = check_image(accident.machine.disk, Level.FULL, progress)
    return DemoStory(
        folder=folder,
        machine=machine,
        survey=survey,
        before=before,
        result=result,
        sealed=after,
        templates=tuple(shelf.templates()),
        difference=difference,
        clones=tuple(clones),
        runs=runs,
        comparison=comparison,
        answers=answers,
        accident=accident,
        broken=broken,
        desk=desk,
    )


def lay_out(folder: Path) -> None:
    """Puts the base disk and all sheets into an empty folder.

    Raises:
        RefusedError: the folder holds something.
        UnfinishedError: it cannot be written to.
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
        if any(folder.iterdir()):
            raise RefusedError(messages.FOLDER_NOT_EMPTY.format(folder=folder))
        for name in _SHIPPED:
            content = (resources.files("zeroseal.demo") / name).read_bytes()
            (folder / name).write_bytes(content)
    except OSError as error:
        raise environment_error(error, folder, "writing") from error


def _renew(folder: Path, yard: Yard, shelf: Shelf, now: int, progress: Progress) -> None:
    """The next version of the ticket gate, and both of the bookkeeping server."""
    november = Wishes(settings=(folder / PATCHES,))
    wish = RenewWish(now + _MINUTE, TEMPLATE, VERSIONS[1])
    renew_machine(load_sheet(folder / SHEET, november), yard, MACHINE, shelf, wish, progress)
    other = load_sheet(folder / OTHER_SHEET)
    build_machine(other, yard, BuildWish(now - 50 * _MINUTE), progress)
    wish = RenewWish(now + 2 * _MINUTE, OTHER_TEMPLATE, VERSIONS[0])
    renew_machine(other, yard, OTHER_MACHINE, shelf, wish, progress)
    other = load_sheet(folder / OTHER_SHEET, november)
    wish = RenewWish(now + 3 * _MINUTE, OTHER_TEMPLATE, VERSIONS[1])
    renew_machine(other, yard, OTHER_MACHINE, shelf, wish, progress)


def _make_clones(
    folder: Path, yard: Yard, shelf: Shelf, now: int, progress: Progress
) -> list[MadeClone]:
    found: list[MadeClone] = []
    for sheet, name in ((GATES, TEMPLATE), (LEDGERS, OTHER_TEMPLATE)):
        loaded = load_clone_sheet(folder / sheet, Secrets())
        source = CloneSource.find(loaded.template or name, shelf)
        found += make_clones(CloneBatch(source, loaded.wishes, now), yard, shelf, progress)
    return found
