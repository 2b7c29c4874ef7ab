"""From a disk's volumes to its guest."""

from __future__ import annotations

from dataclasses import dataclass

from zeroseal.errors import NoGuestError, UnsupportedError, ZeroSealError
from zeroseal.filesystems.drivers import VolumeTrees, driver_of
from zeroseal.guests.guest import Guest, Mount
from zeroseal.guests.linux.fstab import MountEntry, find_volume, parse_fstab
from zeroseal.guests.linux.system import LinuxSystem
from zeroseal.guests.system import GuestSystem
from zeroseal.messages import guests as messages
from zeroseal.volumes.disk import Disk
from zeroseal.volumes.volume import SWAP_KIND, Volume

_BOOT_PATHS = ("/boot", "/boot/efi", "/efi")
_NOT_ON_DISK = ("proc", "sysfs", "tmpfs", "devpts", "devtmpfs", "nfs", "nfs4", "cifs", "9p")
_NOT_A_DISK = ("/dev/cdrom", "/dev/sr", "/dev/fd")


@dataclass(frozen=True)
class OpenedGuest:
    """A guest with what could not be seen of it.

    Attributes:
        unread: mount points whose volume we cannot read, with the reason: a seal would miss them.
        boot_unread: the same for volumes of the firmware and boot loader, which hold few traces.
        swaps: volumes that are swap.
        unmounted: volumes with data that the guest does not mount.
        system: what runs there.
    """

    system: GuestSystem
    unread: list[str]
    boot_unread: list[str]
    swaps: list[Volume]
    unmounted: list[Volume]

    @property
    def guest(self) -> Guest:
        """Its tree."""
        return self.system.guest


def open_guest(disk: Disk, trees: VolumeTrees) -> OpenedGuest:
    """Finds the root volume and mounts the others by the guest's own fstab, for reading.

    Args:
        disk: with its volumes.
        trees: where volumes are opened.

    Raises:
        UnsupportedError: a volume is encrypted, hibernated or otherwise not to be handled.
        NoGuestError: no volume holds a system that we know.
    """
    for volume in disk.volumes:
        if volume.content.refusal:
            raise UnsupportedError(
                messages.VOLUME_NOT_SUPPORTED.format(
                    name=volume.name, refusal=volume.content.refusal
                )
            )
    root = _find_root(disk, trees)
    if root is None:
        return _open_windows(disk, trees)
    guest, mounts = Guest([Mount("/", root, trees.open(root))]), []
    entries = parse_fstab(guest.read_text("/etc/fstab"))
    swaps = [volume for volume in disk.volumes if volume.content.kind == SWAP_KIND]
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
        driver = driver_of(found) if found else None
        if found and driver:
            try:
                mounts.append(Mount(entry.mount_point.rstrip("/"), found, trees.open(found)))
            except ZeroSealError as error:
                if not boot or driver.holds_root_of:
                    raise
                boot_unread.append(f"{entry.mount_point} ({error.message})")
        elif not entry.spec.startswith(_NOT_A_DISK):
            (boot_unread if boot else unread).append(_describe_unread(entry, found))
    guest.mount(mounts)
    placed = [mount.path for mount in guest.mounts]
    unread += [
        f"{mount.path} ({mount.volume.name}, but that folder was not found)"
        for mount in mounts
        if mount.path not in placed
    ]
    return OpenedGuest(
        system=LinuxSystem(guest),
        unread=unread,
        boot_unread=boot_unread,
        swaps=swaps,
        unmounted=[
            volume for volume in disk.volumes if volume not in used and volume.content.holds_data
        ],
    )


def _open_windows(disk: Disk, trees: VolumeTrees) -> OpenedGuest:
    """Opens a guest that is no Linux.

    Raises:
        NoGuestError: there is none.
    """
    from zeroseal.guests.windows.open import open_windows  # of no use to a disk with a Linux
    from zeroseal.guests.windows.system import WindowsSystem

    found = open_windows(disk, trees)
    if found is None:
        raise NoGuestError(_describe_absence(disk))
    unread, unmounted = found.boot_unread, found.unmounted
    return OpenedGuest(WindowsSystem(found.guest), [], unread, [], unmounted)


def _find_root(disk: Disk, trees: VolumeTrees) -> Volume | None:
    """The root volume of a Linux; None where nothing is one."""
    unreadable: ZeroSealError | None = None
    for volume in disk.volumes:
        driver = driver_of(volume)
        if driver is None or "linux" not in driver.holds_root_of:
            continue
        try:
            if looks_like_root(Guest([Mount("/", volume, trees.open(volume))])):
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
            "no partition table and no file system was found on the disk: check that this is "
            "the disk image of an installed machine"
        )
    return (
        f"no supported operating system was found on {', '.join(kinds)}: Linux "
        "guests on ext2, ext3, ext4 or XFS and Windows guests on NTFS can be sealed"
    )


def _describe_unread(entry: MountEntry, found: Volume | None) -> str:
    if found is None:
        return f"{entry.mount_point} ({entry.spec} is not on this disk)"
    return f"{entry.mount_point} ({found.name}, {found.content.kind})"
