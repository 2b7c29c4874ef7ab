"""One image or many on a command line: how they are named, and which files they are."""

from __future__ import annotations

import argparse
from pathlib import Path

from zeroseal.cli.parser import MANY, Parser
from zeroseal.errors import MissingError, UsageError
from zeroseal.messages import cli as messages

# formats that a seal writes where the name of the new file says so
FORMATS_BY_SUFFIX = ("raw", "qcow2", "vmdk", "vhdx", "vhd", "vdi")
_OF_MANY = ("junit", "json_lines", "on", "sarif", "metrics", "state", "since", "watch")
_SUFFIXES = (".qcow2", ".raw", ".img", ".vmdk", ".vhdx", ".vhd", ".vdi", ".ova", ".ovf")


def add_images(parser: Parser) -> None:
    """One image or many."""
    parser.add_argument(
        "images",
        type=Path,
        nargs="*",
        metavar="IMAGE",
        help="a disk image, OVA or OVF; or a folder, for all images in it",
    )


def add_many(parser: Parser) -> None:
    """How many images are handled, and in which form they are answered."""
    many = parser.group(MANY)
    many.add_argument(
        "--jobs",
        type=int,
        default=0,
        metavar="N",
        help="number of images to handle at the same time (default: one for each processor)",
    )
    add_on(parser)
    many.add_argument(
        "--stop-at-first",
        action="store_true",
        help="after the first answer that is no, or missing, start no further image",
    )
    add_answer_forms(parser)


def add_on(parser: Parser) -> None:
    """Where the work is done."""
    parser.group(MANY).add_argument(
        "--on",
        default="",
        metavar="SCHEDULER",
        help=(
            "run on a Dask cluster: the address of its scheduler (tcp://HOST:8786) or its file; "
            "all workers must see the images under the same path"
        ),
    )


def add_answer_forms(parser: Parser) -> None:
    """In which form many answers are given."""
    many = parser.group(MANY)
    many.add_argument(
        "--json-lines",
        action="store_true",
        help="print each answer as a line of JSON as soon as it is ready",
    )
    many.add_argument(
        "--junit", type=Path, metavar="FILE", help="also write the answers to a JUnit XML file"
    )


def add_records_of_runs(parser: Parser) -> None:
    """What is kept of a run over many images, and what the next one need not look at."""
    many = parser.group(MANY)
    many.add_argument(
        "--sarif", type=Path, metavar="FILE", help="also write the answers to a SARIF 2.1.0 file"
    )
    many.add_argument(
        "--metrics",
        type=Path,
        metavar="FILE",
        help="also write metrics for Prometheus' textfile collector; replaces FILE at once",
    )
    many.add_argument(
        "--state",
        type=Path,
        metavar="FILE",
        help="keep the answers in FILE, for --changed of the next run",
    )
    many.add_argument(
        "--changed",
        action="store_true",
        help=(
            "with --state: look only at images whose size, time, sampled bytes or record "
            "changed; a sample proves nothing"
        ),
    )
    many.add_argument(
        "--since",
        metavar="TIME",
        help="only images sealed since then by their record, and those without a record",
    )
    many.add_argument(
        "--watch",
        action="store_true",
        help="go on: look again at what changes or appears, until interrupted",
    )
    many.add_argument(
        "--every",
        type=float,
        default=30.0,
        metavar="SECONDS",
        help="with --watch: how often to look for changes (default: 30)",
    )
    many.add_argument(
        "--again-after",
        type=float,
        default=24.0,
        metavar="HOURS",
        help="with --watch: check an image again after so long, though nothing changed",
    )


def find_images(given: list[Path]) -> list[Path]:
    """The images that were named, those of folders in the order of their names.

    Raises:
        UsageError: none was named, or one twice.
        MissingError: a folder has none.
    """
    found: list[Path] = []
    for path in given:
        if not path.is_dir():
            found.append(path)
            continue
        inside = [item for item in sorted(path.iterdir()) if _is_image(item)]
        if not inside:
            raise MissingError(
                messages.FOLDER_HAS_NO_DISK_IMAGE.format(path=path, suffixes=", ".join(_SUFFIXES))
            )
        found += inside
    if not found:
        raise UsageError(messages.IMAGE_REQUIRED)
    seen: set[Path] = set()
    for path in found:
        if path.resolve() in seen:
            raise UsageError(messages.GIVEN_TWICE.format(path=path))
        seen.add(path.resolve())
    return found


def are_many(args: argparse.Namespace) -> bool:
    """Whether a command line means more than one image, or wants answers as of many."""
    named_folder = any(path.is_dir() for path in args.images)
    asked = any(getattr(args, name, None) for name in _OF_MANY)
    return named_folder or len(args.images) > 1 or asked


def get_image(args: argparse.Namespace) -> Path:
    """The only image of a command line."""
    return find_images(args.images)[0]


def output_in(folder: Path, image: Path, format_name: str) -> Path:
    """The new file of an image in a folder: its own name, with the suffix of its new format."""
    return folder / (f"{image.stem}.{format_name}" if format_name else image.name)


def format_of_name(path: Path) -> str:
    """The format that a new file's suffix names; "" where it names none."""
    name = path.suffix.lower().removeprefix(".")
    return name if name in FORMATS_BY_SUFFIX and not path.is_block_device() else ""


def _is_image(path: Path) -> bool:
    return path.is_file() and path.suffix.lower() in _SUFFIXES and not path.name.startswith(".")
