"""``zeroseal shelf``: the library of sealed templates."""

from __future__ import annotations

import argparse
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zeroseal.cli.image_arguments import add_on
from zeroseal.cli.options import (
    add_compression,
    add_reach,
    add_rules,
    add_shelf,
    add_trusted,
)
from zeroseal.cli.parser import Parser, Subparsers
from zeroseal.cli.ui import Ui
from zeroseal.errors import UsageError
from zeroseal.messages import cli as messages
from zeroseal.sentences import capitalised, counted

if TYPE_CHECKING:
    from zeroseal.templates.shelf.entry import Template
    from zeroseal.templates.shelf.shelf import Shelf

_TEMPLATE = "NAME[@VERSION]"
_BUNDLE = "bundle"
_AS_JSON = ("--json", "--quiet")


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's arguments."""
    parser = subparsers.add_parser(
        "shelf",
        usage="zeroseal shelf ACTION [OPTION ...]",
        help="keep, find, compare and distribute sealed templates",
        description=(
            "The shelf is the folder of sealed templates, by name and version. It accepts "
            "only images with the verdict SEALED, as read-only copies. NAME without a version "
            "means the current version: the last one added that is not retired."
        ),
        examples=(
            ("shelf add sealed.qcow2 --name gangway --version 2026-12", "add a sealed disk"),
            ("shelf list", "what is on the shelf"),
            ("shelf diff gangway@2026-11 gangway@2026-12", "what changed between two versions"),
            ("shelf verify", "is every byte as it was sealed"),
            ("shelf sync shelf /mnt/other-site/shelf", "copy what another site lacks"),
            ("shelf page --to /srv/www/shelf", "the same to look at in a browser"),
        ),
    )
    actions = parser.add_actions()
    _add_adding(actions)
    _add_looking(actions)
    _add_changing(actions)
    _add_handing_on(actions)


def _action(actions: Any, name: str, text: str, *, one: str = "") -> Parser:
    action: Parser = actions.add_parser(name, help=text, description=f"{capitalised(text)}.")
    if one:
        action.add_argument("template", metavar=one, help="a template of the shelf")
    add_shelf(action)
    action.add_general()
    return action


def _add_adding(actions: Any) -> None:
    add = _action(actions, "add", "add a sealed image")
    add.add_argument("image", type=Path, metavar="IMAGE", help="a sealed disk image")
    add.add_argument("--name", required=True, metavar="NAME", help="name of the template")
    add.add_argument("--version", required=True, metavar="VERSION", help="such as 2026-11")
    add.add_argument("--notes", default="", metavar="TEXT", help="a note for people")
    add.add_argument("--tag", action="append", default=[], metavar="TAG", help="may be repeated")
    add.add_argument(
        "--machine",
        type=Path,
        metavar="FILE",
        help=(
            "the machine definition, whose hardware clones get: libvirt domain XML, OVF or "
            "machine.toml (default: from the seal record)"
        ),
    )
    add.add_argument(
        "--disk-size", default="", metavar="SIZE", help="disk size of clones, such as 40G"
    )
    add.add_argument("--move", action="store_true", help="move the file instead of copying it")
    add_trusted(add)
    add_reach(add)
    add_rules(add)


def _add_looking(actions: Any) -> None:
    listing = _action(actions, "list", "list the templates")
    listing.add_argument(
        "--name", default="", metavar="NAME", help="only the versions of this template"
    )
    listing.add_argument("--state", choices=("current", "previous", "retired"), help="only these")
    listing.add_argument(
        "--tag", action="append", default=[], metavar="TAG", help="only templates with this tag"
    )
    listing.add_argument(
        "--sort", choices=("name", "date", "size"), default="name", help="(default: name)"
    )
    _action(actions, "show", "show one template and the clones that depend on it", one=_TEMPLATE)
    verify = _action(actions, "verify", "read every byte and compare it with the seal records")
    verify.add_argument("templates", nargs="*", metavar=_TEMPLATE, help="(default: all)")
    add_on(verify)
    add_trusted(verify)
    page = _action(actions, "page", "write the shelf as static HTML pages")
    page.add_argument(
        "--to",
        type=Path,
        required=True,
        metavar="DIR",
        help="a new folder, or one that this wrote before; open its index.html",
    )
    add_trusted(page)
    diff = _action(actions, "diff", "report the differences between two templates", one="BEFORE")
    diff.add_argument("other", metavar="AFTER", help="a template of the shelf")
    diff.add_argument("--all", action="store_true", help="list every file")


def _add_changing(actions: Any) -> None:
    note = _action(actions, "note", "set the note of a template", one=_TEMPLATE)
    note.add_argument("notes", metavar="TEXT", help="a note for people; empty removes it")
    tag = _action(actions, "tag", "add or remove tags of a template", one=_TEMPLATE)
    tag.add_argument("tags", nargs="+", metavar="TAG", help="a tag to add; with --drop, to remove")
    tag.add_argument("--drop", action="store_true", help="remove these tags")
    rename = _action(actions, "rename", "rename all versions of a template")
    rename.add_argument("name", metavar="NAME", help="its name now")
    rename.add_argument("new_name", metavar="NEW_NAME", help="its new name")
    for name, text in (
        ("retire", "retire a template: it is kept but no longer cloned"),
        ("remove", "delete a template permanently"),
    ):
        action = _action(actions, name, text, one="NAME@VERSION")
        action.add_argument(
            "--despite",
            action="append",
            default=[],
            metavar="CLONE",
            help="a linked clone that depends on it and will be lost; name each one",
        )
        if name == "retire":
            action.add_argument("--undo", action="store_true", help="bring it back into use")
        else:
            action.add_argument("--yes", action="store_true", help="do not ask for confirmation")
    forget = _action(
        actions, "forget", "remove the record of a clone that was deleted or is stored elsewhere"
    )
    forget.add_argument("clone", metavar="CLONE", help="its name or UUID")
    _action(actions, "rebuild", "build the shelf's index again from the files on the shelf")


def _add_handing_on(actions: Any) -> None:
    export = _action(actions, "export", "write a template into one file", one=_TEMPLATE)
    export.add_argument(
        "-o", dest="output", type=Path, required=True, metavar="OUT", help="the new file"
    )
    export.add_argument(
        "--format",
        default=_BUNDLE,
        metavar="FORMAT",
        help=(
            "bundle: one file with entry, record and disk, for another shelf (default); ova "
            "or a disk format: the record is written beside it"
        ),
    )
    add_compression(export)
    sync = actions.add_parser(
        "sync",
        help="copy what is missing to another shelf",
        description=(
            "Copies the templates that another shelf does not have, proves each copy by its seal "
            "record, and lets notes, tags and retirements follow. Nothing there is overwritten or "
            "removed: two disks of one name and version are a conflict, which is reported. After "
            "an interruption, the same command continues where it ended."
        ),
    )
    sync.add_argument("source", type=Path, metavar="FROM", help="a shelf; it is only read")
    sync.add_argument("target", type=Path, metavar="TO", help="the other shelf, which may be new")
    sync.add_argument("--dry-run", action="store_true", help="report what would be done")
    add_trusted(sync)
    sync.add_general()
    bring = _action(actions, "import", "add a file that export wrote")
    bring.add_argument("file", type=Path, metavar="FILE", help="a bundle, or a sealed disk")
    bring.add_argument(
        "--as",
        dest="title",
        default="",
        metavar="NAME@VERSION",
        help="its name on this shelf (default: as in the bundle)",
    )
    add_trusted(bring)
    add_rules(bring)


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    from zeroseal.templates.shelf.shelf import Shelf

    if args.action == "sync":
        return _sync(args, ui)
    shelf = Shelf(args.shelf)
    match args.action:
        case "list":
            return _list(args, ui, shelf)
        case "show":
            return _show(ui, shelf, args.template)
        case "verify":
            return _verify(args, ui, shelf)
        case "diff":
            return _diff(args, ui, shelf)
        case "page":
            return _page(args, ui, shelf)
        case "add" | "import":
            return _take_in(args, ui, shelf)
        case "export":
            return _export(args, ui, shelf)
        case "note" | "tag":
            return _change(args, ui, shelf)
        case _:
            return _let_go(args, ui, shelf)


def _list(args: argparse.Namespace, ui: Ui, shelf: Shelf) -> int:
    from zeroseal.cli.show_shelf import show_shelf
    from zeroseal.reports.shelf_as_json import shelf_to_json

    templates = [
        item
        for item in shelf.templates()
        if (not args.name or item.entry.name == args.name)
        and (not args.state or item.state == args.state)
        and set(args.tag) <= set(item.entry.tags)
    ]
    if args.sort == "date":
        templates.sort(key=lambda item: -item.entry.sealed_at)
    elif args.sort == "size":
        templates.sort(key=lambda item: -item.disk_usage)
    problems = shelf.problems()
    is_part = bool(args.name or args.state or args.tag)
    ui.show(
        lambda: shelf_to_json(templates, problems),
        lambda out: show_shelf(templates, problems, args.shelf, out, is_part=is_part),
    )
    return 1 if problems else 0


def _show(ui: Ui, shelf: Shelf, wanted: str) -> int:
    from zeroseal.cli.show_shelf import show_template
    from zeroseal.reports.shelf_as_json import template_to_json
    from zeroseal.sealing.record import find_record
    from zeroseal.templates.shelf.clone_links import clones_of

    template = shelf.get(wanted)
    clones, record = clones_of(template), find_record(template.disk)
    ui.show(
        lambda: template_to_json(template, clones, record),
        lambda out: show_template(template, clones, record, shelf.folder, out),
    )
    return 0


def _verify(args: argparse.Namespace, ui: Ui, shelf: Shelf) -> int:
    from zeroseal.cli.options import trusted_from
    from zeroseal.cli.show_shelf import show_verified
    from zeroseal.reports.shelf_as_json import verified_to_json
    from zeroseal.templates.shelf.verify import verify_templates

    wanted = [shelf.get(name) for name in args.templates] or shelf.templates()
    if args.on:
        return _verify_on_cluster(wanted, args, ui)
    results = verify_templates(wanted, trusted_from(args), ui.progress)
    problems = [] if args.templates else shelf.problems()
    ui.show(
        lambda: verified_to_json(results, problems),
        lambda out: show_verified(results, problems, shelf.folder, out),
    )
    return 1 if problems or any(item.problem for item in results) else 0


def _verify_on_cluster(wanted: list[Template], args: argparse.Namespace, ui: Ui) -> int:
    from zeroseal.cli.many import Work, run_each
    from zeroseal.fleet.answer import Subject

    folder = args.shelf.absolute()
    trusted = [f"--trusted={path.absolute()}" for path in args.trusted]
    subjects = tuple(
        Subject(
            str(item.disk.absolute()),
            item.entry.title,
            ("shelf", "verify", item.entry.title, "--shelf", str(folder), *_AS_JSON, *trusted),
        )
        for item in wanted
    )
    for name in ("junit", "json_lines"):
        setattr(args, name, None)
    return run_each(Work("shelf verify", "template", subjects, 1), args, ui)


def _sync(args: argparse.Namespace, ui: Ui) -> int:
    from zeroseal.cli.options import trusted_from
    from zeroseal.cli.show_shelf import show_synced
    from zeroseal.errors import MissingError
    from zeroseal.reports.shelf_as_json import synced_to_json
    from zeroseal.templates.shelf.shelf import Shelf
    from zeroseal.templates.shelf.sync import Move, plan_sync, sync_shelves

    if not args.source.is_dir():
        raise MissingError(messages.NO_SHELF_THERE.format(folder=args.source))
    source, target = Shelf(args.source), Shelf(args.target)
    if args.dry_run:
        synced = plan_sync(source, target)
    else:
        synced = sync_shelves(source, target, trusted_from(args), ui.progress)
    problems = source.problems()
    ui.show(
        lambda: synced_to_json(synced, problems, dry_run=args.dry_run),
        lambda out: show_synced(synced, problems, args.target, out, dry_run=args.dry_run),
    )
    return 1 if problems or any(item.move is Move.CONFLICT for item in synced) else 0


def _diff(args: argparse.Namespace, ui: Ui, shelf: Shelf) -> int:
    from zeroseal.cli.show_shelf import show_difference
    from zeroseal.reports.shelf_as_json import difference_to_json
    from zeroseal.templates.shelf.difference import compare_templates

    before, after = shelf.get(args.template), shelf.get(args.other)
    found = compare_templates(before, after, ui.progress)
    ui.show(
        lambda: difference_to_json(before, after, found),
        lambda out: show_difference(before, after, found, out, every_file=args.all),
    )
    return 0 if found.is_empty else 1


def _page(args: argparse.Namespace, ui: Ui, shelf: Shelf) -> int:
    from zeroseal.cli.options import trusted_from
    from zeroseal.reports.shelf_page import write_pages

    written = write_pages(shelf, args.to, int(time.time()), trusted_from(args))
    index = args.to / "index.html"
    text = f"{counted(written.templates, 'template')}: open {index}."
    if written.bills < written.templates:
        lack = counted(written.templates - written.bills, "template")
        text += (
            f" {lack} without a bill of materials: it needs pip install 'zeroseal[bom]' and the "
            "list of contents that shelf add keeps."
        )
    return _done(ui, text, [str(index)])


def _take_in(args: argparse.Namespace, ui: Ui, shelf: Shelf) -> int:
    from zeroseal.blocks.sizes import parse_size
    from zeroseal.cli.options import policy_of_site, trusted_from
    from zeroseal.templates.shelf.bundle import is_bundle, unpack_template
    from zeroseal.templates.shelf.intake import NewTemplate, take_in

    now, policy, trusted = int(time.time()), policy_of_site(args), trusted_from(args)
    if args.action == "import" and is_bundle(args.file):
        template = unpack_template(args.file, shelf, now, args.title, policy, trusted, ui.progress)
        return _show(ui, shelf, template.entry.title)
    if args.action == "import":
        name, at, version = args.title.partition("@")
        if not at:
            raise UsageError(messages.NOT_A_BUNDLE.format(file=args.file))
        new = NewTemplate(name, version, policy=policy, trusted=trusted)
        return _show(ui, shelf, take_in(shelf, args.file, new, now, ui.progress).entry.title)
    definition = None
    if args.machine:
        from zeroseal.machines.definition_files import read_definition_file

        definition = read_definition_file(args.machine)
    new = NewTemplate(
        name=args.name,
        version=args.version,
        notes=args.notes,
        tags=tuple(args.tag),
        definition=definition,
        disk_bytes=parse_size(args.disk_size) if args.disk_size else 0,
        move=args.move,
        policy=policy,
        trusted=trusted,
    )
    return _show(ui, shelf, take_in(shelf, args.image, new, now, ui.progress).entry.title)


def _export(args: argparse.Namespace, ui: Ui, shelf: Shelf) -> int:
    from zeroseal.images.create import FORMATS, ContainerSpec
    from zeroseal.sealing.export import ExportRequest, export_image
    from zeroseal.templates.shelf.bundle import pack_template

    if args.format not in (_BUNDLE, *FORMATS):
        raise UsageError(
            messages.FORMAT_NOT_KNOWN.format(
                format=args.format, formats=", ".join((_BUNDLE, *FORMATS))
            )
        )
    template = shelf.get(args.template)
    if args.format == _BUNDLE:
        pack_template(template, args.output, args.compress, ui.progress)
    else:
        container = ContainerSpec(args.format, compress=args.compress)
        if args.format == "ova":
            from zeroseal.images.ova.descriptor import Appliance

            hardware = template.entry.hardware
            container = ContainerSpec(
                "ova",
                appliance=Appliance(
                    name=template.entry.name,
                    cpus=hardware.cpus,
                    memory_bytes=hardware.memory_mib << 20,
                    uefi=hardware.firmware == "uefi",
                    moment=template.entry.sealed_at,
                ),
            )
        export_image(template.disk, ExportRequest(args.output, container), ui.progress)
    return _done(ui, f"{template.entry.title} was written to {args.output}.", [str(args.output)])


def _change(args: argparse.Namespace, ui: Ui, shelf: Shelf) -> int:
    template = shelf.get(args.template)
    if args.action == "note":
        shelf.change(template, notes=args.notes)
    else:
        kept = [tag for tag in template.entry.tags if not args.drop or tag not in args.tags]
        shelf.change(template, tags=kept if args.drop else [*kept, *args.tags])
    return _show(ui, shelf, template.entry.title)


def _let_go(args: argparse.Namespace, ui: Ui, shelf: Shelf) -> int:
    from zeroseal.templates.shelf.clone_links import find_noted, forget_clone

    match args.action:
        case "rename":
            found = shelf.rename(args.name, args.new_name)
            names = [item.entry.title for item in found]
            return _done(ui, f"{args.name} was renamed to {', '.join(names)}.", names)
        case "forget":
            template, clone = find_noted(shelf.templates(), args.clone)
            forget_clone(template, clone.uuid)
            text = (
                f"The record of {clone.name} was removed; {template.entry.title} no "
                "longer waits for it."
            )
            return _done(ui, text, [clone.name])
        case "rebuild":
            count = counted(len(shelf.index.rebuild()), "entry", "entries")
            return _done(ui, f"The shelf's index was built again; it has {count}.", [])
    if "@" not in args.template:
        raise UsageError(messages.VERSION_REQUIRED.format(template=args.template))
    template = shelf.get(args.template)
    title = template.entry.title
    if args.action == "retire":
        if args.undo:
            shelf.change(template, retired_at=0)
        else:
            shelf.retire(template, args.despite, int(time.time()))
        return _show(ui, shelf, title)
    ui.ask(args.yes, f"The template {title} will be deleted permanently.", title)
    shelf.remove(template, args.despite)
    return _done(ui, f"{title} was removed.", [title])


def _done(ui: Ui, text: str, names: list[str]) -> int:
    from zeroseal.cli import render
    from zeroseal.reports.shelf_as_json import done_to_json

    ui.show(
        lambda: done_to_json(text, names),
        lambda out: render.headline(out, "Done.", "bold", f" {text}"),
    )
    return 0
