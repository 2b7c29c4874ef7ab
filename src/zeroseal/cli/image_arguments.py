"""One image or many on a command line: how they are named, and which files they are."""

from __future__ import annotations

import argparse
from pathlib import Path

from zeroseal.cli.parser import MANY, Parser
from zeroseal.errors import MissingError, UsageError
from zeroseal.messages import cli as messages

# formats that a seal writes where the name of the new file says so
FORMATS_BY_SUFFIX = ("raw", "qcow2", "vmdk", "vhdx", "vhd", "vdi")
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
    many.add_argument(
        "--stop-at-first",
        action="store_true",
        help="after the first answer that is no, or missing, start no further image",
    )
    add_answer_forms(parser)


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
    for number, path in enumerate(found):
        if path.resolve() in [other.resolve() for other in found[:number]]:
            raise UsageError(messages.GIVEN_TWICE.format(path=path))
    return found


def are_many(args: argparse.Namespace) -> bool:
    """Whether a command line means more than one image, or wants answers as of many."""
    named_folder = any(path.is_dir() for path in args.images)
    return named_folder or len(args.images) > 1 or bool(args.junit) or args.json_lines


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
