"""``zeroseal check``: is this image sealed?"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from zeroseal import api
from zeroseal.cli.image_arguments import (
    add_images,
    add_many,
    add_records_of_runs,
    are_many,
    get_image,
)
from zeroseal.cli.options import (
    add_canaries,
    add_places,
    add_reach,
    add_root,
    add_rules,
    add_secrets,
    add_strict,
    add_trusted,
    check_root,
    policy_of_site,
    trusted_from,
)
from zeroseal.cli.parser import PROOF, Subparsers
from zeroseal.cli.ui import Ui
from zeroseal.errors import UsageError
from zeroseal.messages import cli as messages

if TYPE_CHECKING:
    from zeroseal.machines.definition import MachineDefinition
    from zeroseal.templates.clone_check import CloneAnswer


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "check",
        usage="zeroseal check IMAGE ... [OPTION ...]",
        help="check whether an image is sealed",
        description=(
            "Gives one of five verdicts: SEALED (no trace, and the disk matches its seal "
            "record), CLEAN (no trace, no record), UNSEALED, BROKEN SEAL (changed since it "
            "was sealed), UNKNOWN. Nothing is written. The exit status is 0 for SEALED and "
            "CLEAN and 1 otherwise; for UNKNOWN it is 3 or 4 where the disk cannot be read."
        ),
        examples=(
            ("check sealed.qcow2", "is this disk sealed"),
            (
                "check sealed.qcow2 --deep --against gate.qcow2",
                "search its bytes for every value of the original",
            ),
            ("check sealed.qcow2 --trusted ops.pub --require-record", "accept signed seals only"),
            (
                "check sealed.qcow2 --gate gate.toml",
                "does it keep the rules of the site",
            ),
            ("check yard/north/disk.qcow2 --as gates.toml", "did this clone become what it should"),
            (
                "check yard/north/disk.qcow2 --as gates.toml --started",
                "is it also a machine of its own",
            ),
        ),
    )
    add_images(parser)
    parser.add_argument(
        "--level",
        choices=("quick", "full", "deep"),
        default="full",
        help=(
            "quick: compare with the record only; full: also look for traces (default); deep: "
            "also search the bytes"
        ),
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
    add_places(parser)
    clone = parser.group("a clone instead of a template")
    clone.add_argument(
        "--as",
        dest="clone_sheet",
        type=Path,
        metavar="SHEET",
        help="check whether this clone became what its clone sheet asks for",
    )
    clone.add_argument(
        "--started",
        action="store_true",
        help=(
            "with --as, after its first start: it must have identities of its own, and share "
            "none with its template and the yard's other clones of it"
        ),
    )
    clone.add_argument(
        "--accept",
        type=Path,
        metavar="SHEET",
        help="with --started: a build sheet; its services of [accept] must start at each boot",
    )
    add_secrets(parser, clone.title)
    add_root(parser)
    add_reach(parser)
    add_trusted(parser)
    proof = parser.group(PROOF)
    proof.add_argument(
        "--require-record", action="store_true", help="without a seal record, exit with status 1"
    )
    proof.add_argument(
        "--file",
        action="store_true",
        help=(
            "also report whether this is the very file that was sealed, or another file with "
            "the same disk"
        ),
    )
    proof.add_argument(
        "--gate",
        type=Path,
        metavar="FILE",
        help=(
            "what is required beside the verdict: the [gate] table of this file, or of house "
            "rules; each miss is a sentence, and the exit status is 1"
        ),
    )
    add_strict(parser)
    add_canaries(parser)
    add_many(parser)
    add_records_of_runs(parser)
    add_rules(parser)
    parser.add_general()


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    _check_options(args)
    if args.clone_sheet:
        return _check_as(args, ui)
    if args.root:
        check_root(args)
        if args.level != "full":
            raise UsageError(messages.TREE_HAS_ONE_LEVEL)
    elif args.watch:
        from zeroseal.cli.watch import watch

        return watch(args, ui)
    elif are_many(args):
        from zeroseal.cli.many import run_each_image

        return run_each_image(args, ui)
    else:
        args.image = get_image(args)
    return _check_one(args, ui)


def _check_options(args: argparse.Namespace) -> None:
    if args.against and args.level != "deep":
        raise UsageError(messages.AGAINST_NEEDS_DEEP)
    if args.file and (args.root or args.level == "quick"):
        raise UsageError(messages.FILE_NEEDS_LEVEL_FULL_OR_DEEP)
    if args.canaries and args.level != "deep":
        raise UsageError(messages.CANARIES_NEED_DEEP)
    if args.strict and args.level == "quick":
        raise UsageError(messages.STRICT_NEEDS_LEVEL_FULL_OR_DEEP)
    if (args.accept and not args.started) or (args.started and not args.clone_sheet):
        raise UsageError(messages.STARTED_NEEDS_SHEET)
    if args.changed and not args.state:
        raise UsageError(messages.CHANGED_NEEDS_STATE)


def _check_one(args: argparse.Namespace, ui: Ui) -> int:
    from zeroseal.cli.show_check import show_check
    from zeroseal.reports.as_json import check_to_json

    policy, trusted = policy_of_site(args), trusted_from(args)
    if args.gate and policy.gate.is_empty:
        raise UsageError(messages.NO_GATE_IN_FILE.format(path=args.gate))
    if args.root:
        result = api.check_tree(args.root, policy, trusted=trusted, progress=ui.progress)
    else:
        result = api.check(
            args.image,
            api.Level(args.level),
            policy,
            original=args.against,
            trusted=trusted,
            with_file=args.file,
            progress=ui.progress,
        )
    ui.show(
        lambda: check_to_json(result), lambda out: show_check(result, out, every_place=args.places)
    )
    if result.verdict is api.Verdict.UNKNOWN and result.error:
        return result.error.exit_status
    passes = result.verdict is api.Verdict.SEALED or (
        result.verdict is api.Verdict.CLEAN and not args.require_record
    )
    return 0 if passes and (result.gate is None or result.gate.passes) else 1


def _check_as(args: argparse.Namespace, ui: Ui) -> int:
    """Compares a clone's disk with what its sheet asks for."""
    import os

    from zeroseal.cli.options import definition_from
    from zeroseal.cli.show_clones import show_answers
    from zeroseal.machines.sheet.secret_values import read_secrets
    from zeroseal.reports.as_json import head, table_of
    from zeroseal.templates.clone_check import check_clone, find_wish
    from zeroseal.templates.clone_sheet.load import load_clone_sheet

    args.image, args.machine = get_image(args), None
    definition = definition_from(args)
    name = definition.name if definition else args.image.parent.resolve().name
    loaded = load_clone_sheet(args.clone_sheet, read_secrets(args.secrets, os.environ))
    wish = find_wish(loaded, name)
    answers = check_clone(args.image, wish, definition, ui.progress)
    if args.started:
        answers += _answers_after_start(args, definition, wish.row.new_volume_ids, ui)
    good = all(answer.is_good for answer in answers)
    ui.show(
        lambda: (
            head("clone-check")
            | {
                "clone": name,
                "asAsked": good,
                "seedAttached": bool(definition and definition.seed),
                "answers": [table_of(item) for item in answers],
            }
        ),
        lambda out: show_answers(name, args.image, answers, definition, out),
    )
    return 0 if good else 1


def _answers_after_start(
    args: argparse.Namespace, definition: MachineDefinition | None, has_new_ids: bool, ui: Ui
) -> list[CloneAnswer]:
    from zeroseal.machines.sheet.load import Wishes, load_sheets
    from zeroseal.machines.yard import Yard
    from zeroseal.templates.clone_start import answers_after_start, find_relatives

    if definition is None:
        raise UsageError(messages.STARTED_NEEDS_YARD)
    yard = Yard(args.image.resolve().parent.parent)
    accept = load_sheets(args.accept, Wishes())[0].sheet.accept if args.accept else None
    found = answers_after_start(
        args.image,
        find_relatives(definition, yard),
        accept.services if accept else (),
        has_new_ids=has_new_ids,
        progress=ui.progress,
    )
    return list(found)
