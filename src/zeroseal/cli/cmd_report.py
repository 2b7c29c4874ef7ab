"""``zeroseal report``: a disk, before and after its seal, as a picture or a page."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from zeroseal.cli.options import Subparsers, add_common, add_reach, reach_from
from zeroseal.cli.ui import Ui
from zeroseal.errors import UsageError

if TYPE_CHECKING:
    from zeroseal.images.reach import Reach
    from zeroseal.reports.disk_report import ReportedDisk


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "report",
        help="draw where a disk holds what, before and after its seal",
        description="Draws the disk as a strip (data that stays, content where none belongs, "
        "nothing) and counts what the catalogue finds, by family; with --against the original "
        "above it. Nothing is written but the report.",
    )
    parser.add_argument("image", type=Path, metavar="IMAGE", help="a disk image")
    parser.add_argument("--against", type=Path, metavar="ORIGINAL", help="the disk before its seal")
    parser.add_argument("--png", type=Path, metavar="FILE", help="a picture of 1280 by 800")
    parser.add_argument("--html", type=Path, metavar="FILE", help="a page that stands by itself")
    add_reach(parser)
    add_common(parser)


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    from zeroseal.cli.show_report import show_report
    from zeroseal.images.output import write_small_file
    from zeroseal.reports.disk_report import build_html, build_png, report_to_json

    if not args.png and not args.html:
        raise UsageError("name what to write: --png FILE, --html FILE or both")
    disks = [_read(path, reach_from(args), ui) for path in (args.against, args.image) if path]
    written = []
    if args.png:
        write_small_file(args.png, build_png(disks))
        written.append(args.png)
    if args.html:
        write_small_file(args.html, build_html(disks).encode())
        written.append(args.html)
    ui.show(
        lambda: report_to_json(disks, written),
        lambda out: show_report(disks, written, out),
    )
    return 0


def _read(path: Path, reach: Reach, ui: Ui) -> ReportedDisk:
    from zeroseal.images.detect import opened_image
    from zeroseal.reports.disk_report import ReportedDisk
    from zeroseal.sealing.check import check_image
    from zeroseal.sealing.disk_map import read_disk_map
    from zeroseal.sealing.inspection import Inspection
    from zeroseal.sealing.policy import DEFAULT_POLICY, resolve
    from zeroseal.sealing.verdict import Level

    verdict = check_image(path, Level.FULL, ui.progress, policy=resolve(reach=reach)).verdict.value
    with opened_image(path, reach=reach) as image:
        inspection = Inspection.read(image)
        findings = inspection.find_all(DEFAULT_POLICY, ui.progress)
        disk_map = read_disk_map(image, inspection, findings, progress=ui.progress)
    return ReportedDisk(path.name, verdict, disk_map, tuple(findings))
