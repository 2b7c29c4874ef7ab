"""The disk of a clone: a copy or an overlay, in its final size."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

from zeroseal.blocks.sizes import size_text
from zeroseal.blocks.staged import StagedStore
from zeroseal.blocks.store import Store
from zeroseal.errors import UsageError, environment_error
from zeroseal.images.convert import read_back, write_disk
from zeroseal.images.copying import copy_image_file
from zeroseal.images.create import ContainerSpec
from zeroseal.images.detect import opened_image
from zeroseal.images.facts import ImageFacts
from zeroseal.images.in_place import InPlaceChange
from zeroseal.images.output import OutputFile
from zeroseal.images.qcow2.overlay import make_overlay
from zeroseal.images.reach import Reach
from zeroseal.messages import templates as messages
from zeroseal.progress import Progress, quiet
from zeroseal.templates.clone_growth import use_room
from zeroseal.volumes.gpt import move_backup
from zeroseal.volumes.grow import grow_disk

_SECTOR_BYTES = 512


@dataclass(frozen=True)
class DiskWish:
    """What the disk of a clone is to be.

    Attributes:
        size_bytes: its final size, at least the template's.
        linked: an overlay over the template, named by its absolute path where ``absolute``.
        format_name: of a full disk; empty for the template's.
        grow_last: whether the last partition takes the new room.
        move_swap: whether swap at the end moves to the new end, and what is before it takes the
            room.
        grow_file_system: whether the root file system takes it too.
    """

    size_bytes: int
    linked: bool = False
    absolute: bool = False
    format_name: str = ""
    grow_last: bool = False
    move_swap: bool = False
    grow_file_system: bool = False

    def use_room(self, disk: Store) -> None:
        """Gives the new room of a staged disk to whom it is for; raises as ``use_room`` does."""
        use_room(
            disk,
            grows_last=self.grow_last,
            moves_swap=self.move_swap,
            grows_file_system=self.grow_file_system,
        )

    def file_name(self, template: ImageFacts) -> str:
        """What the disk's file is called."""
        return "disk.qcow2" if self.linked else f"disk.{self.format_name or template.format_name}"


def check_size(wish: DiskWish, template: ImageFacts, name: str) -> None:
    """Raises UsageError where a clone's disk cannot have that size."""
    if wish.size_bytes < template.size_bytes:
        raise UsageError(
            messages.DISK_CANNOT_BE_SMALLER.format(
                name=name, wanted=size_text(wish.size_bytes), present=size_text(template.size_bytes)
            )
        )
    if (wish.move_swap or wish.grow_file_system) and wish.size_bytes == template.size_bytes:
        raise UsageError(messages.GROWTH_NEEDS_SIZE.format(name=name))
    if wish.size_bytes % _SECTOR_BYTES:
        raise UsageError(messages.DISK_SIZE_NOT_A_MULTIPLE.format(name=name))


def make_disk(
    wish: DiskWish, template: ImageFacts, folder: Path, final: Path, progress: Progress = quiet
) -> Path:
    """Makes a clone's disk.

    Args:
        wish: what it is to be.
        template: the sealed image.
        folder: where the disk is made.
        final: what ``folder`` will be called; a relative backing path starts there.
        progress: told of each stage.

    Raises:
        UnfinishedError: no space, or the new file does not read back.
    """
    path = folder / wish.file_name(template)
    try:
        if wish.linked:
            _make_overlay(wish, template, path, final)
        elif wish.size_bytes == template.size_bytes and path.suffix == f".{template.format_name}":
            copy_image_file(template.path, path)
        else:
            _write_anew(wish, template, path, progress)
    except OSError as error:
        raise environment_error(error, final, "writing") from error
    return path


def flatten(disk: Path, progress: Progress = quiet) -> bool:
    """Makes a linked clone's disk whole: it holds everything itself then, and hangs on nothing.

    Returns:
        Whether it hung on something.

    Raises:
        ImageError, RefusedError: it cannot be read, or is in use.
        UnfinishedError: no space; the disk is as it was.
    """
    whole = disk.with_name(f".{disk.name}.whole")
    whole.unlink(missing_ok=True)  # of a command that was killed
    with opened_image(disk) as image:
        if not image.has_parent:
            return False
        with OutputFile(whole) as target:
            digest = write_disk(
                image, target.file, ContainerSpec("qcow2"), disk.name, progress
            ).digest
            read_back(target.file, digest, "qcow2", progress)
            target.commit()
    try:
        whole.replace(disk)
    except OSError as error:
        raise environment_error(error, disk, "writing") from error
    return True


def _make_overlay(wish: DiskWish, template: ImageFacts, path: Path, final: Path) -> None:
    backing = str(template.path.resolve())
    if not wish.absolute:
        backing = os.path.relpath(backing, final.resolve())
    make_overlay(path, wish.size_bytes, backing, template.format_name)
    if wish.size_bytes == template.size_bytes:
        return
    with InPlaceChange(path) as change:
        staged = StagedStore(change.image)
        move_backup(staged)
        wish.use_room(staged)
        change.take(staged)
        change.commit()
        staged.close()


def _write_anew(wish: DiskWish, template: ImageFacts, path: Path, progress: Progress) -> None:
    with (
        opened_image(template.path, reach=Reach(template.format_name)) as image,
        OutputFile(path) as target,
    ):
        grown, _moved = grow_disk(image, wish.size_bytes)
        wish.use_room(grown)
        container = ContainerSpec(wish.format_name or template.format_name)
        digest = write_disk(grown, target.file, container, path.name, progress).digest
        read_back(target.file, digest, container.format_name, progress)
        target.commit()
