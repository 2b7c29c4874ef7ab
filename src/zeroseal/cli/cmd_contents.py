"""``zeroseal contents``: what is installed, as a list and as a bill of materials."""

from __future__ import annotations

import argparse
import time
from pathlib import Path
from typing import TYPE_CHECKING

from zeroseal.cli.options import add_reach, add_root, add_shelf, add_snapshot, reach_from
from zeroseal.cli.parser import OUTPUT, Subparsers
from zeroseal.cli.ui import Ui
from zeroseal.errors import OutputExistsError, UsageError
from zeroseal.messages import cli as messages

if TYPE_CHECKING:
    from zeroseal.reports.bill_of_materials import Described


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "contents",
        usage="zeroseal contents IMAGE [OPTION ...]",
        help="list what is installed on an image, or write a bill of materials",
        description=(
            "Lists what is installed by the guest's own records: packages of dpkg, RPM, apk and "
            "pacman, programs and updates of Windows, Python and npm packages in system places, "
            "kernels. --cyclonedx and --spdx write it as a bill of materials for programs that "
            "look for known vulnerabilities; zeroseal itself does not judge them."
        ),
        examples=(
            ("contents sealed.qcow2", "how many packages of which kind"),
            ("contents sealed.qcow2 --every", "each of them with its version"),
            ("contents gangway@2026-12 --cyclonedx gangway.cdx.json", "for a vulnerability scan"),
        ),
    )
    parser.add_argument(
        "image", nargs="?", metavar="IMAGE", help="a disk image, or NAME[@VERSION] on the shelf"
    )
    parser.add_argument("--every", action="store_true", help="list each component")
    output = parser.group(OUTPUT)
    output.add_argument(
        "--cyclonedx", type=Path, metavar="FILE", help="write a CycloneDX 1.6 document (JSON)"
    )
    output.add_argument(
        "--spdx", type=Path, metavar="FILE", help="write an SPDX 2.3 document (JSON)"
    )
    add_shelf(parser)
    add_root(parser)
    add_snapshot(parser)
    add_reach(parser)
    parser.add_general()


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    from zeroseal.cli.show_contents import show_contents
    from zeroseal.guests.components import contents_to_json
    from zeroseal.reports.as_json import head

    files = [path for path in (args.cyclonedx, args.spdx) if path]
    for path in files:
        if path.exists():
            raise OutputExistsError(messages.ALREADY_EXISTS.format(path=path), path=str(path))
    described = _read(args, ui)
    for path in files:
        _write(path, described, is_spdx=path == args.spdx)
    contents = described.contents
    ui.show(
        lambda: (
            contents_to_json(contents)
            | head("contents")
            | {
                "name": described.name,
                "digest": contents.digest,
                "diskDigest": described.digest or None,
                "written": [str(path) for path in files],
            }
        ),
        lambda out: show_contents(described, files, out, every=args.every),
    )
    return 0


def _read(args: argparse.Namespace, ui: Ui) -> Described:
    from zeroseal.reports.bill_of_materials import Described
    from zeroseal.sealing.contents import read_contents, read_contents_of_tree
    from zeroseal.sealing.policy import resolve
    from zeroseal.sealing.record import find_record

    now = int(time.time())
    if args.root:
        if args.image or args.snapshot:
            wrong = "IMAGE" if args.image else "--snapshot"
            raise UsageError(messages.NOT_WITH_ROOT.format(wrong=wrong))
        return Described(args.root.name, read_contents_of_tree(args.root), now)
    if not args.image:
        raise UsageError(messages.IMAGE_OR_ROOT)
    path = Path(args.image)
    if not path.exists() and "/" not in args.image and not args.snapshot:
        return _read_template(args, ui)
    contents = read_contents(path, resolve(reach=reach_from(args)), args.snapshot, ui.progress)
    record = None if args.snapshot else find_record(path)
    if record is None:
        return Described(path.name, contents, now)
    return Described(path.name, contents, record.sealed_at, record.root)


def _read_template(args: argparse.Namespace, ui: Ui) -> Described:
    from zeroseal.reports.bill_of_materials import Described
    from zeroseal.templates.shelf.contents_file import contents_of
    from zeroseal.templates.shelf.shelf import Shelf

    template = Shelf(args.shelf).get(args.image)
    entry = template.entry
    return Described(entry.title, contents_of(template, ui.progress), entry.sealed_at, entry.digest)


def _write(path: Path, described: Described, is_spdx: bool) -> None:
    from zeroseal.images.output import write_small_file
    from zeroseal.reports.bill_of_materials import build_cyclonedx, build_spdx

    write_small_file(path, build_spdx(described) if is_spdx else build_cyclonedx(described))
