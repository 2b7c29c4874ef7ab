"""``zeroseal seal``: a sealed copy of an image, proven before it is written."""

from __future__ import annotations

import argparse
import time
from pathlib import Path
from typing import TYPE_CHECKING

from zeroseal.cli.image_arguments import add_images, are_many, get_image, output_in
from zeroseal.cli.options import (
    Subparsers,
    add_choices,
    add_common,
    add_container,
    add_machine_file,
    add_overwrite_device,
    add_reach,
    add_recovery,
    add_root,
    add_rules,
    add_search,
    add_snapshot,
    check_root,
    policy_from,
)
from zeroseal.cli.signing_options import add_signing, signer_from
from zeroseal.cli.ui import Ui
from zeroseal.errors import MissingError, OutputExistsError, UsageError

if TYPE_CHECKING:
    from zeroseal.sealing.job import SealResult, Target


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "seal",
        help="write a sealed copy of an image",
        description="Removes and zeroes every trace that the catalogue knows, verifies the result, "
        "and writes it to a new file with a seal record beside it. The source never changes, but "
        "for --in-place: that is staged and proven first, and happens whole or not at all. Ends "
        "with 0 if the new image is sealed, with 1 if traces that make a machine itself were "
        "skipped, with 4 if the seal was refused.",
    )
    add_images(parser)
    parser.add_argument(
        "--to",
        type=Path,
        metavar="DIR",
        help="the folder of the new images, which keep their names",
    )
    parser.add_argument("-o", dest="output", type=Path, metavar="OUT", help="the new image file")
    add_overwrite_device(parser)
    parser.add_argument(
        "--in-place",
        action="store_true",
        help="seal IMAGE itself instead of a new file: what it held is gone afterwards",
    )
    parser.add_argument(
        "--journal-to",
        type=Path,
        metavar="DIR",
        help="with --in-place, where IMAGE is a block device: the folder of the redo journal and "
        "of the record; run from there, any command on the device finishes an interrupted seal",
    )
    parser.add_argument(
        "--ntfs-in-place",
        action="store_true",
        help="with --in-place: also where the guest has a volume of NTFS, which no chkdsk can "
        "judge before it is written",
    )
    parser.add_argument(
        "--format",
        choices=("raw", "qcow2", "vmdk", "vhdx", "vhd", "vdi"),
        help="container of the new file (default: as IMAGE)",
    )
    add_root(parser)
    add_container(parser)
    add_snapshot(parser)
    parser.add_argument(
        "--dry-run", action="store_true", help="print the plan, exactly as it would be carried out"
    )
    parser.add_argument(
        "--rehearse",
        action="store_true",
        help="do all but the output, and list at once what would stop the seal in the end",
    )
    parser.add_argument(
        "--draft-rules",
        type=Path,
        metavar="FILE",
        help="with --rehearse: write house rules in which each of these places is a choice",
    )
    parser.add_argument(
        "--places", action="store_true", help="of every trace: why, what regrows it, every place"
    )
    add_machine_file(parser)
    add_choices(parser)
    add_recovery(parser)
    add_search(parser)
    add_signing(parser)
    add_reach(parser)
    add_rules(parser)
    add_common(parser)


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
        from zeroseal.cli.many import run_each

        return run_each(args, ui)
    else:
        args.image = get_image(args)
        if args.to:
            args.output = args.output or output_in(args.to, args.image, args.format or "")
    if args.ntfs_in_place and not args.in_place:
        raise UsageError("--ntfs-in-place goes with --in-place only")
    if args.journal_to and not args.in_place:
        raise UsageError("--journal-to goes with --in-place only")
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
        raise UsageError(
            "name the new archive with -o OUT.tar, or change the folder itself with --in-place"
        )
    raise UsageError(
        "name the new image with -o OUT, seal the image itself with --in-place, or look at the "
        "plan with --dry-run"
    )


def _check_rehearsal(args: argparse.Namespace) -> None:
    if args.draft_rules and not args.rehearse:
        raise UsageError("--draft-rules goes with --rehearse")
    if args.rehearse:
        given = {"--dry-run": args.dry_run, "--root": args.root, "several images": are_many(args)}
        wrong = [name for name, value in given.items() if value]
        if wrong:
            raise UsageError(f"--rehearse rehearses the seal of one image, without {wrong[0]}")
    if args.draft_rules and args.draft_rules.exists():
        raise OutputExistsError(
            f"{args.draft_rules} exists already: choose another name, or remove it first",
            path=str(args.draft_rules),
        )


def _check_many(args: argparse.Namespace) -> None:
    if args.output:
        raise UsageError("-o names one file: with several images name a folder with --to DIR")
    if args.machine:
        raise UsageError("--machine describes one machine: seal its image by itself")
    if not args.to and not args.in_place and not args.dry_run:
        raise UsageError(
            "name the folder of the new images with --to DIR, or seal the images themselves with "
            "--in-place"
        )
    if args.to and not args.to.is_dir():
        raise MissingError(f"there is no folder {args.to}: make it first")


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
        raise UsageError(f"--in-place seals IMAGE as it is, and does not go with {wrong[0]}")


def _rehearse(args: argparse.Namespace, ui: Ui) -> int:
    from zeroseal.cli.show_seal import show_rehearsal
    from zeroseal.images.output import write_small_file
    from zeroseal.reports.as_json import rehearsal_to_json
    from zeroseal.sealing.job import SealRequest, seal
    from zeroseal.sealing.targets.rehearsal import Rehearsal, draft_rules

    target = Rehearsal(args.snapshot)
    request = SealRequest(args.image, target, policy_from(args), int(time.time()))
    rehearsed = seal(request, ui.progress)
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
    from zeroseal.sealing.job import plan_image
    from zeroseal.sealing.plan import check_allowed

    if args.root:
        from zeroseal.sealing.targets.tree import plan_tree

        planned = plan_tree(args.root, policy_from(args), ui.progress)
    else:
        planned = plan_image(args.image, policy_from(args), ui.progress, args.snapshot)
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
    from zeroseal.sealing.job import SealRequest, seal

    now, signer = int(time.time()), signer_from(args)
    request = SealRequest(args.image, _target_of(args), policy_from(args), now, signer)
    result = seal(request, ui.progress)
    ui.show(
        lambda: seal_to_json(result), lambda out: show_result(result, out, every_place=args.places)
    )
    return 0 if result.planned.plan.is_complete else 1


def _target_of(args: argparse.Namespace) -> Target[SealResult]:
    """Where the words say that the result goes."""
    if args.root:
        from zeroseal.sealing.targets.tree import SealedTree

        return SealedTree(args.output)
    if args.in_place:
        from zeroseal.sealing.targets.in_place import InPlace

        return InPlace(also_unjudged=args.ntfs_in_place, journal_to=args.journal_to)
    from zeroseal.sealing.targets.new_file import NewFile

    return NewFile(
        args.output,
        args.format or "",
        compress=args.compress,
        fixed=args.fixed,
        preallocate=args.preallocate,
        snapshot=args.snapshot,
        overwrite_device=args.overwrite_device,
    )
