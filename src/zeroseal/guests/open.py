"""From a disk's volumes to its guest."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from zeroseal.errors import NoGuestError, UnsupportedError, ZeroSealError
from zeroseal.filesystems.kinds import open_editor, open_tree
from zeroseal.filesystems.tree import FileTree
from zeroseal.guests.fstab import MountEntry, find_volume, parse_fstab
from zeroseal.guests.guest import Guest, Mount
from zeroseal.volumes.disk import Disk
from zeroseal.volumes.volume import Volume

_BOOT_PATHS = ("/boot", "/boot/efi", "/efi")
_NOT_ON_DISK = ("proc", "sysfs", "tmpfs", "devpts", "devtmpfs", "nfs", "nfs4", "cifs", "9p")
_NOT_A_DISK = ("/dev/cdrom", "/dev/sr", "/dev/fd")

TreeOpener = Callable[[Volume], FileTree]


@dataclass(frozen=True)
class OpenedGuest:
    """A guest with what could not be seen of it.

    Attributes:
        unread: mount points whose volume we cannot read, with the reason: a seal would miss them.
        boot_unread: the same for volumes of the firmware and boot loader, which hold few traces.
        swaps: volumes that are swap.
        strangers: volumes with data that the guest does not mount.
        is_windows: whether it is a Windows, with the volumes beside the system's own.
    """

    guest: Guest
    unread: list[str]
    boot_unread: list[str]
    swaps: list[Volume]
    strangers: list[Volume]
    is_windows: bool = False


def open_for_reading(volume: Volume) -> FileTree:
    """Opens a volume's file system for reading."""
    return open_tree(volume.content.kind, volume.store, volume.name)


def opener_for_editing(now: int, zero_removed: bool = True) -> TreeOpener:
    """Makes an opener whose trees can be changed.

    Args:
        now: the time that changes are given, seconds since 1970.
        zero_removed: whether content that goes is zeroed.
    """

    def opener(volume: Volume) -> FileTree:
        return open_editor(volume.content.kind, volume.store, now, volume.name, zero_removed)

    return opener


def open_guest(disk: Disk, opener: TreeOpener = open_for_reading) -> OpenedGuest:
    """Finds the root volume and mounts the others by the guest's own fstab.

    Raises:
        UnsupportedError: a volume is encrypted, hibernated or otherwise not to be handled.
        NoGuestError: no volume holds a system that we know.
    """
    for volume in disk.volumes:
        if volume.content.refusal:
            raise UnsupportedError(f"{volume.name} cannot be handled: {volume.content.refusal}")
    root = _find_root(disk)
    if root is None:
        return _open_windows(disk, opener)
    mounts = [Mount("/", root, opener(root))]
    entries = parse_fstab(Guest(mounts).read_text("/etc/fstab"))
    swaps = [volume for volume in disk.volumes if volume.content.kind == "swap"]
    used = [root, *swaps]
    unread: list[str] = []
    boot_unread: list[str] = []
    for entry in entries:
        if not entry.mount_point.startswith("/") or entry.mount_point == "/":
            continue
        if entry.kind in _NOT_ON_DISK or "bind" in entry.options:
            continue
        found = find_volume(entry.spec, disk.volumes)
        if found:
            used.append(found)
        boot = entry.mount_point.rstrip("/") in _BOOT_PATHS and entry.kind != "xfs"
        if found and found.content.is_readable:
            try:
                mounts.append(Mount(entry.mount_point.rstrip("/"), found, opener(found)))
            except ZeroSealError as error:
                if not boot or found.content.can_be_root:
                    raise
                boot_unread.append(f"{entry.mount_point} ({error.message})")
        elif not entry.spec.startswith(_NOT_A_DISK):
            (boot_unread if boot else unread).append(_describe_unread(entry, found))
    guest = Guest(mounts)
    placed = [mount.path for mount in guest.mounts]
    unread += [
        f"{mount.path} ({mount.volume.name}, but there is no such folder)"
        for mount in mounts
        if mount.path not in placed
    ]
    return OpenedGuest(
        guest=guest,
        unread=unread,
        boot_unread=boot_unread,
        swaps=swaps,
        strangers=[
            volume
            for volume in disk.volumes
            if volume not in used and volume.content.kind not in ("unknown", "empty", "lvm")
        ],
    )


def _open_windows(disk: Disk, opener: TreeOpener) -> OpenedGuest:
    """Opens a guest that is no Linux.

    Raises:
        NoGuestError: there is none.
    """
    from zeroseal.guests.windows.open import open_windows  # of no use to a disk with a Linux

    found = open_windows(disk, opener)
    if found is None:
        raise NoGuestError(_describe_absence(disk))
    unread, strangers = found.boot_unread, found.strangers
    return OpenedGuest(found.guest, [], unread, [], strangers, is_windows=True)


def _find_root(disk: Disk) -> Volume | None:
    """The root volume of a Linux; None where nothing is one."""
    unreadable: ZeroSealError | None = None
    for volume in disk.volumes:
        if not volume.content.can_be_root:
            continue
        try:
            guest = Guest([Mount("/", volume, open_for_reading(volume))])
            if looks_like_root(guest):
                return volume
        except ZeroSealError as error:
            unreadable = unreadable or error
    if unreadable:
        raise unreadable
    return None


def looks_like_root(guest: Guest) -> bool:
    """Whether a tree is the root of a Linux system."""
    has_system = guest.is_file("/etc/os-release") or guest.is_file("/usr/lib/os-release")
    return has_system and guest.is_folder("/etc")


def _describe_absence(disk: Disk) -> str:
    kinds = [f"{volume.name} ({volume.content.kind})" for volume in disk.volumes]
    if not kinds:
        return (
            "no partition table and no file system was found on the disk: is this a disk image of "
            "an installed machine?"
        )
    return (
        f"no operating system that is supported was found on {', '.join(kinds)}: what can be "
        "sealed is a Linux on ext2, ext3, ext4 or XFS, or a Windows on NTFS"
    )


def _describe_unread(entry: MountEntry, found: Volume | None) -> str:
    if found is None:
        return f"{entry.mount_point} ({entry.spec} is not on this disk)"
    return f"{entry.mount_point} ({found.name}, {found.content.kind})"
