"""``zeroseal clone``: machines from a template."""

from __future__ import annotations

import argparse
from pathlib import Path

from zeroseal.cli.options import Subparsers, add_common, add_shelf
from zeroseal.cli.ui import Ui
from zeroseal.errors import MissingError


def add_parser(subparsers: Subparsers) -> None:
    """Declares the command's words."""
    parser = subparsers.add_parser(
        "clone",
        help="make machines from a sealed template",
        description="Makes one machine a name: a full copy of its disk, or with --linked an "
        "overlay that hangs on it; a machine file with a new MAC and UUID; and a seed medium that "
        "gives it its host name. All of them, or none.",
    )
    parser.add_argument(
        "template", metavar="TEMPLATE", help="a sealed image, or NAME[@VERSION] on the shelf"
    )
    parser.add_argument(
        "--name", action="append", default=[], metavar="NAME", help="a clone; may be repeated"
    )
    parser.add_argument(
        "--to", type=Path, required=True, metavar="DIR", help="the folder (a yard) to put them in"
    )
    parser.add_argument(
        "--linked", action="store_true", help="overlays: small, but lost with the template"
    )
    parser.add_argument(
        "--public-key", type=Path, metavar="FILE", help="an SSH public key for the seed's account"
    )
    parser.add_argument("--user", default="admin", metavar="NAME", help="the seed's account")
    parser.add_argument("--domain", default="", metavar="DOMAIN", help="domain of the host names")
    add_shelf(parser)
    add_common(parser)


def run(args: argparse.Namespace, ui: Ui) -> int:
    """Runs the command."""
    from zeroseal.cli.show_machines import show_clones
    from zeroseal.machines.yard import Yard
    from zeroseal.reports.machines_as_json import yard_to_json
    from zeroseal.templates.clone import CloneRequest, make_clones
    from zeroseal.templates.shelf import Shelf

    disk, title = Path(args.template), args.template
    if not disk.is_file():
        template = Shelf(args.shelf).get(args.template)
        disk, title = template.disk, template.entry.title
    request = CloneRequest(
        template=disk,
        title=title,
        names=tuple(args.name),
        linked=args.linked,
        user=args.user,
        public_key=_read_key(args.public_key),
        domain=args.domain,
    )
    clones = make_clones(request, Yard(args.to), ui.progress)
    ui.show(lambda: yard_to_json(clones), lambda out: show_clones(clones, args.to, out))
    return 0


def _read_key(path: Path | None) -> str:
    if path is None:
        return ""
    try:
        return path.read_text("utf-8").strip()
    except (OSError, UnicodeDecodeError) as error:
        raise MissingError(f"cannot read the public key {path}") from error
