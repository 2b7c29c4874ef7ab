"""``zeroseal demo``: the main job on a small disk that ships with the tool."""

from __future__ import annotations

import argparse
import time
from pathlib import Path

from zeroseal.cli.options import Subparsers, add_common
from zeroseal.cli.ui import Ui

_DEFAULT_FOLDER = "zeroseal-demo"


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's words."""
    parser = subparsers.add_parser(
        "demo",
        help="see the main job done on a disk that ships with the tool",
        description="Surveys, seals and checks the used disk of a made-up ticket gate, then "
        "changes one file of a sealed copy to show a broken seal. Everything happens in one new "
        "folder, which is left for you to explore. Ends with 0 if every step went as told.",
    )
    parser.add_argument(
        "--to",
        type=Path,
        default=Path(_DEFAULT_FOLDER),
        metavar="DIR",
        help=f"an empty or new folder (default: {_DEFAULT_FOLDER})",
    )
    add_common(parser)


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    from zeroseal.cli.show_demo import show_story
    from zeroseal.demo.scenario import run_demo
    from zeroseal.reports.as_json import demo_to_json
    from zeroseal.sealing.check import Verdict

    story = run_demo(args.to, int(time.time()), ui.progress)
    ui.end_progress()
    if ui.as_json:
        ui.show_json(
            demo_to_json(story.survey, story.result, [story.before, story.sealed, story.broken])
        )
    else:
        show_story(story, ui.console)
    verdicts = (story.before.verdict, story.sealed.verdict, story.broken.verdict)
    return 0 if verdicts == (Verdict.UNSEALED, Verdict.SEALED, Verdict.BROKEN_SEAL) else 1
