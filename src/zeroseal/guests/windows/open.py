"""From a disk's volumes to a Windows guest: its system volume, and the others beside it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from zeroseal.errors import UnsupportedError, ZeroSealError
from zeroseal.filesystems.drivers import VolumeTrees, driver_of
from zeroseal.filesystems.tree import FileTree, Kind
from zeroseal.guests.guest import Guest, Mount
from zeroseal.guests.registry.paths import CONFIG_FOLDER
from zeroseal.messages import guests as messages
from zeroseal.volumes.disk import Disk
from zeroseal.volumes.volume import Volume


@dataclass(frozen=True)
class WindowsVolumes:
    """A guest, volumes of the boot loader that cannot be read, and those with other data."""

    guest: Guest
    boot_unread: list[str]
    unmounted: list[Volume]


def open_windows(disk: Disk, trees: VolumeTrees) -> WindowsVolumes | None:
    """Opens the Windows on a disk; None where there is none.

    Raises:
        ImageError, RefusedError: one of its volumes cannot be opened in that way.
    """
    system = find_system_volume(disk, trees)
    if system is None:
        return None
    beside, boot_unread = [], []
    for volume in disk.volumes:
        driver = driver_of(volume)
        if volume is system or driver is None or not driver.is_read_by_windows:
            continue
        try:
            beside.append(Mount(f"/{volume.name}:", volume, trees.open(volume)))
        except ZeroSealError as error:
            if driver.holds_root_of:
                raise
            boot_unread.append(f"{volume.name} ({error.message})")
    guest = Guest([Mount("/", system, trees.open(system))], beside, folds_case=True)
    seen = [mount.volume for mount in guest.mounts]
    unmounted = [
        volume for volume in disk.volumes if volume not in seen and volume.content.holds_data
    ]
    return WindowsVolumes(guest, boot_unread, unmounted)


def find_system_volume(disk: Disk, trees: VolumeTrees) -> Volume | None:
    """The volume that holds the registry of a Windows; None where none does.

    Raises:
        UnsupportedError: there is more than one.
    """
    found = list(_iter_system_volumes(disk, trees))
    if len(found) > 1:
        names = " and ".join(volume.name for volume in found)
        raise UnsupportedError(messages.SEVERAL_WINDOWS_SYSTEMS.format(names=names))
    return found[0] if found else None


def _iter_system_volumes(disk: Disk, trees: VolumeTrees) -> Iterator[Volume]:
    for volume in disk.volumes:
        driver = driver_of(volume)
        if driver is None or "windows" not in driver.holds_root_of or volume.content.refusal:
            continue
        try:
            if _has_registry(trees.open(volume)):
                yield volume
        except ZeroSealError:
            continue  # it is told with the reason as a volume


def _has_registry(tree: FileTree) -> bool:
    node = tree.root
    for part in f"{CONFIG_FOLDER}/SYSTEM".strip("/").split("/"):
        entry = tree.find_child(node, part.encode())
        if entry is None or entry.kind is Kind.LINK:
            return False
        node = entry.node
    return True
