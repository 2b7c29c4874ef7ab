"""Proving a staged result, from fresh objects that know nothing of how it was made."""

from __future__ import annotations

from zeroseal.blocks.store import Store
from zeroseal.errors import NotProvenError
from zeroseal.filesystems.ext.check import check_volume
from zeroseal.sealing.plan import Plan
from zeroseal.sealing.subject import Subject
from zeroseal.volumes.disk import read_disk

_MOST_NAMED = 3


def verify_result(staged: Store, plan: Plan) -> list[str]:
    """Reads the staged disk anew: file systems consistent, and no treated trace found again.

    Returns:
        The names of the volumes whose file system was checked.

    Raises:
        NotProvenError: something is wrong, or still there; nothing may be written out.
    """
    checked = check_file_systems(staged)
    left = [
        finding
        for finding in Subject.read(staged).find_all(plan.choices)
        if plan.choices.treats(finding.trace)
    ]
    if left:
        named = ", ".join(finding.place for finding in left[:_MOST_NAMED])
        raise NotProvenError(
            f"the staged result still holds {len(left)} findings ({named}): nothing was "
            "please report this with the output of --debug",
            got=len(left),
        )
    return checked


def check_file_systems(staged: Store) -> list[str]:
    """Runs the consistency checker on every file system that a seal may have changed.

    Raises:
        NotProvenError: a file system is not consistent.
    """
    checked = []
    volumes = [volume for volume in read_disk(staged).volumes if volume.content.is_ext]
    for volume in volumes:
        problems = check_volume(volume.store, volume.name)
        if problems:
            told = "; ".join(
                f"{problem.where}: {problem.what}" for problem in problems[:_MOST_NAMED]
            )
            raise NotProvenError(
                f"the file system of {volume.name} is not consistent ({told}): nothing was "
                "written; run e2fsck on it in the guest or on a copy, then seal again",
                got=len(problems),
            )
        checked.append(volume.name)
    return checked
