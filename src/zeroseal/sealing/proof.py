"""Proving a staged result, from fresh objects that know nothing of how it was made."""

from __future__ import annotations

from dataclasses import dataclass

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
from zeroseal.guests.open import open_guest
from zeroseal.progress import Progress, quiet
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.plan import Plan
from zeroseal.sealing.residue import Residue, find_residue, not_allowed
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
    """

    volumes: tuple[str, ...]
    level: str
    values_searched: int = 0
    not_searched: tuple[str, ...] = ()
    residue: tuple[Residue, ...] = ()
    files_opened: int = 0
    secrets: tuple[Residue, ...] = ()


def verify_result(staged: Store, plan: Plan, values: ValueSet, progress: Progress = quiet) -> Proof:
    """Reads the staged disk anew: file systems consistent, no treated trace and no value found.

    Args:
        staged: the disk as it would be written out.
        plan: what was done to it.
        values: what was read from the disk before.
        progress: told of each step.

    Raises:
        NotProvenError: something is wrong, or still there; nothing may be written out.
    """
    proof = prove(staged, plan, values, progress)
    left_over = left_over_of(proof, plan)
    if left_over:
        raise ResidueError(
            "values that were to be removed are still on the disk: nothing was written; list them "
            "with --rehearse, and decide on each with --rehearse --draft-rules FILE, or accept all "
            "with --allow-residue",
            places=tuple(f"{item.label} in {item.place}" for item in left_over),
            got=len(left_over),
        )
    return proof


def prove(staged: Store, plan: Plan, values: ValueSet, progress: Progress = quiet) -> Proof:
    """The same, but values that are left are in the proof.

    Raises:
        NotProvenError: a file system is not consistent, or a treated trace is still there.
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
            f"the staged result still holds {len(left)} findings ({named}): nothing was written; "
            "please report this with the output of --debug",
            got=len(left),
        )
    if not plan.policy.searches_values:
        return Proof(tuple(checked), "full")
    searched = find_residue(inspection, values, progress)
    return Proof(
        volumes=tuple(checked),
        level="deep",
        values_searched=values.count,
        not_searched=searched.not_searched,
        residue=searched.residue,
        files_opened=searched.opened,
        secrets=searched.secrets,
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
                f"the file system of {volume.name} is not consistent ({text}): nothing was "
                f"written; run {driver.checker} on it in the guest or on a copy, then "
                "seal again",
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
