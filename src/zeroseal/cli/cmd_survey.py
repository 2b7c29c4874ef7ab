"""``zeroseal survey``: what is this disk, what identity is on it, is it fit to be sealed?"""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from zeroseal.cli.image_arguments import add_images, are_many, get_image
from zeroseal.cli.options import (
    Subparsers,
    add_choices,
    add_common,
    add_machine_file,
    add_reach,
    add_recovery,
    add_root,
    add_rules,
    add_snapshot,
    check_root,
    policy_from,
)
from zeroseal.cli.ui import Ui

if TYPE_CHECKING:
    from zeroseal.reports.as_json import Json
    from zeroseal.sealing.survey import DataSurvey, Survey


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "survey",
        help="what is this disk, what identity is on it, is it fit to be sealed",
        description="Reads an image and tells what is on it. Nothing is written. Ends with 0 if "
        "the machine is fit to be sealed, with 1 if something stands against it.",
    )
    add_images(parser)
    add_root(parser)
    add_snapshot(parser)
    parser.add_argument(
        "--places", action="store_true", help="of every trace: why, what regrows it, every place"
    )
    add_machine_file(parser)
    add_choices(parser)
    add_recovery(parser)
    add_reach(parser)
    add_rules(parser)
    add_common(parser)


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    if args.root:
        check_root(args)
    elif are_many(args):
        from zeroseal.cli.many import run_each

        return run_each(args, ui)
    else:
        args.image = get_image(args)
    from zeroseal.cli.show_survey import show_survey
    from zeroseal.sealing.survey import DataSurvey, survey_any

    if args.root:
        from zeroseal.sealing.survey import survey_tree

        survey = survey_tree(args.root, policy_from(args), ui.progress)
    else:
        found = survey_any(args.image, policy_from(args), ui.progress, args.snapshot)
        if isinstance(found, DataSurvey):
            from zeroseal.cli.show_ntfs import show_data_survey

            ui.show(lambda: _to_json(found), lambda out: show_data_survey(found, out))
            return 1
        survey = found
    ui.show(
        lambda: _to_json(survey),
        lambda out: show_survey(survey, out, every_place=args.places),
    )
    return 0 if survey.is_ready else 1


def _to_json(survey: Survey | DataSurvey) -> Json:
    from zeroseal.reports.ntfs_as_json import any_survey_to_json  # of no use to a terminal

    return any_survey_to_json(survey)
