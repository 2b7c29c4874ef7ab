"""``zeroseal survey``: what is this disk, what identity is on it, is it fit to be sealed?"""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from zeroseal import api
from zeroseal.cli.image_arguments import add_images, add_many, are_many, get_image
from zeroseal.cli.options import (
    add_machine_file,
    add_places,
    add_reach,
    add_recovery,
    add_root,
    add_rules,
    add_snapshot,
    check_root,
    policy_from,
    take_choices,
)
from zeroseal.cli.parser import Subparsers
from zeroseal.cli.ui import Ui

if TYPE_CHECKING:
    from zeroseal.reports.as_json import Json
    from zeroseal.sealing.survey import DataSurvey, Survey


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "survey",
        usage="zeroseal survey IMAGE ... [OPTION ...] [--as-if OPTION_OF_SEAL ...]",
        help="report what is on a disk and whether it is ready to be sealed",
        description=(
            "Reads an image and reports its system, its identity and whether it is ready to "
            "be sealed. Nothing is written. The exit status is 0 if the machine is ready and "
            "1 if something must be solved first."
        ),
        examples=(
            ("survey gate.qcow2", "what is on this disk, and is it ready"),
            ("survey gate.qcow2 --places", "name every place that a seal would change"),
            ("survey gate.qcow2 --unclaimed", "what may be identity and is in no catalogue"),
            (
                "survey gate.qcow2 --as-if --retain-account ops --plant-first-boot",
                "is it ready for a seal with these options",
            ),
            ("survey images/ --junit answers.xml", "all images of a folder, for a pipeline"),
        ),
    )
    add_images(parser)
    add_places(parser)
    parser.add_argument(
        "--unclaimed",
        action="store_true",
        help="list files that no package owns and that look like identity, with the reasons",
    )
    parser.add_argument(
        "--as-if",
        nargs=argparse.REMAINDER,
        default=[],
        metavar="OPTION",
        help=(
            "judge the machine for a seal with the options that follow; last on the line "
            "(see zeroseal seal --help: what is treated, what clones get)"
        ),
    )
    add_root(parser)
    add_snapshot(parser)
    add_machine_file(parser)
    add_recovery(parser)
    add_reach(parser)
    add_many(parser)
    add_rules(parser)
    parser.add_general()


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    take_choices(args)
    if args.root:
        check_root(args)
    elif are_many(args):
        from zeroseal.cli.many import run_each_image

        return run_each_image(args, ui)
    else:
        args.image = get_image(args)
    from zeroseal.cli.show_survey import show_survey

    policy = policy_from(args)
    if args.root:
        survey = api.survey_tree(args.root, policy, progress=ui.progress)
    else:
        found = api.survey(args.image, policy, snapshot=args.snapshot, progress=ui.progress)
        if isinstance(found, api.DataSurvey):
            from zeroseal.cli.show_ntfs import show_data_survey

            ui.show(lambda: _to_json(found), lambda out: show_data_survey(found, out))
            return 1
        survey = found
    ui.show(
        lambda: _to_json(survey),
        lambda out: show_survey(survey, out, every_place=args.places, unclaimed=args.unclaimed),
    )
    return 0 if survey.is_ready else 1


def _to_json(survey: Survey | DataSurvey) -> Json:
    from zeroseal.reports.ntfs_as_json import any_survey_to_json  # of no use to a terminal

    return any_survey_to_json(survey)
