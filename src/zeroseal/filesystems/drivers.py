"""The file systems that are read and changed here. A further one is one package and one line."""

from __future__ import annotations

from typing import Any

from zeroseal.blocks.store import Store
from zeroseal.filesystems.btrfs.driver import BtrfsDriver
from zeroseal.filesystems.driver import VolumeDriver
from zeroseal.filesystems.ext.driver import ExtDriver
from zeroseal.filesystems.fat.driver import FatDriver
from zeroseal.filesystems.ntfs.driver import NtfsDriver
from zeroseal.filesystems.plain.driver import PlainDriver
from zeroseal.filesystems.tree import FileTree
from zeroseal.filesystems.xfs.driver import XfsDriver
from zeroseal.volumes.disk import Disk, read_volumes
from zeroseal.volumes.recognise import recognise_other, recognise_rest
from zeroseal.volumes.volume import Content, Volume

DRIVERS: tuple[VolumeDriver[Any], ...] = (
    ExtDriver(),
    XfsDriver(),
    BtrfsDriver(),
    NtfsDriver(),
    FatDriver(),
    PlainDriver(),
)
_BY_KIND = {kind: driver for driver in DRIVERS for kind in driver.kinds}


def driver_of(volume: Volume) -> VolumeDriver[Any] | None:
    """The driver of what lies on a volume; None for what is not read here."""
    return _BY_KIND.get(volume.content.kind)


def get_driver(volume: Volume) -> VolumeDriver[Any]:
    """The driver of a volume that a guest has mounted."""
    return _BY_KIND[volume.content.kind]


class VolumeTrees:
    """The trees of a disk's volumes, each opened once."""

    def __init__(self) -> None:
        self._trees: dict[str, FileTree] = {}

    def open(self, volume: Volume) -> FileTree:
        """The tree of a volume.

        Raises:
            ImageError, RefusedError: it cannot be read.
        """
        if volume.name not in self._trees:
            self._trees[volume.name] = get_driver(volume).read(volume.store, volume.name)
        return self._trees[volume.name]


def read_disk(store: Store) -> Disk:
    """The partition table of a disk and its volumes, with what lies on each.

    Raises:
        DamagedError: there is a table and it cannot be trusted.
    """
    return read_volumes(store, recognise)


def recognise(store: Store) -> Content:
    """Names what lies on a volume; ``unknown`` or ``empty`` where nothing fits."""
    strong = [driver.recognise for driver in DRIVERS if not driver.is_weak_signature]
    weak = [driver.recognise for driver in DRIVERS if driver.is_weak_signature]
    for ask in (*strong, recognise_other, *weak):
        found = ask(store)
        if found:
            return found
    return recognise_rest(store)
