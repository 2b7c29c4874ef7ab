"""Proving a staged result, from fresh objects that know nothing of how it was made."""

from __future__ import annotations

from dataclasses import dataclass

from zeroseal.blocks.search import Hit
from zeroseal.blocks.store import Store
from zeroseal.errors import (
    DamagedError,
    NotProvenError,
    RefusedError,
    ResidueError,
    UnsupportedError,
)
from zeroseal.filesystems.driver import VolumeDriver
from zeroseal.filesystems.drivers import VolumeTrees, driver_of, read_disk
from zeroseal.filesystems.tree import FileTree, Problem
from zeroseal.guests.components import Contents
from zeroseal.guests.open import open_guest
from zeroseal.messages import sealing as messages
from zeroseal.progress import Progress, quiet
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.plan import Plan
from zeroseal.sealing.residue import (
    FileSearch,
    Residue,
    find_residue,
    not_allowed,
    search_files,
)
from zeroseal.sealing.searched_value import ValueSet
from zeroseal.volumes.disk import Disk
from zeroseal.volumes.volume import Volume

_MOST_NAMED = 3


@dataclass(frozen=True)
class Proof:
    """What was looked at, and found in order.

    Attributes:
        volumes: the names of those whose file system was checked.
        level: ``deep`` where the bytes were searched for values, else ``full``.
        values_searched: how many values were looked for.
        not_searched: values that cannot be searched, with reasons.
        residue: what is still there, on purpose or because that was allowed.
        secrets: what looks like a key, a hash or a log in files that stay.
        files_opened: how many compressed files were searched inside.
        contents: what is installed.
    """

    volumes: tuple[str, ...]
    level: str
    values_searched: int = 0
    not_searched: tuple[str, ...] = ()
    residue: tuple[Residue, ...] = ()
    files_opened: int = 0
    secrets: tuple[Residue, ...] = ()
    contents: Contents | None = None


@dataclass(frozen=True)
class CheckedResult:
    """A result that is consistent and holds no treated trace; its bytes are not searched yet.

    Attributes:
        volumes: the names of those whose file system was checked.
        inspection: of the result, read afresh.
        files: what a search of its files found; None where no values are searched for.
        contents: what is installed.
    """

    volumes: tuple[str, ...]
    inspection: Inspection
    files: FileSearch | None
    contents: Contents


def check_result(
    staged: Store, plan: Plan, values: ValueSet, progress: Progress = quiet
) -> CheckedResult:
    """Reads a result anew: file systems consistent, no treated trace; searches its files.

    Args:
        staged: the disk as it would be written out.
        plan: what was done to it.
        values: what was read from the disk before.
        progress: told of each step.

    Raises:
        NotProvenError: something is wrong, or still there; nothing may be written out.
    """
    disk, trees = read_disk(staged), VolumeTrees()
    checked = check_file_systems(disk, trees)
    inspection = Inspection(staged, disk, trees, open_guest(disk, trees))
    left = [
        finding
        for finding in inspection.find_all(plan.policy, progress)
        if plan.policy.treats(finding.trace)
    ]
    if left:
        named = ", ".join(finding.place for finding in left[:_MOST_NAMED])
        raise NotProvenError(
            messages.RESULT_HAS_FINDINGS.format(count=len(left), named=named),
            got=len(left),
        )
    searches = plan.policy.searches_values
    files = search_files(inspection, values, progress) if searches else None
    return CheckedResult(tuple(checked), inspection, files, inspection.system.read_contents())


def prove(checked: CheckedResult, values: ValueSet, hits: list[Hit]) -> Proof:
    """The proof of a result; values that are left are in it.

    Args:
        checked: the result.
        values: what was looked for.
        hits: of ``needles_of(values)`` in its bytes.
    """
    if checked.files is None:
        return Proof(checked.volumes, "full", contents=checked.contents)
    searched = find_residue(checked.inspection, values, hits, checked.files)
    return Proof(
        volumes=checked.volumes,
        level="deep",
        values_searched=values.count,
        not_searched=searched.not_searched,
        residue=searched.residue,
        files_opened=searched.opened,
        secrets=searched.secrets,
        contents=checked.contents,
    )


def require_clean(proof: Proof, plan: Plan) -> None:
    """Raises ResidueError where values are left that nobody allowed."""
    left_over = left_over_of(proof, plan)
    if left_over:
        raise ResidueError(
            messages.RESIDUE_LEFT,
            places=tuple(f"{item.label} in {item.place}" for item in left_over),
            got=len(left_over),
        )


def left_over_of(proof: Proof, plan: Plan) -> tuple[Residue, ...]:
    """What of the residue stops a seal with this plan."""
    if plan.policy.keeps_something or plan.policy.accepts_residue:
        return ()
    return not_allowed(proof.residue, plan.policy)


def check_file_systems(disk: Disk, trees: VolumeTrees) -> list[str]:
    """Runs the consistency checker on every file system that a seal may have changed.

    Args:
        disk: with its volumes.
        trees: where they are opened, for the first time since they were changed.

    Raises:
        NotProvenError: a file system is not consistent.
    """
    checked = []
    for volume in disk.volumes:
        driver = driver_of(volume)
        problems = _check(volume, driver, trees) if driver else None
        if driver is None or problems is None:
            continue
        if problems:
            text = "; ".join(
                f"{problem.where}: {problem.what}" for problem in problems[:_MOST_NAMED]
            )
            raise NotProvenError(
                messages.FILE_SYSTEM_NOT_CONSISTENT.format(
                    name=volume.name, problem=text, checker=driver.checker
                ),
                got=len(problems),
            )
        checked.append(volume.name)
    return checked


def _check(
    volume: Volume, driver: VolumeDriver[FileTree], trees: VolumeTrees
) -> list[Problem] | None:
    """What is wrong with a volume; None where it is left alone."""
    try:
        tree = trees.open(volume)
    except (DamagedError, RefusedError) as error:
        return [Problem(volume.name, error.message)] if driver.is_judged_unread else None
    except UnsupportedError:
        if driver.is_judged_unread:
            raise
        return None
    return driver.check(tree) if driver.is_closed(tree) else None
