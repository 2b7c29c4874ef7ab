"""``zeroseal seal``: a sealed copy of an image, proven before it is written."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from zeroseal import api
from zeroseal.cli.image_arguments import (
    add_images,
    add_many,
    are_many,
    format_of_name,
    get_image,
    output_in,
)
from zeroseal.cli.options import (
    add_choices,
    add_container,
    add_machine_file,
    add_overwrite_device,
    add_places,
    add_reach,
    add_recovery,
    add_root,
    add_rules,
    add_search,
    add_snapshot,
    check_root,
    policy_from,
)
from zeroseal.cli.parser import OUTPUT, POLICY, Parser, Subparsers
from zeroseal.cli.signing_options import add_signing, signer_from
from zeroseal.cli.ui import Ui
from zeroseal.errors import MissingError, OutputExistsError, UsageError
from zeroseal.messages import cli as messages

if TYPE_CHECKING:
    from zeroseal.sealing.job import SealResult, Target


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "seal",
        usage="zeroseal seal IMAGE ... (-o OUT | --to DIR | --in-place | --dry-run) [OPTION ...]",
        help="write a sealed copy of an image",
        description=(
            "Removes and zeroes every trace in the catalogue, verifies the result, and writes "
            "it to a new file with a seal record beside it. The source never changes, except "
            "with --in-place: there the change is prepared and proven first, and applied "
            "completely or not at all. The exit status is 0 if the new image is sealed, 1 if "
            "traces that identify the machine were skipped, and 4 if the seal was refused."
        ),
        examples=(
            ("seal gate.qcow2 --dry-run --places", "see the plan, with every place"),
            ("seal gate.qcow2 -o sealed.qcow2", "seal a disk into a new file"),
            ("seal gate.qcow2 --rehearse", "list everything that would stop the seal"),
            (
                "seal gate.qcow2 -o sealed.qcow2 --plant-first-boot",
                "seal a machine whose system does not create its own host keys",
            ),
            (
                "seal desk.qcow2 -o sealed.qcow2 --reissue-sid",
                "seal a Windows guest that was not resealed by its own generalize pass",
            ),
            ("seal images/ --to sealed/", "seal all images of a folder"),
        ),
    )
    add_images(parser)
    parser.add_argument("-o", dest="output", type=Path, metavar="OUT", help="the new image file")
    parser.add_argument(
        "--to",
        type=Path,
        metavar="DIR",
        help="the folder for the new images, which keep their names",
    )
    parser.add_argument(
        "--in-place",
        action="store_true",
        help="seal IMAGE itself instead of a new file: its former contents are lost",
    )
    parser.add_argument(
        "--dry-run", action="store_true", help="show the plan exactly as it would be carried out"
    )
    parser.add_argument(
        "--rehearse",
        action="store_true",
        help="do everything except the output, and list what would stop the seal at the end",
    )
    add_places(parser)
    add_choices(parser)
    parser.group(POLICY).add_argument(
        "--new-volume-ids",
        action="store_true",
        help=(
            "give partitions and volumes new UUIDs, and change every reference to them in the guest"
        ),
    )
    parser.group(OUTPUT).add_argument(
        "--format",
        choices=("raw", "qcow2", "vmdk", "vhdx", "vhd", "vdi"),
        help="format of the new file (default: by the suffix of OUT, else that of IMAGE)",
    )
    add_container(parser)
    add_overwrite_device(parser)
    _add_in_place(parser)
    add_root(parser)
    add_snapshot(parser)
    add_machine_file(parser)
    add_recovery(parser)
    add_reach(parser)
    add_search(parser)
    add_signing(parser)
    add_many(parser)
    add_rules(parser)
    parser.group(POLICY).add_argument(
        "--draft-rules",
        type=Path,
        metavar="FILE",
        help="with --rehearse: write house rules that list each place with its choices",
    )
    parser.add_general()


def _add_in_place(parser: Parser) -> None:
    in_place = parser.group("with --in-place")
    in_place.add_argument(
        "--journal-to",
        type=Path,
        metavar="DIR",
        help=(
            "where IMAGE is a block device: the folder for the redo journal and the record; "
            "any command run there on the device finishes an interrupted seal"
        ),
    )
    in_place.add_argument(
        "--ntfs-in-place",
        action="store_true",
        help="also allow NTFS volumes, which no chkdsk can check before they are written",
    )


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    if args.in_place:
        _check_in_place(args)
    _check_rehearsal(args)
    if args.root:
        check_root(args)
        args.image = args.root
    elif are_many(args):
        _check_many(args)
        from zeroseal.cli.many import run_each_image

        return run_each_image(args, ui)
    else:
        args.image = get_image(args)
        if args.to:
            args.output = args.output or output_in(args.to, args.image, args.format or "")
    if args.ntfs_in_place and not args.in_place:
        raise UsageError(messages.NTFS_IN_PLACE_NEEDS_IN_PLACE)
    if args.journal_to and not args.in_place:
        raise UsageError(messages.JOURNAL_TO_NEEDS_IN_PLACE)
    if args.rehearse:
        return _rehearse(args, ui)
    if args.dry_run:
        return _plan(args, ui)
    _check_output(args)
    return _seal(args, ui)


def _check_output(args: argparse.Namespace) -> None:
    if args.output is not None or args.in_place:
        return
    if args.root:
        raise UsageError(messages.TREE_SEAL_NEEDS_OUTPUT)
    raise UsageError(messages.SEAL_NEEDS_OUTPUT)


def _check_rehearsal(args: argparse.Namespace) -> None:
    if args.canaries and args.level != "deep":
        raise UsageError(messages.CANARIES_NEED_DEEP)
    if args.draft_rules and not args.rehearse:
        raise UsageError(messages.DRAFT_RULES_NEEDS_REHEARSE)
    if args.rehearse:
        given = {"--dry-run": args.dry_run, "--root": args.root, "several images": are_many(args)}
        wrong = [name for name, value in given.items() if value]
        if wrong:
            raise UsageError(messages.NOT_WITH_REHEARSE.format(wrong=wrong[0]))
    if args.draft_rules and args.draft_rules.exists():
        raise OutputExistsError(
            messages.ALREADY_EXISTS.format(path=args.draft_rules),
            path=str(args.draft_rules),
        )


def _check_many(args: argparse.Namespace) -> None:
    if args.output:
        raise UsageError(messages.SEVERAL_IMAGES_ONE_OUTPUT)
    if args.machine:
        raise UsageError(messages.SEVERAL_IMAGES_ONE_MACHINE)
    if not args.to and not args.in_place and not args.dry_run:
        raise UsageError(messages.SEVERAL_IMAGES_NEED_FOLDER)
    if args.to and not args.to.is_dir():
        raise MissingError(messages.FOLDER_NOT_FOUND.format(to=args.to))


def _check_in_place(args: argparse.Namespace) -> None:
    given = {
        "-o": args.output,
        "--to": args.to,
        "--format": args.format,
        "--compress": args.compress,
        "--fixed": args.fixed,
        "--preallocate": args.preallocate,
        "--snapshot": args.snapshot,
    }
    wrong = [name for name, value in given.items() if value]
    if wrong:
        raise UsageError(messages.NOT_WITH_IN_PLACE.format(wrong=wrong[0]))


def _rehearse(args: argparse.Namespace, ui: Ui) -> int:
    from zeroseal.cli.show_seal import show_rehearsal
    from zeroseal.images.output import write_small_file
    from zeroseal.reports.as_json import rehearsal_to_json
    from zeroseal.sealing.targets.rehearsal import draft_rules

    target = api.Rehearsal(args.snapshot)
    rehearsed = api.seal(args.image, target, policy_from(args), progress=ui.progress)
    if args.draft_rules:
        write_small_file(args.draft_rules, draft_rules(rehearsed).encode())
    ui.show(
        lambda: rehearsal_to_json(rehearsed),
        lambda out: show_rehearsal(rehearsed, args.output, args.draft_rules, out, args.places),
    )
    return 0 if rehearsed.would_seal else 1


def _plan(args: argparse.Namespace, ui: Ui) -> int:
    from zeroseal.cli.show_seal import show_plan
    from zeroseal.errors import RefusedError
    from zeroseal.reports.as_json import plan_to_json
    from zeroseal.sealing.plan import check_allowed

    policy = policy_from(args)
    if args.root:
        planned = api.plan_tree(args.root, policy, progress=ui.progress)
    else:
        planned = api.plan(args.image, policy, snapshot=args.snapshot, progress=ui.progress)
    ui.show(
        lambda: plan_to_json(planned),
        lambda out: show_plan(
            planned, args.output, out, every_place=args.places, in_place=args.in_place
        ),
    )
    try:
        check_allowed(planned.plan)
    except RefusedError as error:
        return error.exit_status
    return 0


def _seal(args: argparse.Namespace, ui: Ui) -> int:
    from zeroseal.cli.show_seal import show_result
    from zeroseal.reports.as_json import seal_to_json

    signer, target = signer_from(args), _target_of(args)
    result = api.seal(args.image, target, policy_from(args), signer=signer, progress=ui.progress)
    ui.show(
        lambda: seal_to_json(result), lambda out: show_result(result, out, every_place=args.places)
    )
    return 0 if result.planned.plan.is_complete else 1


def _target_of(args: argparse.Namespace) -> Target[SealResult]:
    """Where the words say that the result goes."""
    if args.root:
        return api.SealedTree(args.output)
    if args.in_place:
        return api.InPlace(also_unjudged=args.ntfs_in_place, journal_to=args.journal_to)
    return api.NewFile(
        args.output,
        args.format or format_of_name(args.output),
        compress=args.compress,
        fixed=args.fixed,
        preallocate=args.preallocate,
        snapshot=args.snapshot,
        overwrite_device=args.overwrite_device,
    )
