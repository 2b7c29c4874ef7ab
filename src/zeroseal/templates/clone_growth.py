"""The room of a larger disk, brought to the root file system before a clone is started at all."""

from __future__ import annotations

from zeroseal.blocks.store import Store
from zeroseal.errors import RefusedError, UnsupportedError
from zeroseal.filesystems.drivers import VolumeTrees, driver_of, read_disk, recognise
from zeroseal.messages import templates as messages
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.proof import check_file_systems
from zeroseal.volumes.grow import grow_last_partition, move_swap
from zeroseal.volumes.lvm.extend import extend_logical_volume


def use_room(disk: Store, *, grows_last: bool, moves_swap: bool, grows_file_system: bool) -> None:
    """Gives the room behind the last partition to what is in front of it.

    Args:
        disk: a staged disk, whose partition table fits its size.
        grows_last: whether the last partition gets it, and an LVM physical volume on it.
        moves_swap: whether swap at the end moves to the new end first.
        grows_file_system: whether the root file system, and the logical volume that it lies on,
            get it too.

    Raises:
        UsageError: there is no swap that could be moved.
        ImageError, RefusedError: it cannot be grown here.
    """
    if moves_swap:
        move_swap(disk, recognise)
    elif grows_last or grows_file_system:
        grow_last_partition(disk, recognise)
    if grows_file_system:
        _grow_root(disk)


def _grow_root(disk: Store) -> None:
    inspection = Inspection.read(disk)
    mount = inspection.guest.mounts[0]
    root, before = mount.volume, mount.driver.stated_bytes(mount.tree)
    if not mount.driver.grows_here:
        raise UnsupportedError(
            messages.FILE_SYSTEM_NOT_GROWN.format(name=root.name, kind=root.content.kind)
        )
    if root.is_logical:
        physical = inspection.disk.physical_volumes
        extend_logical_volume(physical, root.group, root.logical_name)
    volume = next(item for item in read_disk(disk).volumes if item.name == root.name)
    driver = driver_of(volume)
    assert driver is not None  # it was read by it
    if driver.grow(volume.store, volume.name) <= before:
        raise RefusedError(messages.NO_ROOM_BEHIND_ROOT.format(name=root.name))
    check_file_systems(read_disk(disk), VolumeTrees())
