"""An opened image: a store over the virtual disk, with the facts of its container."""

from __future__ import annotations

from abc import abstractmethod
from pathlib import Path

from zeroseal.blocks.store import Store
from zeroseal.images.host_file import HostFile

SECTOR_BYTES = 512


class Image(Store):
    """The virtual disk inside a container file.

    Attributes:
        path: the container file.
        format_name: ``raw`` or ``qcow2``, as ``--format`` takes it.
        size_bytes: the size of the virtual disk.
    """

    path: Path
    format_name: str

    @property
    @abstractmethod
    def file(self) -> HostFile:
        """The container file."""

    @property
    def chain(self) -> list[Path]:
        """The files that the disk's contents come from: this one, then its backing files."""
        return [self.path]

    @property
    def snapshot_count(self) -> int:
        """How many internal snapshots the container keeps."""
        return 0
