"""``zeroseal shelf``: the library of sealed templates."""

from __future__ import annotations

import argparse
import time
from pathlib import Path

from zeroseal.cli.options import Subparsers, add_common, add_shelf
from zeroseal.cli.ui import Ui


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's words."""
    parser = subparsers.add_parser(
        "shelf",
        help="add, list and show sealed templates",
        description="The shelf is the folder of sealed templates, by name and version. It takes "
        "only an image that checks SEALED, as a read-only copy.",
    )
    actions = parser.add_subparsers(dest="action", metavar="ACTION", required=True)
    add = actions.add_parser(
        "add", help="take a sealed image in", description="Take a copy of a sealed image in."
    )
    add.add_argument("image", type=Path, metavar="IMAGE")
    add.add_argument("--name", required=True, metavar="NAME", help="what it is")
    add.add_argument("--version", required=True, metavar="VERSION", help="such as 2026-11")
    add.add_argument("--notes", default="", metavar="TEXT", help="a line for people")
    listing = actions.add_parser(
        "list", help="list the templates", description="List the templates."
    )
    show = actions.add_parser("show", help="show one template", description="Show one template.")
    show.add_argument("template", metavar="NAME[@VERSION]", help="the last added without VERSION")
    for action in (add, listing, show):
        add_shelf(action)
        add_common(action)


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    from zeroseal.cli.show_machines import show_shelf, show_template
    from zeroseal.reports.machines_as_json import shelf_to_json, template_to_json
    from zeroseal.templates.shelf import Shelf

    shelf = Shelf(args.shelf)
    if args.action == "list":
        templates = shelf.templates()
        ui.show(
            lambda: shelf_to_json(templates), lambda out: show_shelf(templates, args.shelf, out)
        )
        return 0
    if args.action == "add":
        now = int(time.time())
        template = shelf.add(args.image, args.name, args.version, args.notes, now, ui.progress)
    else:
        template = shelf.get(args.template)
    ui.show(
        lambda: template_to_json(template), lambda out: show_template(template, args.shelf, out)
    )
    return 0
