"""``zeroseal report``: a disk, before and after its seal, as a picture or a page."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from zeroseal.cli.options import add_reach, reach_from
from zeroseal.cli.parser import Subparsers
from zeroseal.cli.pictures import add_pictures, write_pictures
from zeroseal.cli.ui import Ui

if TYPE_CHECKING:
    from zeroseal.images.reach import Reach
    from zeroseal.reports.disk_report import ReportedDisk


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "report",
        usage="zeroseal report IMAGE [--html FILE] [--svg FILE] [--png FILE] [OPTION ...]",
        help="draw what a disk holds, before and after its seal",
        description=(
            "Draws the disk as a strip (data that stays, content where none belongs, empty "
            "areas) and counts what the catalogue finds, by family; with --against, the "
            "original is drawn above it. The strips are always shown in the terminal; the options "
            "write the whole report into files."
        ),
        examples=(
            ("report gate.qcow2", "in the terminal"),
            (
                "report sealed.qcow2 --against gate.qcow2 --html report.html",
                "before and after, on one page",
            ),
        ),
    )
    parser.add_argument("image", type=Path, metavar="IMAGE", help="a disk image")
    parser.add_argument("--against", type=Path, metavar="ORIGINAL", help="the disk before its seal")
    add_pictures(parser, "the report")
    add_reach(parser)
    parser.add_general()


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    from zeroseal.cli.show_report import show_report
    from zeroseal.reports.disk_report import build_html, draw_report, report_to_json

    disks = [_read(path, reach_from(args), ui) for path in (args.against, args.image) if path]
    written = write_pictures(args, lambda: draw_report(disks), lambda: build_html(disks))
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
