"""``zeroseal clone``: machines from a template."""

from __future__ import annotations

import argparse
import os
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zeroseal.cli.options import (
    add_host,
    add_reach,
    add_secrets,
    add_shelf,
    reach_from,
)
from zeroseal.cli.parser import Subparsers
from zeroseal.cli.ui import Ui
from zeroseal.errors import UsageError
from zeroseal.messages import cli as messages

if TYPE_CHECKING:
    from zeroseal.machines.sheet.secret_values import Secrets
    from zeroseal.templates.clone_sheet.load import CloneWish

_DEFINITIONS = ("domain", "ovf", "qemu")


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "clone",
        usage="zeroseal clone TEMPLATE (--name NAME ... | --sheet SHEET) [OPTION ...]",
        help="create machines from a sealed template",
        description=(
            "Creates one machine for each name, or for each row of a clone sheet: a full copy "
            "of the template's disk, or with --linked an overlay that depends on it; a "
            "machine file with a new MAC address and UUID; and its name and settings, on a "
            "seed medium or with --into-disk in its disk. Either all machines are created or "
            "none."
        ),
        examples=(
            (
                "clone gangway --name north --name south --to yard",
                "two full clones of the current version",
            ),
            (
                "clone gangway --sheet gates.toml --to yard --linked",
                "small clones of all rows of a sheet",
            ),
            ("clone --make-full yard/north --to yard", "make a clone independent of its template"),
        ),
    )
    parser.add_argument(
        "template",
        nargs="?",
        default="",
        metavar="TEMPLATE",
        help="a sealed image, or NAME[@VERSION] on the shelf (default: as the sheet says)",
    )
    who = parser.group("name and settings")
    who.add_argument(
        "--name", action="append", default=[], metavar="NAME", help="a clone; may be repeated"
    )
    who.add_argument(
        "--sheet",
        type=Path,
        metavar="SHEET",
        help="a clone sheet, TOML or CSV: one row for each machine",
    )
    who.add_argument("--domain", default="", metavar="DOMAIN", help="domain of the host names")
    who.add_argument("--user", default="admin", metavar="NAME", help="an account (default: admin)")
    who.add_argument(
        "--public-key", type=Path, metavar="FILE", help="the SSH public key for that account"
    )
    who.add_argument(
        "--password",
        dest="password_name",
        default="",
        metavar="SECRET",
        help="the name of a secret that holds the account's password; see --secrets",
    )
    who.add_argument(
        "--into-disk",
        action="store_true",
        help="write name and settings into the disk, for guests that read no seed medium",
    )
    who.add_argument(
        "--reissue-sid",
        action="store_true",
        help="Windows: give each clone its own security identifier",
    )
    add_secrets(parser, who.title)
    disk = parser.group("disk")
    disk.add_argument(
        "--linked",
        action="store_true",
        help="create overlays: small, but they depend on the template",
    )
    disk.add_argument(
        "--absolute", action="store_true", help="linked: name the template by its absolute path"
    )
    disk.add_argument(
        "--disk-size",
        default="",
        metavar="SIZE",
        help="disk size, such as 40G (default: set by the template)",
    )
    disk.add_argument(
        "--grow-last", action="store_true", help="extend the last partition to the end of the disk"
    )
    disk.add_argument(
        "--grow-file-system",
        action="store_true",
        help="extend the root file system too (ext, XFS, btrfs), and the logical volume it is on",
    )
    disk.add_argument(
        "--move-swap",
        action="store_true",
        help="move swap from behind the root partition to the end of the larger disk",
    )
    disk.add_argument("--format", default="", metavar="FORMAT", help="disk format of full clones")
    disk.add_argument(
        "--new-volume-ids",
        action="store_true",
        help=(
            "give partitions and volumes new UUIDs, and change every reference to them, so that "
            "the disks of two clones can be attached to one machine"
        ),
    )
    disk.add_argument(
        "--volume-group",
        default="",
        metavar="NAME",
        help=(
            "with --new-volume-ids: also another name of the LVM volume group; {name} stands for "
            "the clone's own"
        ),
    )
    where = parser.group("yard and host")
    where.add_argument(
        "--to",
        dest="yard",
        type=Path,
        metavar="DIR",
        help="the yard for the new machines (default: as configured, else yard)",
    )
    where.add_argument(
        "--reserved",
        type=Path,
        action="append",
        default=[],
        metavar="FILE",
        help=(
            "give no address that this file names: a host table, a DHCP server\u2019s "
            "reservations, another clone sheet; may be repeated"
        ),
    )
    add_host(parser, "simulated", where.title)
    where.add_argument(
        "--definition",
        action="append",
        default=[],
        choices=_DEFINITIONS,
        help="also write this beside each disk: a libvirt domain, OVF, or a script for QEMU",
    )
    where.add_argument(
        "--table",
        action="store_true",
        help="print only name, MAC address and IP address, for a DHCP server",
    )
    where.add_argument(
        "--make-full",
        action="append",
        default=[],
        metavar="CLONE",
        help=(
            "instead: turn the linked clone in DIR into a full clone, which no longer needs "
            "its template"
        ),
    )
    add_reach(parser)
    add_shelf(parser)
    parser.add_general()


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    from zeroseal.cli.show_clones import show_clones, show_table
    from zeroseal.machines.sheet.secret_values import read_secrets
    from zeroseal.machines.yard import Yard
    from zeroseal.reports.shelf_as_json import clones_to_json
    from zeroseal.templates.addresses import read_reservations
    from zeroseal.templates.clone import CloneBatch, CloneSource, make_clones
    from zeroseal.templates.shelf.shelf import Shelf

    if args.make_full:
        return _make_full(args, ui)
    shelf, yard = Shelf(args.shelf), Yard(args.yard)
    title, wishes = _wishes(args, read_secrets(args.secrets, os.environ))
    if not title:
        raise UsageError(messages.TEMPLATE_REQUIRED)
    batch = CloneBatch(
        source=CloneSource.find(title, shelf, reach_from(args)),
        wishes=wishes,
        now=int(time.time()),
        format_name=args.format,
        absolute=args.absolute,
        grow_last=args.grow_last,
        move_swap=args.move_swap,
        grow_file_system=args.grow_file_system,
        host=args.host or "simulated",
        forms=tuple(dict.fromkeys(args.definition)),
        reissue_sid=args.reissue_sid,
        reserved={
            address: owner
            for path in args.reserved
            for address, owner in read_reservations(path).items()
        },
    )
    clones = make_clones(batch, yard, shelf, ui.progress)
    draw = show_table if args.table else show_clones
    ui.show(lambda: clones_to_json(clones), lambda out: draw(clones, args.yard, out))
    return 0


def _wishes(args: argparse.Namespace, secrets: Secrets) -> tuple[str, tuple[CloneWish, ...]]:
    """(the template, a wish a clone), from a sheet or from the command line's words."""
    from zeroseal.templates.clone_sheet.load import load_clone_sheet, row_of, wish_of

    if args.sheet:
        given = [name for name in ("name", "public_key", "domain") if getattr(args, name)]
        if given:
            word = given[0].replace("_", "-")
            raise UsageError(messages.GIVEN_IN_CLONE_SHEET.format(word=word))
        common = {
            key: value
            for key, value in (
                ("linked", args.linked),
                ("into_disk", args.into_disk),
                ("new_volume_ids", args.new_volume_ids),
                ("volume_group", args.volume_group),
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
        "new_volume_ids": args.new_volume_ids,
        "volume_group": args.volume_group,
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
        raise UsageError(messages.MAKE_FULL_ALONE)
    yard = Yard(args.yard)
    machines = [yard.get(name) for name in args.make_full]
    for machine in machines:
        yard.check_stopped(machine)
    for machine in machines:
        with yard.claimed(machine.definition.name):
            flatten(machine.disk, ui.progress)
            write_definition(machine.folder, replace(machine.definition, linked=False))
    done = [yard.get(name) for name in args.make_full]
    text = f" {', '.join(args.make_full)}: it no longer depends on its template."
    ui.show(lambda: yard_to_json(done), lambda out: render.headline(out, "Whole", "bold", text))
    return 0
