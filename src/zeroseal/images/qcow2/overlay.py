"""A new qcow2 image that hangs on another image: it stores only what differs from it."""

from __future__ import annotations

from pathlib import Path

from zeroseal.images.output import OutputFile
from zeroseal.images.qcow2.write import WritableQcow2

_QEMU_DRIVERS = {"vhd": "vpc"}  # where QEMU calls a format otherwise; children name it so


def make_overlay(target: Path, size_bytes: int, backing: str, backing_format: str) -> None:
    """Makes an overlay.

    Args:
        target: the new file.
        size_bytes: of the virtual disk; the backing image's.
        backing: its path, as the overlay will name it.
        backing_format: our name of its format.

    Raises:
        UnfinishedError: no space, or the file exists.
    """
    driver = _QEMU_DRIVERS.get(backing_format, backing_format)
    with OutputFile(target) as output:
        image = WritableQcow2.create(
            output.file, size_bytes, backing_name=backing, backing_format=driver
        )
        image.flush()
        output.commit()
