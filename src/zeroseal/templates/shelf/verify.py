"""Is everything on the shelf what it was when it came? Every byte is read."""

from __future__ import annotations

import os
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from threading import Lock

from zeroseal.errors import ZeroSealError
from zeroseal.progress import CancelToken, Progress, Step, quiet
from zeroseal.sealing.check import CheckResult, check_record
from zeroseal.sealing.signing import TrustedKey
from zeroseal.sealing.trust import require_signature
from zeroseal.sealing.verdict import Level, Verdict
from zeroseal.templates.shelf.contents_file import problem_of
from zeroseal.templates.shelf.entry import Template


@dataclass(frozen=True)
class Verified:
    """What became of one template.

    Attributes:
        checked: its disk against its record.
        problem: what is wrong, one sentence; empty where nothing is.
    """

    template: Template
    checked: CheckResult
    problem: str


def verify_templates(
    templates: Sequence[Template],
    trusted: tuple[TrustedKey, ...] = (),
    progress: Progress = quiet,
) -> list[Verified]:
    """Digests every template's disk, several at once, and compares it with record and entry.

    Args:
        templates: which to verify.
        trusted: whose signatures count; none for no signature at all.
        progress: told of the bytes read of all disks together.
    """
    total = sum(template.entry.size_bytes for template in templates)
    counter = _Counter(total, progress)
    with ThreadPoolExecutor(max(1, (os.cpu_count() or 2) // 2)) as pool, CancelToken() as token:
        jobs = [
            pool.submit(_verify, template, trusted, counter.part(number, token))
            for number, template in enumerate(templates)
        ]
        return [job.result() for job in jobs]


def _verify(template: Template, trusted: tuple[TrustedKey, ...], progress: Progress) -> Verified:
    try:
        checked = check_record(template.disk, progress)
        if trusted:
            checked = require_signature(checked, trusted)
    except ZeroSealError as error:
        checked = CheckResult(
            template.disk, Verdict.UNKNOWN, Level.FULL, error.message, error=error
        )
    return Verified(template, checked, _problem(template, checked))


def _problem(template: Template, checked: CheckResult) -> str:
    entry, record = template.entry, checked.record
    if checked.verdict is not Verdict.SEALED or record is None:
        return checked.reason
    if record.root != entry.digest:
        return "it is sealed, but its disk is not the one that was added to the shelf"
    if template.disk.stat().st_mode & 0o222:
        return "its disk is writable: run chmod a-w on it"
    return problem_of(template, record)


class _Counter:
    """One progress over several disks that are read at once."""

    def __init__(self, total: int, progress: Progress) -> None:
        self._total, self._progress = total, progress
        self._done: dict[int, int] = {}
        self._lock = Lock()

    def part(self, number: int, token: CancelToken) -> Progress:
        """The progress of one of the disks."""

        def take(step: Step) -> None:
            token.check()
            with self._lock:
                self._done[number] = step.done
                self._progress(Step("verifying", sum(self._done.values()), self._total))

        return take
