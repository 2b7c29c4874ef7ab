"""One command over many images or machines: a line each, as it is answered, and a summary.

Each is handled by this same program with ``--json``, here or on a cluster (``fleet``); what it
answers is gathered here.
"""

from __future__ import annotations

import argparse
import os
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from zeroseal.cli.image_arguments import find_images, output_in
from zeroseal.cli.time_window import TimeWindow
from zeroseal.cli.ui import Ui
from zeroseal.errors import OutputExistsError
from zeroseal.fleet.answer import Answer, Subject
from zeroseal.fleet.task import STATUSES, Outcome, Runner, SeenFile, Task
from zeroseal.messages import cli as messages
from zeroseal.progress import Step
from zeroseal.reports.as_json import head
from zeroseal.sentences import clean, counted

if TYPE_CHECKING:
    from zeroseal.fleet.state import CheckState

_OWN = ("images", "image", "names", "jobs", "stop_at_first", "json", "json_lines", "junit", "to",
        "quiet", "output", "help", "as_if", "not_before", "until", "on", "metrics", "sarif",
        "state", "changed", "since", "watch", "every", "again_after")  # fmt: skip
_UNBEGUN = 1
_DOING = {"check": "checking", "seal": "sealing", "survey": "reading", "renew": "renewing"}


@dataclass(frozen=True)
class Work:
    """What is done with all of them.

    Attributes:
        command: its name.
        noun: what one of them is, ``image`` or ``machine``.
        jobs: how many at the same time, on this computer.
        stops_at_first: whether nothing further is begun after the first that is not well.
        window: when they may be begun; None for always.
        state: what earlier runs answered; None where that does not count and is not kept.
        reuses: whether answers on images that have not changed count.
    """

    command: str
    noun: str
    subjects: tuple[Subject, ...]
    jobs: int
    stops_at_first: bool = False
    window: TimeWindow | None = None
    state: CheckState | None = None
    reuses: bool = False


@dataclass
class Gathered:
    """The answers so far, by the number of their subject."""

    work: Work
    answers: dict[int, Answer] = field(default_factory=dict)

    def add(self, number: int, answer: Answer) -> None:
        """Takes an answer in."""
        self.answers[number] = answer

    @property
    def has_failed(self) -> bool:
        """Whether one of them is not well."""
        return any(answer.status for answer in self.answers.values())

    @property
    def in_order(self) -> list[Answer]:
        """All answers in the order of their subjects."""
        return [self.answers[number] for number in sorted(self.answers)]

    @property
    def status(self) -> int:
        """The worst status."""
        statuses = [item.status for item in self.answers.values() if item.status is not None]
        unbegun = len(statuses) < len(self.answers)
        if unbegun and self.work.window and not any(statuses):
            return _UNBEGUN
        return max(statuses, key=STATUSES.index, default=0)


@dataclass
class _Course:
    """See ``fleet.task.Course``."""

    work: Work
    has_failed: bool

    def may_begin(self) -> str:
        if self.has_failed and self.work.stops_at_first:
            return f"an earlier {self.work.noun} failed"
        window = self.work.window
        return window.sentence if window and not window.wait() else ""

    def ended(self, outcome: Outcome) -> None:
        self.has_failed = self.has_failed or bool(outcome.status)


def run_each_image(args: argparse.Namespace, ui: Ui) -> int:
    """Handles all images of a command line; returns the worst status."""
    return run_each(work_on_images(args, find_images(args.images)), args, ui)


def work_on_images(args: argparse.Namespace, images: list[Path]) -> Work:
    """The work of a command line on some images."""
    if getattr(args, "since", None):
        from zeroseal.fleet.since import sealed_since

        images = sealed_since(images, args.since)
    words, titles = words_of(args), _titles_of(images)
    subjects = [
        Subject(str(image), titles[image], tuple(_words_for(args, image, words)))
        for image in images
    ]
    jobs = args.jobs or os.cpu_count() or 1
    state = _state_of(args, words)
    reuses = bool(getattr(args, "changed", False))
    return Work(
        args.command, "image", tuple(subjects), jobs, args.stop_at_first, state=state, reuses=reuses
    )


def run_each(work: Work, args: argparse.Namespace, ui: Ui) -> int:
    """Handles all that is to be done and shows the answers; returns the worst status."""
    _check_free(args)
    runner = runner_for(work, args)
    gathered = Gathered(work)
    try:
        gather(gathered, runner, ui, shower_for(work, args, ui))
    finally:
        if work.window:
            work.window.close()
        ui.end_progress()
        runner.close()
        if work.state:
            work.state.write()
    write_reports(work, gathered.in_order, args)
    if args.json:
        ui.show_json(many_to_json(work, gathered.in_order))
    elif not args.json_lines:
        show_summary(gathered.in_order, work.noun, ui)
    return gathered.status


def gather(gathered: Gathered, runner: Runner, ui: Ui, show: Callable[[Answer], None]) -> None:
    """Asks for all that is not known, and takes the answers in as they come."""
    work = gathered.work
    asked: list[int] = []
    for number, subject in enumerate(work.subjects):
        known = work.state.answer_on(subject) if work.state and work.reuses else None
        if known is None:
            asked.append(number)
        else:
            gathered.add(number, known)
            show(known)
    looks = _looks_of(work, asked)
    tasks = [_task_for(work.subjects[number], runner) for number in asked]
    doing, total = _DOING.get(work.command, work.command), len(work.subjects)

    for place, outcome in runner.run(tasks, _Course(work, gathered.has_failed)):
        number = asked[place]
        answer = Answer(work.subjects[number], outcome)
        gathered.add(number, answer)
        if work.state:
            work.state.keep(answer, looks[place], int(time.time()))
        ui.end_progress()
        show(answer)
        if ui.draws:
            ui.progress(Step(doing, len(gathered.answers), total, f"{work.noun}s"))


def write_reports(work: Work, answers: list[Answer], args: argparse.Namespace) -> None:
    """Writes the files for other programs that were asked for."""
    from zeroseal.images.output import replace_small_file, write_small_file

    if args.junit:
        from zeroseal.reports.junit import build_junit

        cases = [(item.subject.name, item.word, item.sentence, item.status, item.seconds)
                 for item in answers]  # fmt: skip
        write_small_file(args.junit, build_junit(work.command, cases))
    if getattr(args, "sarif", None):
        from zeroseal.reports.sarif import build_sarif

        write_small_file(args.sarif, build_sarif(work.command, answers))
    if getattr(args, "metrics", None):
        from zeroseal.reports.metrics import build_metrics

        replace_small_file(args.metrics, build_metrics(work.command, answers, int(time.time())))


def answer_to_json(answer: Answer, noun: str) -> dict[str, object]:
    """One answer, as ``--json-lines`` prints it."""
    found = head("answer") | {
        noun: answer.subject.name,
        "status": answer.status,
        "word": answer.word,
        "sentence": answer.sentence,
        "answer": answer.value,
    }
    if answer.unchanged_since:
        found["unchangedSince"] = answer.unchanged_since
    if answer.outcome.worker:
        found["worker"] = answer.outcome.worker
    return found


def many_to_json(work: Work, answers: list[Answer]) -> dict[str, object]:
    """All answers."""
    return head("many") | {
        "command": work.command,
        f"{work.noun}s": [answer_to_json(answer, work.noun) for answer in answers],
    }


def show_line(answer: Answer, ui: Ui, width: int) -> None:
    """The answer on one of them."""
    from rich.table import Table
    from rich.text import Text

    from zeroseal.cli import render

    styles = {0: render.SEALED_STYLE, 1: render.FINDING_STYLE, None: render.QUIET_STYLE}
    row = Table.grid(padding=(0, 2))
    for size in (11, min(width, 40), None):
        row.add_column(width=size, overflow="fold")
    row.add_row(
        Text(answer.word, style=styles.get(answer.status, render.BROKEN_STYLE)),
        Text(clean(answer.subject.title)),
        Text(clean(answer.sentence), style=render.QUIET_STYLE),
    )
    ui.console.print(row)


def show_summary(answers: list[Answer], noun: str, ui: Ui) -> None:
    """How many of which answer."""
    counts: dict[str, int] = {}
    for answer in answers:
        counts[answer.word] = counts.get(answer.word, 0) + 1
    text = ", ".join(f"{count} {word}" for word, count in counts.items())
    known = sum(1 for answer in answers if answer.unchanged_since)
    told = f" ({known} not changed since they were looked at)" if known else ""
    ui.console.print()
    ui.console.print(f"{counted(len(answers), noun)}: {text or 'nothing to do'}{told}")


def words_of(args: argparse.Namespace) -> list[str]:
    """The options of a command line that the one of each image or machine has too.

    Paths are absolute for a cluster, whose workers have another current folder.
    """
    is_far = bool(getattr(args, "on", ""))
    words: list[str] = []
    for action in args.own_parser._actions:
        if not action.option_strings or action.dest in _OWN:
            continue
        value, option = getattr(args, action.dest), action.option_strings[-1]
        if value == action.default or value is None:
            continue
        if action.nargs == 0:
            words.append(option)
        else:
            values = value if isinstance(value, list) else [value]
            words += [f"{option}={_far(item) if is_far else item}" for item in values]
    chosen = getattr(args, "as_if", [])  # takes all that follows
    return [*words, "--as-if", *chosen] if chosen else words


def _far(value: object) -> object:
    return value.absolute() if isinstance(value, Path) else value


def _words_for(args: argparse.Namespace, image: Path, words: list[str]) -> list[str]:
    image = image.absolute() if getattr(args, "on", "") else image
    found = [args.command, str(image), "--json", "--quiet", *words]
    folder = getattr(args, "to", None)
    if folder:
        folder = folder.absolute() if getattr(args, "on", "") else folder
        found += ["-o", str(output_in(folder, image, args.format or ""))]
    return found


def _check_free(args: argparse.Namespace) -> None:
    for path in (args.junit, getattr(args, "sarif", None)):
        if path and path.exists():
            raise OutputExistsError(messages.ALREADY_EXISTS.format(path=path), path=str(path))


def runner_for(work: Work, args: argparse.Namespace) -> Runner:
    """Where the work is done.

    Raises:
        HostError: the cluster cannot be reached.
    """
    if getattr(args, "on", ""):
        from zeroseal.fleet.cluster import ClusterRunner

        return ClusterRunner.connect(args.on)
    from zeroseal.fleet.local import LocalRunner

    return LocalRunner(max(1, min(work.jobs, len(work.subjects))))


def _task_for(subject: Subject, runner: Runner) -> Task:
    """What a runner gets; one far away is told which file we mean."""
    if not runner.is_far:
        return Task(subject.words)
    path = Path(subject.name)
    words = list(subject.words)
    output = words[words.index("-o") + 1] if "-o" in words else ""
    if output and Path(output).exists():
        output = ""  # it is refused there, as it would be here
    if not path.exists():
        return Task(subject.words)
    seen = SeenFile.look(path.absolute())
    return Task(subject.words, (seen,), output, seen.size_bytes)


def _looks_of(work: Work, asked: list[int]) -> list[str]:
    """How images look before they are asked: what changes meanwhile is looked at again."""
    if work.state is None:
        return []
    from zeroseal.fleet.state import look_at

    return [look_at(Path(work.subjects[number].name)) for number in asked]


def _state_of(args: argparse.Namespace, words: list[str]) -> CheckState | None:
    if not getattr(args, "state", None):
        return None
    from zeroseal.cli.options import policy_of_site
    from zeroseal.fleet.state import CheckState, question_of

    gate = policy_of_site(args).gate
    days = (gate.sealed_within_days, gate.patched_within_days)
    if any(value is not None for value in days):
        words = [*words, time.strftime("%Y-%m-%d")]  # an answer is good for its day
    return CheckState.open(args.state, question_of(words, list(_files_named(args))))


def _files_named(args: argparse.Namespace) -> Iterator[Path]:
    """The files that options name, on whose contents answers depend."""
    for action in args.own_parser._actions:
        if action.option_strings and action.dest not in _OWN:
            value = getattr(args, action.dest)
            yield from (item for item in (value if isinstance(value, list) else [value])
                        if isinstance(item, Path))  # fmt: skip


def shower_for(work: Work, args: argparse.Namespace, ui: Ui) -> Callable[[Answer], None]:
    """What shows one answer, in the form that was asked for."""
    width = max((len(subject.title) for subject in work.subjects), default=0)

    def show(answer: Answer) -> None:
        if args.json_lines:
            ui.show_json_line(answer_to_json(answer, work.noun))
        elif not args.json and not ui.quiet:
            show_line(answer, ui, width)

    return show


def _titles_of(images: list[Path]) -> dict[Path, str]:
    """What each image is called in its line: its path where two have one name."""
    found: dict[str, int] = {}
    for image in images:
        found[image.name] = found.get(image.name, 0) + 1
    return {image: image.name if found[image.name] == 1 else str(image) for image in images}
