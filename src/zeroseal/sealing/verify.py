"""Proving a staged result, from fresh objects that know nothing of how it was made."""

from __future__ import annotations

from dataclasses import dataclass

from zeroseal.blocks.store import Store
from zeroseal.errors import NotProvenError
from zeroseal.filesystems.kinds import CHECKERS, check_file_system, family_of, is_closed
from zeroseal.progress import Progress, quiet
from zeroseal.sealing.plan import Plan
from zeroseal.sealing.residue import Residue, find_residue, not_allowed
from zeroseal.sealing.searched_value import ValueSet
from zeroseal.sealing.subject import Subject
from zeroseal.volumes.disk import read_disk

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
    checked = check_file_systems(staged)
    left = [
        finding
        for finding in Subject.read(staged).find_all(plan.choices, progress)
        if plan.choices.treats(finding.trace)
    ]
    if left:
        named = ", ".join(finding.place for finding in left[:_MOST_NAMED])
        raise NotProvenError(
            f"the staged result still holds {len(left)} findings ({named}): nothing was written; "
            "please report this with the output of --debug",
            got=len(left),
        )
    if not plan.choices.search_values:
        return Proof(tuple(checked), "full")
    searched = find_residue(staged, values, progress)
    residue = searched.residue
    left_over = not_allowed(residue, plan.choices.rules)
    if left_over and not plan.choices.keeps_something and not plan.choices.allow_residue:
        raise NotProvenError(_describe(left_over), got=len(left_over))
    count = len(values.values)
    return Proof(
        volumes=tuple(checked),
        level="deep",
        values_searched=count,
        not_searched=searched.not_searched,
        residue=residue,
        files_opened=searched.opened,
        secrets=searched.secrets,
    )


def _describe(residue: tuple[Residue, ...]) -> str:
    named = "; ".join(f"{item.label} in {item.place}" for item in residue[:_MOST_NAMED])
    more = f" and {len(residue) - _MOST_NAMED} more" if len(residue) > _MOST_NAMED else ""
    return (
        f"values that were to be removed are still on the disk ({named}{more}): nothing was "
        "written; remove them in the guest, or accept them with --allow-residue"
    )


def check_file_systems(staged: Store) -> list[str]:
    """Runs the consistency checker on every file system that a seal may have changed.

    Raises:
        NotProvenError: a file system is not consistent.
    """
    checked = []
    for volume in read_disk(staged).volumes:
        kind = volume.content.kind
        if not volume.content.is_readable or not is_closed(kind, volume.store, volume.name):
            continue
        problems = check_file_system(kind, volume.store, volume.name)
        if problems:
            told = "; ".join(
                f"{problem.where}: {problem.what}" for problem in problems[:_MOST_NAMED]
            )
            raise NotProvenError(
                f"the file system of {volume.name} is not consistent ({told}): nothing was "
                f"written; run {CHECKERS[family_of(kind)]} on it in the guest or on a copy, then "
                "seal again",
                got=len(problems),
            )
        checked.append(volume.name)
    return checked
