"""One command over many images or machines: a process each, a line each and a summary.

Each is handled by this same program with ``--json``; what it answers is gathered here.
"""

from __future__ import annotations

import argparse
import json
import os
import subprocess
import sys
import time
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from zeroseal.cli.image_arguments import find_images, output_in
from zeroseal.cli.time_window import TimeWindow
from zeroseal.cli.ui import Ui
from zeroseal.errors import OutputExistsError
from zeroseal.messages import cli as messages
from zeroseal.reports.as_json import head
from zeroseal.sentences import counted

_OWN = ("images", "image", "names", "jobs", "stop_at_first", "json", "json_lines", "junit", "to",
        "quiet", "output", "help", "as_if", "not_before", "until")  # fmt: skip
_STATUS_ORDER = (0, 1, 2, 3, 4, 5, 130)
_BROKEN = 5
_UNBEGUN = 1


@dataclass(frozen=True)
class Subject:
    """What one process handles.

    Attributes:
        name: as the answer names it: an image by its path, a machine by its name.
        title: as its line shows it.
        words: of the program's command line.
    """

    name: str
    title: str
    words: tuple[str, ...]


@dataclass(frozen=True)
class Work:
    """What is done with all of them.

    Attributes:
        command: its name.
        noun: what one of them is, ``image`` or ``machine``.
        jobs: how many at the same time.
        stops_at_first: whether nothing further is begun after the first that is not well.
        window: when they may be begun; None for always.
    """

    command: str
    noun: str
    subjects: tuple[Subject, ...]
    jobs: int
    stops_at_first: bool = False
    window: TimeWindow | None = None


@dataclass(frozen=True)
class Answer:
    """What the program said of one image or machine.

    Attributes:
        status: its exit status; None where it was not begun, and ``unbegun`` says why.
        value: its JSON; empty where it printed none.
        seconds: how long it took.
    """

    subject: Subject
    status: int | None
    value: dict[str, Any]
    seconds: float
    unbegun: str = ""

    @property
    def word(self) -> str:
        """The answer in a word or two."""
        if self.status is None:
            return "not begun"
        if self._error or not self.value:
            return "REFUSED" if self.status == 4 else "FAILED"
        return _word_of(self.value)

    @property
    def _error(self) -> dict[str, Any]:
        return self.value if self.value.get("schema") == "zeroseal.error" else {}

    @property
    def sentence(self) -> str:
        """What it rests on."""
        if self.status is None:
            return self.unbegun
        if self._error:
            return str(self._error.get("message", ""))
        return _sentence_of(self.value) if self.value else "it ended without an answer"


def run_each_image(args: argparse.Namespace, ui: Ui) -> int:
    """Handles all images of a command line; returns the worst status."""
    images, words = find_images(args.images), words_of(args)
    titles = _titles_of(images)
    subjects = [
        Subject(str(image), titles[image], tuple(_words_for(args, image, words)))
        for image in images
    ]
    jobs = args.jobs or os.cpu_count() or 1
    work = Work(args.command, "image", tuple(subjects), jobs, args.stop_at_first)
    return run_each(work, args, ui)


def run_each(work: Work, args: argparse.Namespace, ui: Ui) -> int:
    """Handles all that is to be done and shows the answers; returns the worst status."""
    if args.junit and args.junit.exists():
        raise OutputExistsError(
            messages.ALREADY_EXISTS.format(path=args.junit),
            path=str(args.junit),
        )
    answers: list[Answer] = []
    width = max(len(subject.title) for subject in work.subjects)
    for answer in _iter_answers(work):
        answers.append(answer)
        if args.json_lines:
            ui.show_json_line(answer_to_json(answer, work.noun))
        elif not args.json and not ui.quiet:
            show_line(answer, ui, width)
    if args.junit:
        from zeroseal.images.output import write_small_file
        from zeroseal.reports.junit import build_junit

        cases = [(item.subject.name, item.word, item.sentence, item.status, item.seconds)
                 for item in answers]  # fmt: skip
        write_small_file(args.junit, build_junit(work.command, cases))
    if args.json:
        ui.show_json(many_to_json(work, answers))
    elif not args.json_lines:
        show_summary(answers, work.noun, ui)
    statuses = [answer.status for answer in answers if answer.status is not None]
    if len(statuses) < len(answers) and work.window and not any(statuses):
        return _UNBEGUN
    return max(statuses, key=_STATUS_ORDER.index)


def answer_to_json(answer: Answer, noun: str) -> dict[str, object]:
    """One answer, as ``--json-lines`` prints it."""
    return head("answer") | {
        noun: answer.subject.name,
        "status": answer.status,
        "word": answer.word,
        "sentence": answer.sentence,
        "answer": answer.value,
    }


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
    from zeroseal.sentences import clean

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
    ui.console.print()
    ui.console.print(f"{counted(len(answers), noun)}: {text}")


def _iter_answers(work: Work) -> Iterator[Answer]:
    """Yields the answers in the order in which they were asked for."""
    running: set[subprocess.Popen[bytes]] = set()
    failed: list[str] = []

    def ask(subject: Subject) -> Answer:
        if failed and work.stops_at_first:
            return Answer(subject, None, {}, 0.0, f"an earlier {work.noun} failed")
        if work.window and not work.window.wait():
            return Answer(subject, None, {}, 0.0, work.window.sentence)
        answer = _ask(subject, running)
        if answer.status:
            failed.append(subject.name)
        return answer

    pool = ThreadPoolExecutor(work.jobs)
    try:
        futures: list[Future[Answer]] = [pool.submit(ask, subject) for subject in work.subjects]
        for future in futures:
            yield future.result()
    finally:
        if work.window:
            work.window.close()
        pool.shutdown(wait=False, cancel_futures=True)
        for process in list(running):
            process.terminate()
        for process in list(running):
            process.wait()


def _titles_of(images: list[Path]) -> dict[Path, str]:
    """What each image is called in its line: its path where two have one name."""
    found = [image.name for image in images]
    return {image: image.name if found.count(image.name) == 1 else str(image) for image in images}


def _ask(subject: Subject, running: set[subprocess.Popen[bytes]]) -> Answer:
    began = time.monotonic()
    process = subprocess.Popen(
        [sys.executable, "-m", "zeroseal", *subject.words],
        stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
    )
    running.add(process)
    try:
        output, _nothing = process.communicate()
    finally:
        running.discard(process)
    try:
        value = json.loads(output)
    except ValueError:
        value = {}
    status = process.returncode if process.returncode in _STATUS_ORDER else _BROKEN
    return Answer(subject, status, value, time.monotonic() - began)


def words_of(args: argparse.Namespace) -> list[str]:
    """The options of a command line that the one of each image or machine has too."""
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
            words += [f"{option}={item}" for item in values]
    chosen = getattr(args, "as_if", [])  # takes all that follows
    return [*words, "--as-if", *chosen] if chosen else words


def _words_for(args: argparse.Namespace, image: Path, words: list[str]) -> list[str]:
    found = [args.command, str(image), "--json", "--quiet", *words]
    folder = getattr(args, "to", None)
    if folder:
        found += ["-o", str(output_in(folder, image, args.format or ""))]
    return found


def _word_of(value: dict[str, Any]) -> str:
    """The answer of one command, in a word."""
    match value.get("schema"):
        case "zeroseal.check":
            gate = value["gate"]
            return "NOT PASSED" if gate and not gate["passes"] else str(value["verdict"])
        case "zeroseal.survey":
            return "ready" if value["ready"] else "NOT READY"
        case "zeroseal.seal":
            return "SEALED" if value["sealed"] else "UNSEALED"
        case "zeroseal.renewal":
            return "RENEWED"
        case _:
            return "planned"


def _sentence_of(value: dict[str, Any]) -> str:
    match value.get("schema"):
        case "zeroseal.check":
            misses = value["gate"]["misses"] if value["gate"] else []
            return "; ".join(str(miss["sentence"]) for miss in misses) or str(value["reason"])
        case "zeroseal.survey":
            against = [*value["readiness"]["blockers"], *value["guard"]["lockOuts"]]
            count = sum(len(group["places"]) for group in value["findings"])
            found = f"{counted(count, 'finding')} on {value['system']['name']}"
            return " ".join([f"{found}.", *against])
        case "zeroseal.seal":
            return f"in {value['output']['path']}"
        case "zeroseal.renewal":
            changes = counted(len(value["changes"]), "package")
            entry = value["template"]["entry"]
            return f"{entry['name']}@{entry['version']} is on the shelf; {changes} changed"
        case _:
            count = len(value.get("treated", []))
            return f"{counted(count, 'trace')} would be treated"
