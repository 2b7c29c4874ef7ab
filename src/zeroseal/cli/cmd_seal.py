"""``zeroseal seal``: a sealed copy of an image, proven before it is written."""

from __future__ import annotations

import argparse
import time
from pathlib import Path

from zeroseal.cli.image_words import add_images, are_many, get_image, output_in
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
    choices_from,
)
from zeroseal.cli.signing_options import add_signing, signer_from
from zeroseal.cli.ui import Ui
from zeroseal.errors import MissingError, OutputExistsError, UsageError


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's words."""
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
        return _run_tree(args, ui)
    if are_many(args):
        _check_many(args)
        from zeroseal.cli.many import run_each

        return run_each(args, ui)
    args.image = get_image(args)
    if args.to:
        args.output = args.output or output_in(args.to, args.image, args.format or "")
    if args.ntfs_in_place and not args.in_place:
        raise UsageError("--ntfs-in-place goes with --in-place only")
    if args.journal_to and not args.in_place:
        raise UsageError("--journal-to goes with --in-place only")
    if args.rehearse:
        return _rehearse(args, ui)
    if args.output is None and not args.dry_run and not args.in_place:
        raise UsageError(
            "name the new image with -o OUT, seal the image itself with --in-place, or look at the "
            "plan with --dry-run"
        )
    return _plan(args, ui) if args.dry_run else _seal(args, ui)


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


def _rehearse(args: argparse.Namespace, ui: Ui) -> int:
    from zeroseal.cli.show_seal import show_rehearsal
    from zeroseal.images.output import write_small_file
    from zeroseal.reports.as_json import rehearsal_to_json
    from zeroseal.sealing.rehearsal import draft_rules, rehearse_image

    choices, now = choices_from(args), int(time.time())
    rehearsal = rehearse_image(args.image, choices, now, ui.progress, args.snapshot)
    if args.draft_rules:
        write_small_file(args.draft_rules, draft_rules(rehearsal).encode())
    ui.show(
        lambda: rehearsal_to_json(rehearsal),
        lambda out: show_rehearsal(rehearsal, args.output, args.draft_rules, out, args.places),
    )
    return 0 if rehearsal.would_seal else 1


def _run_tree(args: argparse.Namespace, ui: Ui) -> int:
    from zeroseal.cli.show_seal import show_plan, show_tree_result
    from zeroseal.errors import RefusedError
    from zeroseal.reports.as_json import plan_to_json, tree_to_json
    from zeroseal.sealing.plan import check_allowed
    from zeroseal.sealing.tree_seal import plan_tree, seal_tree

    choices = choices_from(args)
    if args.dry_run:
        planned = plan_tree(args.root, choices, ui.progress)
        ui.show(
            lambda: plan_to_json(planned),
            lambda out: show_plan(planned, args.output, out, args.places, args.in_place),
        )
        try:
            check_allowed(planned.plan)
        except RefusedError as error:
            return error.exit_status
        return 0
    if args.output is None and not args.in_place:
        raise UsageError(
            "name the new archive with -o OUT.tar, or change the folder itself with --in-place"
        )
    signer = signer_from(args)
    result = seal_tree(args.root, args.output, choices, int(time.time()), ui.progress, signer)
    ui.show(lambda: tree_to_json(result), lambda out: show_tree_result(result, out, args.places))
    return 0 if result.planned.plan.is_complete else 1


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


def _plan(args: argparse.Namespace, ui: Ui) -> int:
    from zeroseal.cli.show_seal import show_plan
    from zeroseal.errors import RefusedError
    from zeroseal.reports.as_json import plan_to_json
    from zeroseal.sealing.plan import check_allowed
    from zeroseal.sealing.seal import plan_image

    planned = plan_image(args.image, choices_from(args), ui.progress, args.snapshot)
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
    from zeroseal.sealing.seal import OutputSpec, seal_image

    now, signer = int(time.time()), signer_from(args)
    if args.in_place:
        from zeroseal.sealing.seal_in_place import seal_in_place

        result = seal_in_place(
            args.image,
            choices_from(args),
            now,
            ui.progress,
            signer,
            also_ntfs=args.ntfs_in_place,
            journal_to=args.journal_to,
        )
    else:
        output = OutputSpec(
            args.output,
            args.format or "",
            compress=args.compress,
            fixed=args.fixed,
            preallocate=args.preallocate,
            snapshot=args.snapshot,
            overwrite_device=args.overwrite_device,
        )
        result = seal_image(args.image, output, choices_from(args), now, ui.progress, signer)
    ui.show(
        lambda: seal_to_json(result), lambda out: show_result(result, out, every_place=args.places)
    )
    return 0 if result.planned.plan.is_complete else 1
