"""The facts of an opened image: its container, its files, how much of the disk it stores."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from zeroseal.images.detect import opened_image
from zeroseal.images.image import Image
from zeroseal.images.reach import OWN_FOLDER, Reach

STRIP_CELLS = 72
TREE_FORMATS = ("folder", "tar")


@dataclass(frozen=True)
class ImageFacts:
    """The container of a disk.

    Attributes:
        variant: what kind of the format it is; may be empty.
        size_bytes: of the virtual disk; ``file_bytes`` the length of the container's files, and
            ``allocated_bytes`` what they take of the host's disk.
        extents: the container's other files, where it has several.
        chain: the backing files beneath it.
        snapshots: the names of those it keeps inside.
        remarks: what else is to be known of it, sentences.
    """

    path: Path
    format_name: str
    variant: str
    size_bytes: int
    file_bytes: int
    allocated_bytes: int
    extents: tuple[Path, ...]
    chain: tuple[Path, ...]
    snapshots: tuple[str, ...]
    remarks: tuple[str, ...]

    @property
    def is_tree(self) -> bool:
        """Whether it is no disk but a root file system by itself."""
        return self.format_name in TREE_FORMATS

    @property
    def other_files(self) -> tuple[Path, ...]:
        """What must come along when the image is copied."""
        return self.extents + self.chain


def stored_by_part(image: Image) -> tuple[int, ...]:
    """How many bytes are stored of each of ``STRIP_CELLS`` equal parts of a disk."""
    part = max(1, -(-image.size_bytes // STRIP_CELLS))
    stored = [0] * STRIP_CELLS
    for extent in image.iter_extents(0, image.size_bytes):
        position, end = extent.offset_bytes, extent.offset_bytes + extent.length
        while position < end and not extent.is_zero:
            stop = min(end, (position // part + 1) * part)
            stored[position // part] += stop - position
            position = stop
    return tuple(stored)


def read_image_facts(path: Path, reach: Reach = OWN_FOLDER) -> ImageFacts:
    """The facts of an image file.

    Raises:
        ImageError, RefusedError: it cannot be opened.
    """
    with opened_image(path, reach=reach) as image:
        return facts_of(image)


def facts_of(image: Image) -> ImageFacts:
    """The facts of an opened image."""
    return ImageFacts(
        path=image.path,
        format_name=image.format_name,
        size_bytes=image.size_bytes,
        variant=image.variant,
        file_bytes=sum(file.size_bytes for file in image.files),
        allocated_bytes=sum(file.allocated_bytes for file in image.files),
        extents=tuple(file.path for file in image.files[1:]),
        chain=tuple(image.chain[1:]),
        snapshots=tuple(image.snapshots),
        remarks=tuple(image.remarks),
    )
