"""``zeroseal demo``: the main job on a small disk that ships with the tool."""

from __future__ import annotations

import argparse
import time
from pathlib import Path
from typing import TYPE_CHECKING

from zeroseal.cli.parser import Subparsers
from zeroseal.cli.ui import Ui

if TYPE_CHECKING:
    from zeroseal.demo.scenario import DemoStory

_DEFAULT_FOLDER = "zeroseal-demo"


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "demo",
        usage="zeroseal demo [--to DIR] [OPTION ...]",
        help="run the whole workflow on small machines that ship with the tool",
        description=(
            "Builds two made-up machines, seals them in two versions, puts them on a shelf, "
            "creates four clones, compares them and checks them against their sheets; does "
            "the same with a Windows guest; then shows a broken seal. Everything happens in "
            "one new folder, which is kept for you to explore. The exit status is 0 if every "
            "step gave the expected result."
        ),
        examples=(
            ("demo", "run it in the folder zeroseal-demo"),
            ("demo --to ferry --quiet", "only create its files, to try the commands on them"),
        ),
    )
    parser.add_argument(
        "--to",
        type=Path,
        default=Path(_DEFAULT_FOLDER),
        metavar="DIR",
        help=f"an empty or new folder (default: {_DEFAULT_FOLDER})",
    )
    parser.add_general()


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    from zeroseal.cli.show_demo import show_story
    from zeroseal.demo.scenario import run_demo
    from zeroseal.sealing.verdict import Verdict

    story = run_demo(args.to, int(time.time()), ui.progress)
    ui.show(lambda: _to_json(story), lambda out: show_story(story, out))
    verdicts = (story.before.verdict, story.sealed.verdict, story.broken.verdict)
    as_told = verdicts == (Verdict.UNSEALED, Verdict.SEALED, Verdict.BROKEN_SEAL)
    as_asked = all(answer.is_good for answers in story.answers.values() for answer in answers)
    unique = story.comparison.are_unique and story.desk.comparison.are_unique
    as_told = as_told and story.desk.sealed.verdict is Verdict.SEALED and bool(story.desk.refusal)
    return 0 if as_told and as_asked and unique else 1


def _to_json(story: DemoStory) -> dict[str, object]:
    """All steps, each in its own schema."""
    from zeroseal.reports import as_json, machines_as_json, shelf_as_json

    checks = (story.before, story.sealed, story.broken)
    return as_json.head("demo") | {
        "build": machines_as_json.machine_to_json(story.machine),
        "survey": as_json.survey_to_json(story.survey),
        "checks": [as_json.check_to_json(check) for check in checks],
        "seal": as_json.seal_to_json(story.result),
        "shelf": shelf_as_json.shelf_to_json(list(story.templates), []),
        "clones": shelf_as_json.clones_to_json(list(story.clones)),
        "asAsked": {
            name: all(answer.is_good for answer in answers)
            for name, answers in story.answers.items()
        },
        "runs": [machines_as_json.run_to_json(run) for run in (*story.runs, story.accident)],
        "desk": {
            "refusal": story.desk.refusal,
            "seal": as_json.seal_to_json(story.desk.result),
            "check": as_json.check_to_json(story.desk.sealed),
            "clones": shelf_as_json.clones_to_json(list(story.desk.clones)),
            "runs": [machines_as_json.run_to_json(run) for run in story.desk.runs],
            "comparison": machines_as_json.comparison_to_json(story.desk.comparison),
        },
        "comparison": machines_as_json.comparison_to_json(story.comparison),
    }
