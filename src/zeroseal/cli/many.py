"""One command over many images: a process each, some at a time, a line each and a summary.

Each image is handled by this same program with ``--json``; what it answers is gathered here.
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

from zeroseal.cli.ui import Ui
from zeroseal.errors import MissingError, OutputExistsError, UsageError

_SUFFIXES = (".qcow2", ".raw", ".img", ".vmdk", ".vhdx", ".vhd", ".vdi", ".ova", ".ovf")
_OWN = ("images", "image", "jobs", "stop_at_first", "json", "json_lines", "junit", "to", "quiet",
        "output", "help")  # fmt: skip
_STATUS_ORDER = (0, 1, 2, 3, 4, 5, 130)
_BROKEN = 5


@dataclass(frozen=True)
class Answer:
    """What the program said of one image.

    Attributes:
        status: its exit status; None where it was not begun, because another one failed.
        value: its JSON; empty where it printed none.
        seconds: how long it took.
    """

    image: Path
    status: int | None
    value: dict[str, Any]
    seconds: float

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
        found = self.value.get("error")
        if self.value.get("schema") == "zeroseal.error":
            return self.value if not isinstance(found, dict) else found
        return {}

    @property
    def sentence(self) -> str:
        """What it rests on."""
        if self.status is None:
            return "another image failed before"
        if self._error:
            return str(self._error.get("message", ""))
        return _sentence_of(self.value) if self.value else "it ended without an answer"


def add_images(parser: argparse.ArgumentParser) -> None:
    """One image or many, and how many are handled."""
    parser.add_argument(
        "images",
        type=Path,
        nargs="*",
        metavar="IMAGE",
        help="a disk image, OVA or OVF; or a folder, for all images in it",
    )
    many = parser.add_argument_group("many images at once")
    many.add_argument(
        "--jobs",
        type=int,
        default=0,
        metavar="N",
        help="how many at the same time (default: one a processor)",
    )
    many.add_argument(
        "--stop-at-first",
        action="store_true",
        help="begin no further image once an answer is no, or there is none",
    )
    many.add_argument(
        "--json-lines", action="store_true", help="print each answer as a line of JSON when it ends"
    )
    many.add_argument(
        "--junit", type=Path, metavar="FILE", help="write the answers as JUnit XML too"
    )
    parser.set_defaults(own_parser=parser)


def find_images(given: list[Path]) -> list[Path]:
    """The images that were named, those of folders in the order of their names.

    Raises:
        UsageError: none was named, or one twice.
        MissingError: a folder has none.
    """
    found: list[Path] = []
    for path in given:
        if not path.is_dir():
            found.append(path)
            continue
        inside = [item for item in sorted(path.iterdir()) if _is_image(item)]
        if not inside:
            raise MissingError(
                f"the folder {path} has no disk image: name the images, or a folder with files "
                f"that end in {', '.join(_SUFFIXES)}"
            )
        found += inside
    if not found:
        raise UsageError("name at least one image")
    for number, path in enumerate(found):
        if path.resolve() in [other.resolve() for other in found[:number]]:
            raise UsageError(f"{path} is named twice")
    return found


def are_many(args: argparse.Namespace) -> bool:
    """Whether a command line means more than one image, or wants answers as of many."""
    named_folder = any(path.is_dir() for path in args.images)
    return named_folder or len(args.images) > 1 or bool(args.junit) or args.json_lines


def get_image(args: argparse.Namespace) -> Path:
    """The only image of a command line."""
    return find_images(args.images)[0]


def output_in(folder: Path, image: Path, format_name: str) -> Path:
    """The new file of an image in a folder: its own name, with the suffix of its new format."""
    return folder / (f"{image.stem}.{format_name}" if format_name else image.name)


def run_each(args: argparse.Namespace, ui: Ui) -> int:
    """Handles all images and shows the answers; returns the worst status."""
    images = find_images(args.images)
    if args.junit and args.junit.exists():
        raise OutputExistsError(
            f"{args.junit} exists already: choose another name, or remove it first",
            path=str(args.junit),
        )
    words = _words_of(args)
    answers: list[Answer] = []
    names = _names_of(images)
    width = max(len(name) for name in names.values())
    for answer in _iter_answers(args, images, words):
        answers.append(answer)
        if args.json_lines:
            ui.show_json_line(answer_to_json(answer))
        elif not args.json and not ui.quiet:
            show_line(answer, names[answer.image], ui, width)
    if args.junit:
        from zeroseal.images.output import write_small_file
        from zeroseal.reports.junit import build_junit

        cases = [(str(item.image), item.word, item.sentence, item.status, item.seconds)
                 for item in answers]  # fmt: skip
        write_small_file(args.junit, build_junit(args.command, cases))
    if args.json:
        ui.show_json(many_to_json(args.command, answers))
    elif not args.json_lines:
        show_summary(answers, ui)
    statuses = [answer.status for answer in answers if answer.status is not None]
    return max(statuses, key=_STATUS_ORDER.index)


def answer_to_json(answer: Answer) -> dict[str, object]:
    """One answer, as ``--json-lines`` prints it."""
    return {
        "schema": "zeroseal.answer",
        "version": 1,
        "image": str(answer.image),
        "status": answer.status,
        "word": answer.word,
        "sentence": answer.sentence,
        "answer": answer.value,
    }


def many_to_json(command: str, answers: list[Answer]) -> dict[str, object]:
    """All answers."""
    return {
        "schema": "zeroseal.many",
        "version": 1,
        "command": command,
        "images": [answer_to_json(answer) for answer in answers],
    }


def show_line(answer: Answer, name: str, ui: Ui, width: int) -> None:
    """The answer on one image."""
    from rich.table import Table
    from rich.text import Text

    from zeroseal.cli import look
    from zeroseal.cli.ui import clean

    styles = {0: look.SEALED_STYLE, 1: look.FINDING_STYLE, None: look.QUIET_STYLE}
    row = Table.grid(padding=(0, 2))
    for size in (11, min(width, 40), None):
        row.add_column(width=size, overflow="fold")
    row.add_row(
        Text(answer.word, style=styles.get(answer.status, look.BROKEN_STYLE)),
        Text(clean(name)),
        Text(clean(answer.sentence), style=look.QUIET_STYLE),
    )
    ui.console.print(row)


def show_summary(answers: list[Answer], ui: Ui) -> None:
    """How many of which answer."""
    counts: dict[str, int] = {}
    for answer in answers:
        counts[answer.word] = counts.get(answer.word, 0) + 1
    told = ", ".join(f"{count} {word}" for word, count in counts.items())
    one = len(answers) == 1
    ui.console.print()
    ui.console.print(f"{len(answers)} image{'' if one else 's'}: {told}")


def _iter_answers(
    args: argparse.Namespace, images: list[Path], words: list[str]
) -> Iterator[Answer]:
    """Yields the answers in the order of the images."""
    running: set[subprocess.Popen[bytes]] = set()
    failed: list[Path] = []

    def ask(image: Path) -> Answer:
        if failed and args.stop_at_first:
            return Answer(image, None, {}, 0.0)
        answer = _ask(image, _words_for(args, image, words), running)
        if answer.status:
            failed.append(image)
        return answer

    pool = ThreadPoolExecutor(args.jobs or os.cpu_count() or 1)
    try:
        futures: list[Future[Answer]] = [pool.submit(ask, image) for image in images]
        for future in futures:
            yield future.result()
    finally:
        pool.shutdown(wait=False, cancel_futures=True)
        for process in list(running):
            process.terminate()
        for process in list(running):
            process.wait()


def _names_of(images: list[Path]) -> dict[Path, str]:
    """What each image is called in its line: its path where two have one name."""
    found = [image.name for image in images]
    return {image: image.name if found.count(image.name) == 1 else str(image) for image in images}


def _ask(image: Path, words: list[str], running: set[subprocess.Popen[bytes]]) -> Answer:
    began = time.monotonic()
    process = subprocess.Popen(
        [sys.executable, "-m", "zeroseal", *words],
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
    return Answer(image, status, value, time.monotonic() - began)


def _words_of(args: argparse.Namespace) -> list[str]:
    """The options of a command line that each image's own one has too."""
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
    return words


def _words_for(args: argparse.Namespace, image: Path, words: list[str]) -> list[str]:
    found = [args.command, str(image), "--json", "--quiet", *words]
    folder = getattr(args, "to", None)
    if folder:
        found += ["-o", str(output_in(folder, image, args.format or ""))]
    return found


def _is_image(path: Path) -> bool:
    return path.is_file() and path.suffix.lower() in _SUFFIXES and not path.name.startswith(".")


def _word_of(value: dict[str, Any]) -> str:
    """The answer of one command, in a word."""
    match value.get("schema"):
        case "zeroseal.check":
            return str(value["verdict"])
        case "zeroseal.survey":
            return "ready" if value["ready"] else "NOT READY"
        case "zeroseal.seal":
            return "SEALED" if value["sealed"] else "UNSEALED"
        case _:
            return "planned"


def _sentence_of(value: dict[str, Any]) -> str:
    match value.get("schema"):
        case "zeroseal.check":
            return str(value["reason"])
        case "zeroseal.survey":
            against = [*value["readiness"]["blockers"], *value["guard"]["lockOuts"]]
            count = sum(len(group["places"]) for group in value["findings"])
            found = f"{count} finding{'' if count == 1 else 's'} on {value['system']['name']}"
            return " ".join([f"{found}.", *against])
        case "zeroseal.seal":
            return f"in {value['output']['path']}"
        case _:
            return f"{len(value.get('treated', []))} traces would be treated"
