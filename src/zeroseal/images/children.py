"""Which images hang on another: children that would break if it were changed."""

from __future__ import annotations

from pathlib import Path

from zeroseal.errors import ZeroSealError
from zeroseal.images.container_file import BorrowedFile
from zeroseal.images.detect import open_image
from zeroseal.images.host_file import HostFile
from zeroseal.images.qcow2 import layout as qcow2_layout
from zeroseal.images.qcow2.read import Qcow2Image

_MOST_FILES = 4096


def find_children(image: Path) -> list[Path]:
    """Looks through the image's own folder, and the folders in it and beside it.

    Children elsewhere are not found; a running one shows by its lock.
    """
    real = image.resolve()
    found = []
    folders = [real.parent, *_folders_in(real.parent), *_folders_in(real.parent.parent)]
    for path in dict.fromkeys(path for folder in folders for path in _files_in(folder)):
        if path != real and _hangs_on(path, real):
            found.append(path)
    return found


def _folders_in(folder: Path) -> list[Path]:
    try:
        return sorted(path for path in folder.iterdir() if path.is_dir() and not path.is_symlink())
    except OSError:
        return []


def _files_in(folder: Path) -> list[Path]:
    try:
        files = sorted(path for path in folder.iterdir() if path.is_file())
    except OSError:
        return []
    return files[:_MOST_FILES]


def _hangs_on(path: Path, image: Path) -> bool:
    try:
        file = HostFile(path)
    except ZeroSealError:
        return False
    try:
        head = file.read(0, min(file.size_bytes, 8))
        if head.startswith(qcow2_layout.MAGIC):  # by its header alone: it may be in use
            name = Qcow2Image(BorrowedFile(file)).backing_name.removeprefix("file:")
            return bool(name) and (path.parent / name).resolve() == image
        if not head.startswith((b"KDMV", b"# Disk D", b"vhdxfile", b"conectix")):
            return False
        child = open_image(path)
        child.close()
        return image in [other.resolve() for other in child.chain[1:]]
    except (ZeroSealError, OSError, ValueError):
        return False
    finally:
        file.close()
