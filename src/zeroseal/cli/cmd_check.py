"""``zeroseal check``: is this image sealed?"""

from __future__ import annotations

import argparse
from dataclasses import replace
from pathlib import Path

from zeroseal.cli.image_arguments import add_images, are_many, get_image
from zeroseal.cli.options import (
    Subparsers,
    add_common,
    add_reach,
    add_root,
    add_rules,
    add_secrets,
    add_trusted,
    check_root,
    policy_of_site,
)
from zeroseal.cli.ui import Ui
from zeroseal.errors import UsageError


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "check",
        help="is this image sealed",
        description="Gives one of five verdicts: SEALED (no trace, and the disk is what its seal "
        "record says), CLEAN (no trace, no record), UNSEALED, BROKEN SEAL (changed since it was "
        "sealed), UNKNOWN. Nothing is written. Ends with 0 for SEALED and CLEAN, with 1 otherwise; "
        "UNKNOWN ends with 3 or 4 where the disk cannot be read.",
    )
    add_images(parser)
    add_root(parser)
    parser.add_argument(
        "--level",
        choices=("quick", "full", "deep"),
        default="full",
        help="quick: compare with the record only; full: look for traces too (default); deep: "
        "search the bytes too",
    )
    parser.add_argument(
        "--deep", dest="level", action="store_const", const="deep", help="the same as --level deep"
    )
    parser.add_argument(
        "--against",
        type=Path,
        metavar="ORIGINAL",
        help="with --deep: the unsealed image, whose values are searched for",
    )
    parser.add_argument(
        "--file",
        action="store_true",
        help="tell too whether this is the very file that was sealed, or another with the same "
        "disk: reads all of it once more",
    )
    parser.add_argument(
        "--require-record", action="store_true", help="without a seal record the answer is no"
    )
    add_trusted(parser)
    parser.add_argument(
        "--as",
        dest="clone_sheet",
        type=Path,
        metavar="SHEET",
        help="instead: did this clone become what its clone sheet asks for",
    )
    add_secrets(parser)
    parser.add_argument(
        "--places", action="store_true", help="of every trace: why, what regrows it, every place"
    )
    add_reach(parser)
    add_rules(parser)
    add_common(parser)


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    if args.against and args.level != "deep":
        raise UsageError("--against goes with --deep: only then are values searched for")
    if args.file and (args.root or args.level == "quick"):
        raise UsageError("--file goes with levels full and deep of an image: only they read it all")
    if args.clone_sheet:
        return _check_as(args, ui)
    if args.root:
        check_root(args)
        if args.level != "full":
            raise UsageError("a tree is checked at level full only: leave --level out")
    elif are_many(args):
        from zeroseal.cli.many import run_each

        return run_each(args, ui)
    else:
        args.image = get_image(args)
    from zeroseal.cli.show_check import show_check
    from zeroseal.reports.as_json import check_to_json
    from zeroseal.sealing.check import check_image, compare_file
    from zeroseal.sealing.verdict import Level, Verdict

    policy = policy_of_site(args)
    if args.root:
        from zeroseal.sealing.check import check_tree

        result = check_tree(args.root, ui.progress, policy)
    else:
        result = check_image(args.image, Level(args.level), ui.progress, args.against, policy)
    if args.file:
        result = replace(result, file_answer=compare_file(result, ui.progress))
    if args.trusted:
        from zeroseal.cli.options import trusted_from
        from zeroseal.sealing.trust import require_signature

        result = require_signature(result, trusted_from(args))
    ui.show(
        lambda: check_to_json(result), lambda out: show_check(result, out, every_place=args.places)
    )
    if result.verdict is Verdict.UNKNOWN and result.error:
        return result.error.exit_status
    passes = result.verdict is Verdict.SEALED or (
        result.verdict is Verdict.CLEAN and not args.require_record
    )
    return 0 if passes else 1


def _check_as(args: argparse.Namespace, ui: Ui) -> int:
    """Compares a clone's disk with what its sheet asks for."""
    import os
    from dataclasses import asdict

    from zeroseal.cli.options import definition_from
    from zeroseal.cli.show_clones import show_answers
    from zeroseal.machines.sheet.secret_values import read_secrets
    from zeroseal.reports.as_json import head
    from zeroseal.templates.clone_check import check_clone, find_wish
    from zeroseal.templates.clone_sheet.load import load_clone_sheet

    args.image, args.machine = get_image(args), None
    definition = definition_from(args)
    name = definition.name if definition else args.image.parent.resolve().name
    loaded = load_clone_sheet(args.clone_sheet, read_secrets(args.secrets, os.environ))
    answers = check_clone(args.image, find_wish(loaded, name), definition, ui.progress)
    good = all(answer.is_good for answer in answers)
    ui.show(
        lambda: (
            head("clone-check")
            | {
                "clone": name,
                "asAsked": good,
                "seedAttached": bool(definition and definition.seed),
                "answers": [asdict(item) for item in answers],
            }
        ),
        lambda out: show_answers(name, args.image, answers, definition, out),
    )
    return 0 if good else 1
