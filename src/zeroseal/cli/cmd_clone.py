"""``zeroseal clone``: machines from a template."""

from __future__ import annotations

import argparse
import os
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zeroseal.cli.options import (
    Subparsers,
    add_common,
    add_reach,
    add_secrets,
    add_shelf,
    reach_from,
)
from zeroseal.cli.ui import Ui
from zeroseal.errors import UsageError

if TYPE_CHECKING:
    from zeroseal.machines.sheet.secret_values import Secrets
    from zeroseal.templates.clone_sheet.load import CloneWish

_DEFINITIONS = ("domain", "ovf", "qemu")


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "clone",
        help="make machines from a sealed template",
        description="Makes one machine a name, or a row of a clone sheet: a full copy of the "
        "template's disk, or with --linked an overlay that hangs on it; a machine file with a new "
        "MAC and UUID; and who it is, on a seed medium or with --into-disk in its disk. All of "
        "them, or none.",
    )
    parser.add_argument(
        "template",
        nargs="?",
        default="",
        metavar="TEMPLATE",
        help="a sealed image, or NAME[@VERSION] on the shelf (default: as the sheet says)",
    )
    who = parser.add_argument_group("who")
    who.add_argument(
        "--name", action="append", default=[], metavar="NAME", help="a clone; may be repeated"
    )
    who.add_argument(
        "--sheet", type=Path, metavar="SHEET", help="a clone sheet, TOML or CSV: a row a machine"
    )
    who.add_argument("--domain", default="", metavar="DOMAIN", help="domain of the host names")
    who.add_argument("--user", default="admin", metavar="NAME", help="an account (default: admin)")
    who.add_argument(
        "--public-key", type=Path, metavar="FILE", help="the SSH public key that opens it"
    )
    who.add_argument(
        "--password",
        dest="password_name",
        default="",
        metavar="SECRET",
        help="the name of a secret that is the account's password; see --secrets",
    )
    who.add_argument(
        "--into-disk",
        action="store_true",
        help="write it into the disk, for guests that read no seed medium",
    )
    who.add_argument(
        "--reissue-sid",
        action="store_true",
        help="Windows: give each clone a security identifier of its own",
    )
    add_secrets(who)
    disk = parser.add_argument_group("disk")
    disk.add_argument(
        "--linked", action="store_true", help="overlays: small, but lost with the template"
    )
    disk.add_argument(
        "--absolute", action="store_true", help="linked: name the template by its absolute path"
    )
    disk.add_argument(
        "--disk-size", default="", metavar="SIZE", help="final size, as 40G (default: as expected "
        "by the template)"
    )  # fmt: skip
    disk.add_argument(
        "--grow-last", action="store_true", help="give new room to the last partition right away"
    )
    disk.add_argument("--format", default="", metavar="FORMAT", help="of full clones' disks")
    where = parser.add_argument_group("where")
    where.add_argument(
        "--to", type=Path, required=True, metavar="DIR", help="the yard to put them in"
    )
    where.add_argument("--host", choices=("qemu", "simulated"), default="simulated")
    where.add_argument(
        "--definition",
        action="append",
        default=[],
        choices=_DEFINITIONS,
        help="write this beside each disk too: libvirt's domain, OVF, or a script for QEMU",
    )
    where.add_argument(
        "--table", action="store_true", help="print only name, MAC and address, for a DHCP server"
    )
    where.add_argument(
        "--make-full",
        action="append",
        default=[],
        metavar="CLONE",
        help="instead: make a linked clone of DIR whole, so that it needs its template no more",
    )
    add_reach(parser)
    add_shelf(parser)
    add_common(parser)


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    from zeroseal.cli.show_clones import show_clones, show_table
    from zeroseal.machines.sheet.secret_values import read_secrets
    from zeroseal.machines.yard import Yard
    from zeroseal.reports.shelf_as_json import clones_to_json
    from zeroseal.templates.clone import CloneBatch, CloneSource, make_clones
    from zeroseal.templates.shelf.shelf import Shelf

    if args.make_full:
        return _make_full(args, ui)
    shelf, yard = Shelf(args.shelf), Yard(args.to)
    title, wishes = _wishes(args, read_secrets(args.secrets, os.environ))
    if not title:
        raise UsageError("name the template: an image, or NAME[@VERSION] on the shelf")
    batch = CloneBatch(
        source=CloneSource.find(title, shelf, reach_from(args)),
        wishes=wishes,
        now=int(time.time()),
        format_name=args.format,
        absolute=args.absolute,
        grow_last=args.grow_last,
        host=args.host,
        forms=tuple(dict.fromkeys(args.definition)),
        reissue_sid=args.reissue_sid,
    )
    clones = make_clones(batch, yard, shelf, ui.progress)
    draw = show_table if args.table else show_clones
    ui.show(lambda: clones_to_json(clones), lambda out: draw(clones, args.to, out))
    return 0


def _wishes(args: argparse.Namespace, secrets: Secrets) -> tuple[str, tuple[CloneWish, ...]]:
    """(the template, a wish a clone), from a sheet or from the command line's words."""
    from zeroseal.templates.clone_sheet.load import load_clone_sheet, row_of, wish_of

    if args.sheet:
        given = [name for name in ("name", "public_key", "domain") if getattr(args, name)]
        if given:
            word = given[0].replace("_", "-")
            raise UsageError(f"--{word} stands in the clone sheet: leave it out, or the sheet")
        common = {
            key: value
            for key, value in (
                ("linked", args.linked),
                ("into_disk", args.into_disk),
                ("disk_size", args.disk_size),
            )
            if value
        }
        loaded = load_clone_sheet(args.sheet, secrets, common)
        return args.template or loaded.template, loaded.wishes
    settings: dict[str, Any] = {
        "domain": args.domain,
        "linked": args.linked,
        "into_disk": args.into_disk,
        "disk_size": args.disk_size,
    }
    user: dict[str, Any] = {"name": args.user}
    if args.public_key:
        user["public_key_files"] = [str(args.public_key.absolute())]
    if args.password_name:
        user["password"] = f"${{secret:{args.password_name}}}"
    settings["users"] = [user] if args.public_key or args.password_name else []
    filled = secrets.fill(settings, "--password")
    wishes = [wish_of(row_of(filled | {"name": name}), Path()) for name in args.name]
    row_of(filled | {"name": "x", "users": [user | {"public_key_files": []}]})
    return args.template, tuple(wishes)


def _make_full(args: argparse.Namespace, ui: Ui) -> int:
    from dataclasses import replace

    from zeroseal.cli import render
    from zeroseal.machines.definition import write_definition
    from zeroseal.machines.yard import Yard
    from zeroseal.reports.machines_as_json import yard_to_json
    from zeroseal.templates.clone_disk import flatten

    if args.template or args.name or args.sheet:
        raise UsageError("--make-full makes no new clones: leave TEMPLATE, --name and --sheet out")
    yard = Yard(args.to)
    machines = [yard.get(name) for name in args.make_full]
    for machine in machines:
        yard.check_stopped(machine)
    for machine in machines:
        with yard.claimed(machine.definition.name):
            flatten(machine.disk, ui.progress)
            write_definition(machine.folder, replace(machine.definition, linked=False))
    done = [yard.get(name) for name in args.make_full]
    text = f" {', '.join(args.make_full)}: nothing is needed of the template any more."
    ui.show(lambda: yard_to_json(done), lambda out: render.headline(out, "Whole", "bold", text))
    return 0
