"""``check --watch``: looks again at images that change, appear, or were looked at long ago."""

from __future__ import annotations

import argparse
import time
from dataclasses import dataclass, field, replace
from pathlib import Path

from zeroseal.cli.image_arguments import find_images
from zeroseal.cli.many import (
    Gathered,
    Work,
    gather,
    runner_for,
    shower_for,
    work_on_images,
    write_reports,
)
from zeroseal.cli.ui import Ui
from zeroseal.errors import MissingError, UsageError
from zeroseal.fleet.answer import Answer, Subject
from zeroseal.fleet.state import glance_at
from zeroseal.fleet.task import Runner
from zeroseal.messages import cli as messages

_HOUR_SECONDS = 3600.0


@dataclass
class _Seen:
    """What is known of one image.

    Attributes:
        glance: how it looked at the last round.
        asked: how it looked when it was asked; empty for never.
        asked_at: by a clock that is never set.
    """

    glance: str
    asked: str = ""
    asked_at: float = 0.0


@dataclass
class _Watched:
    """All images, with the latest answer on each."""

    again_after_seconds: float
    images: dict[str, _Seen] = field(default_factory=dict)
    answers: dict[str, Answer] = field(default_factory=dict)

    def due(self, subjects: tuple[Subject, ...], now: float) -> tuple[Subject, ...]:
        """Those that must be asked; one that is being written just now waits for the next round."""
        is_first = not self.images
        names = {subject.name for subject in subjects}
        for gone in self.images.keys() - names:
            del self.images[gone]
            self.answers.pop(gone, None)
        return tuple(item for item in subjects if self._is_due(item, now, is_first))

    def _is_due(self, subject: Subject, now: float, is_first: bool) -> bool:
        glance = glance_at(Path(subject.name))
        seen = self.images.setdefault(subject.name, _Seen(glance if is_first else ""))
        is_at_rest, seen.glance = seen.glance == glance, glance
        is_old = now - seen.asked_at >= self.again_after_seconds
        if not is_at_rest or (seen.asked == glance and not is_old):
            return False
        seen.asked, seen.asked_at = glance, now
        return True


def watch(args: argparse.Namespace, ui: Ui) -> int:
    """Goes on until it is interrupted; no answer ends it.

    Raises:
        UsageError: options that do not go together.
    """
    _check(args)
    find_images(args.images)  # what is wrong from the beginning is said at once
    watched = _Watched(args.again_after * _HOUR_SECONDS)
    runner: Runner | None = None
    try:
        while True:
            work = work_on_images(args, _images_now(args))
            due = watched.due(work.subjects, time.monotonic())
            if due:
                runner = runner or runner_for(work, args)
                _round(replace(work, subjects=due), watched, runner, args, ui)
            answers = [watched.answers[name] for name in sorted(watched.answers)]
            write_reports(work, answers, args)
            time.sleep(args.every)
    finally:
        ui.end_progress()
        if runner:
            runner.close()


def _round(work: Work, watched: _Watched, runner: Runner, args: argparse.Namespace, ui: Ui) -> None:
    gathered = Gathered(work)
    try:
        gather(gathered, runner, ui, shower_for(work, args, ui))
    finally:
        if work.state:
            work.state.write()
    watched.answers |= {answer.subject.name: answer for answer in gathered.in_order}


def _check(args: argparse.Namespace) -> None:
    wrong = [
        option
        for option, value in (
            ("--json", args.json),
            ("--junit", args.junit),
            ("--sarif", args.sarif),
            ("--since", args.since),
            ("--stop-at-first", args.stop_at_first),
        )
        if value
    ]
    if wrong:
        raise UsageError(messages.WATCH_NOT_WITH.format(wrong=wrong[0]))
    if args.every <= 0 or args.again_after <= 0:
        raise UsageError(messages.WATCH_TIMES_TOO_SHORT)


def _images_now(args: argparse.Namespace) -> list[Path]:
    """The images that are there; a folder may be empty for a while."""
    found: list[Path] = []
    for path in args.images:
        try:
            found += find_images([path])
        except MissingError:
            continue
    return [path for path in found if path.exists()]
