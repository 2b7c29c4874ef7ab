"""A root file system that is no disk: a folder of the host or a tar archive, inspected."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from zeroseal.blocks.digest import DiskDigest
from zeroseal.blocks.pipeline import digest_store
from zeroseal.blocks.store import Extent, MemoryStore, Store
from zeroseal.errors import NoGuestError
from zeroseal.filesystems.drivers import VolumeTrees
from zeroseal.filesystems.plain.driver import TREE_KIND
from zeroseal.filesystems.plain.folder import FolderSource
from zeroseal.filesystems.plain.tar import TarSource
from zeroseal.filesystems.plain.tree import PlainTree
from zeroseal.guests.guest import Guest, Mount
from zeroseal.guests.linux.subvolumes import looks_like_root
from zeroseal.guests.linux.system import LinuxSystem
from zeroseal.guests.open import OpenedGuest
from zeroseal.images.container_file import ContainerFile
from zeroseal.images.facts import TREE_FORMATS
from zeroseal.images.image import Image
from zeroseal.messages import sealing as messages
from zeroseal.progress import Progress, quiet
from zeroseal.sealing.inspection import Inspection
from zeroseal.volumes.disk import Disk
from zeroseal.volumes.volume import Content, Volume

NOT_VISIBLE = (
    "Swap, journals, slack, free space and gaps between volumes are not visible here: "
    "seal the disk image to have them zeroed too."
)


class TreeImage(Image):
    """What stands for a container where there is none; its disk has no bytes."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.format_name = TREE_FORMATS[0] if path.is_dir() else TREE_FORMATS[1]
        self.size_bytes = 0

    @property
    def file(self) -> ContainerFile:
        """There is none."""
        raise TypeError("a tree has no container")

    @property
    def files(self) -> list[ContainerFile]:
        """None."""
        return []

    @property
    def remarks(self) -> list[str]:
        """What a tree does not show."""
        return [NOT_VISIBLE]

    def read(self, offset_bytes: int, length: int) -> bytes:
        """No bytes."""
        self.check_range(offset_bytes, length)
        return b""

    def iter_extents(self, offset_bytes: int, length: int) -> Iterator[Extent]:
        """No extents."""
        self.check_range(offset_bytes, length)
        return iter(())


class FileStore(Store):
    """A file's bytes, read only."""

    def __init__(self, path: Path) -> None:
        self._file = path.open("rb")
        self.size_bytes = path.stat().st_size

    def read(self, offset_bytes: int, length: int) -> bytes:
        """Exactly these bytes."""
        self.check_range(offset_bytes, length)
        self._file.seek(offset_bytes)
        return self._file.read(length)

    def iter_extents(self, offset_bytes: int, length: int) -> Iterator[Extent]:
        """One extent of data."""
        self.check_range(offset_bytes, length)
        if length:
            yield Extent(offset_bytes, length, is_zero=False)

    def close(self) -> None:
        """Closes the file."""
        self._file.close()


def open_source(path: Path, now: int = 0) -> FolderSource | TarSource:
    """Opens a folder or a tar archive.

    Raises:
        MissingError: it is not there.
        DamagedError, UnsupportedError: it cannot be read.
    """
    return FolderSource(path, now) if path.is_dir() else TarSource(path, now)


def inspect_tree(tree: PlainTree, image: TreeImage | None = None) -> Inspection:
    """The inspection of a tree.

    Raises:
        NoGuestError: it holds no system that we know.
    """
    volume = Volume("all files", 0, MemoryStore(b""), 0, Content(TREE_KIND))
    guest = Guest([Mount("/", volume, tree)])
    if not looks_like_root(guest):
        raise NoGuestError(messages.NOT_A_ROOT_FILE_SYSTEM.format(where=tree.where))
    opened = OpenedGuest(LinuxSystem(guest), unread=[], boot_unread=[], swaps=[], unmounted=[])
    disk = Disk("none", "", [], [])
    return Inspection(volume.store, disk, VolumeTrees(), opened, image=image)


def digest_file(path: Path, progress: Progress = quiet) -> DiskDigest:
    """The digest of an archive, made as that of a disk."""
    store = FileStore(path)
    try:
        return digest_store(store, "reading the archive", progress)
    finally:
        store.close()


@contextmanager
def inspected_tree(path: Path) -> Iterator[Inspection]:
    """Opens a folder or a tar archive for reading, inspects it, and closes it again.

    Raises:
        ImageError: it cannot be read, or holds no system.
    """
    source = open_source(path)
    try:
        yield inspect_tree(source.tree, TreeImage(path))
    finally:
        source.close()
