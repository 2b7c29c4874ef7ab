"""One image or many on a command line: how they are named, and which files they are."""

from __future__ import annotations

import argparse
from pathlib import Path

from zeroseal.errors import MissingError, UsageError

_SUFFIXES = (".qcow2", ".raw", ".img", ".vmdk", ".vhdx", ".vhd", ".vdi", ".ova", ".ovf")


def add_images(parser: argparse.ArgumentParser) -> None:
    """One image or many, and how many are handled."""
    parser.add_argument(
        "images",
        type=Path,
        nargs="*",
        metavar="IMAGE",
        help="a disk image, OVA or OVF; or a folder, for all images in it",
    )
    many = parser.add_argument_group("many images at once")
    many.add_argument(
        "--jobs",
        type=int,
        default=0,
        metavar="N",
        help="how many at the same time (default: one a processor)",
    )
    many.add_argument(
        "--stop-at-first",
        action="store_true",
        help="begin no further image once an answer is no, or there is none",
    )
    many.add_argument(
        "--json-lines", action="store_true", help="print each answer as a line of JSON when it ends"
    )
    many.add_argument(
        "--junit", type=Path, metavar="FILE", help="write the answers as JUnit XML too"
    )
    parser.set_defaults(own_parser=parser)


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
                f"the folder {path} has no disk image: name the images, or a folder with files "
                f"that end in {', '.join(_SUFFIXES)}"
            )
        found += inside
    if not found:
        raise UsageError("name at least one image")
    for number, path in enumerate(found):
        if path.resolve() in [other.resolve() for other in found[:number]]:
            raise UsageError(f"{path} is named twice")
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


def _is_image(path: Path) -> bool:
    return path.is_file() and path.suffix.lower() in _SUFFIXES and not path.name.startswith(".")
