"""An opened image: a store over the virtual disk, with the facts of its container."""

from __future__ import annotations

from abc import abstractmethod
from pathlib import Path

from zeroseal.blocks.store import Store
from zeroseal.errors import UsageError
from zeroseal.images.container_file import ContainerFile
from zeroseal.messages import images as messages

SECTOR_BYTES = 512


class Image(Store):
    """The virtual disk inside a container file.

    Attributes:
        path: the container file.
        format_name: as ``--format`` takes it.
        variant: what kind of the format it is, in words; empty where there is only one.
        size_bytes: the size of the virtual disk.
    """

    path: Path
    format_name: str
    variant: str = ""

    @property
    @abstractmethod
    def file(self) -> ContainerFile:
        """The container file."""

    @property
    def files(self) -> list[ContainerFile]:
        """All files that this container consists of, without its parents."""
        return [self.file]

    @property
    def chain(self) -> list[Path]:
        """The files that the disk's contents come from: this one first, its backing files last."""
        return [self.path]

    @property
    def has_parent(self) -> bool:
        """Whether some of the disk's contents come from another image beneath this one."""
        return False

    def at_snapshot(self, name: str) -> None:
        """Shows the disk as one of its snapshots, by name or id, from now on.

        Raises:
            UsageError: there is none of that name.
        """
        del name
        raise UsageError(messages.NO_SNAPSHOTS_OUTSIDE_QCOW2.format(path=self.path))

    @property
    def snapshots(self) -> list[str]:
        """The names of the snapshots that the container keeps inside."""
        return []

    @property
    def remarks(self) -> list[str]:
        """What an administrator should know of the container: sentences."""
        return []


class WritableImage(Image):
    """An image that can be changed: ``write`` and ``zero`` at once, tables with ``flush``."""

    @abstractmethod
    def flush(self) -> None:
        """Writes all tables; the file is whole afterwards."""
