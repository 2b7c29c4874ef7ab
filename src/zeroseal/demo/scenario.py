"""The full example, from a build sheet to two clones; nothing outside its folder is touched."""

from __future__ import annotations

from dataclasses import dataclass
from importlib import resources
from pathlib import Path

from zeroseal.errors import RefusedError, environment_error
from zeroseal.machines.adopt import adopt_image
from zeroseal.machines.build import BuildWish, build_machine
from zeroseal.machines.hosts.host import Run
from zeroseal.machines.hosts.simulated import SimulatedHost
from zeroseal.machines.sheet.load import load_sheet
from zeroseal.machines.yard import Yard, YardMachine
from zeroseal.progress import Progress, quiet
from zeroseal.sealing.check import CheckResult, Level, check_image
from zeroseal.sealing.choices import SealChoices
from zeroseal.sealing.compare import Comparison, compare_images
from zeroseal.sealing.seal import OutputSpec, SealResult, seal_image
from zeroseal.sealing.survey import Survey, survey_image
from zeroseal.templates.clone import CloneRequest, make_clones
from zeroseal.templates.shelf import Shelf, Template

BASE_DISK = "tideline-4.qcow2"
SHEET = "gangway.toml"
SEALED_DISK = "gangway.sealed.qcow2"
TEMPLATE, VERSION = "gangway", "2026-11"
CLONES = ("gangway-north", "gangway-south")
BY_ACCIDENT = "by-accident"
_MINUTE = 60


@dataclass(frozen=True)
class DemoStory:
    """What happened, step by step.

    Attributes:
        before: the check of the reference machine's disk.
        sealed: the check of the sealed disk.
        runs: the starts of the clones.
        accident: a machine that took the sealed disk itself and was started.
        broken: the check of its disk.
    """

    folder: Path
    machine: YardMachine
    survey: Survey
    before: CheckResult
    result: SealResult
    sealed: CheckResult
    template: Template
    clones: tuple[YardMachine, ...]
    runs: tuple[Run, ...]
    comparison: Comparison
    accident: Run
    broken: CheckResult


def run_demo(folder: Path, now: int, progress: Progress = quiet) -> DemoStory:
    """Builds, surveys, seals, shelves and clones a made-up ticket gate; then breaks a seal.

    Args:
        folder: made if it is not there; must be empty.
        now: the moment of the seal, seconds since 1970; what comes before lies before it.
        progress: told of each stage.

    Raises:
        RefusedError: the folder holds something.
        UnfinishedError: it cannot be written to.
    """
    lay_out(folder)
    yard, shelf = Yard(folder / "yard"), Shelf(folder / "shelf")
    wish = BuildWish(now - 60 * _MINUTE)
    machine = build_machine(load_sheet(folder / SHEET), yard, wish, progress).machine
    survey = survey_image(machine.disk, SealChoices(), progress)
    before = check_image(machine.disk, Level.FULL, progress)
    sealed = folder / SEALED_DISK
    result = seal_image(machine.disk, OutputSpec(sealed), SealChoices(), now, progress)
    after = check_image(sealed, Level.FULL, progress)
    template = shelf.add(sealed, TEMPLATE, VERSION, "ticket gate", now, progress)
    request = CloneRequest(template.disk, template.entry.title, CLONES, linked=True)
    clones = make_clones(request, yard, progress)
    host = SimulatedHost(yard, now + _MINUTE)
    runs = tuple(host.start(yard.get(name), is_bound=False) for name in CLONES)
    comparison = compare_images([clone.disk for clone in clones], progress)
    adopted = adopt_image(yard, sealed, BY_ACCIDENT)
    accident = SimulatedHost(yard, now + 2 * _MINUTE).start(adopted, is_bound=False)
    broken = check_image(accident.machine.disk, Level.FULL, progress)
    return DemoStory(
        folder=folder,
        machine=machine,
        survey=survey,
        before=before,
        result=result,
        sealed=after,
        template=template,
        clones=tuple(clones),
        runs=runs,
        comparison=comparison,
        accident=accident,
        broken=broken,
    )


def lay_out(folder: Path) -> None:
    """Puts the base disk and the build sheet into an empty folder.

    Raises:
        RefusedError: the folder holds something.
        UnfinishedError: it cannot be written to.
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
        if any(folder.iterdir()):
            raise RefusedError(
                f"{folder} holds something already: name an empty or a new folder with --to"
            )
        for name in (BASE_DISK, SHEET):
            content = (resources.files("zeroseal.demo") / name).read_bytes()
            (folder / name).write_bytes(content)
    except OSError as error:
        raise environment_error(error, folder, "writing") from error
