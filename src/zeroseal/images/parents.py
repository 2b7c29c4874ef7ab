"""Finding the image that another is a child of, by the names its header gives."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path, PurePosixPath, PureWindowsPath

from zeroseal.errors import MissingError
from zeroseal.images.image import Image
from zeroseal.messages import images as messages

# Opens a parent: (its path, its format where the child names it or None).
ParentOpener = Callable[[Path, str | None], Image]


def find_parent(child: Path, names: list[str], format_title: str) -> Path:
    """The first of the named files that is there: as named, or beside the child.

    Raises:
        MissingError: none is there.
    """
    for name in names:
        flat = PureWindowsPath(name) if "\\" in name else PurePosixPath(name)
        for candidate in (child.parent / Path(*flat.parts), child.parent / flat.name):
            if flat.name and candidate.is_file():
                return candidate
    text = " or ".join(dict.fromkeys(names)) or "a file that it does not name"
    raise MissingError(
        messages.PARENT_DISK_NOT_FOUND.format(child=child, format_title=format_title, parent=text),
        path=str(child),
    )
