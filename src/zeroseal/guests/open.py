"""From a disk's volumes to its guest."""

from __future__ import annotations

from dataclasses import dataclass, field

from zeroseal.errors import NoGuestError, UnsupportedError, ZeroSealError
from zeroseal.filesystems.drivers import VolumeTrees, driver_of, get_driver
from zeroseal.guests.guest import Guest, Mount
from zeroseal.guests.linux.fstab import MountEntry, find_volume, parse_fstab
from zeroseal.guests.linux.subvolumes import (
    Snapshot,
    find_apart,
    find_by_options,
    find_root_mount,
    find_snapshots,
    view_of,
)
from zeroseal.guests.linux.system import LinuxSystem
from zeroseal.guests.system import GuestSystem
from zeroseal.messages import guests as messages
from zeroseal.volumes.disk import Disk
from zeroseal.volumes.volume import SWAP_KIND, Volume

_LINUX_KINDS = ("xfs", "btrfs")
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
        snapshots: earlier states of what the guest mounts, and other systems beside it.
        subvolumes_apart: subvolumes with files that no mount shows, in words.
    """

    system: GuestSystem
    unread: list[str]
    boot_unread: list[str]
    swaps: list[Volume]
    unmounted: list[Volume]
    snapshots: list[Snapshot] = field(default_factory=list)
    subvolumes_apart: list[str] = field(default_factory=list)

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
    guest = Guest([root])
    entries = parse_fstab(guest.read_text("/etc/fstab"))
    swaps = [volume for volume in disk.volumes if volume.content.kind == SWAP_KIND]
    table = _MountTable(disk, trees, used=[root.volume, *swaps])
    for entry in entries:
        table.take(entry)
    mounts, unread = table.mounts, table.unread
    (own, *mounts), snapshots, apart = _without_hidden([root, *mounts], trees)
    if own is not root:
        guest = Guest([own])
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
        boot_unread=table.boot_unread,
        swaps=swaps,
        unmounted=[
            volume
            for volume in disk.volumes
            if volume not in table.used and volume.content.holds_data
        ],
        snapshots=snapshots,
        subvolumes_apart=apart,
    )


@dataclass
class _MountTable:
    """What the lines of fstab mount of a disk, and what of that cannot be read."""

    disk: Disk
    trees: VolumeTrees
    used: list[Volume]
    mounts: list[Mount] = field(default_factory=list)
    unread: list[str] = field(default_factory=list)
    boot_unread: list[str] = field(default_factory=list)

    def take(self, entry: MountEntry) -> None:
        """Takes a line; one that mounts nothing of a disk is passed over."""
        if not entry.mount_point.startswith("/") or entry.mount_point == "/":
            return
        if entry.kind in _NOT_ON_DISK or "bind" in entry.options:
            return
        found = find_volume(entry.spec, self.disk.volumes)
        if found:
            self.used.append(found)
        is_boot = entry.mount_point.rstrip("/") in _BOOT_PATHS and entry.kind not in _LINUX_KINDS
        if found and driver_of(found):
            self._mount(entry, found, is_boot)
        elif not entry.spec.startswith(_NOT_A_DISK):
            (self.boot_unread if is_boot else self.unread).append(_describe_unread(entry, found))

    def _mount(self, entry: MountEntry, found: Volume, is_boot: bool) -> None:
        try:
            mount = _mount(entry, found, self.trees)
        except ZeroSealError as error:
            if not is_boot or get_driver(found).holds_root_of:
                raise
            self.boot_unread.append(f"{entry.mount_point} ({error.message})")
            return
        if mount:
            self.mounts.append(mount)
        else:
            self.unread.append(_describe_no_subvolume(entry, found))


def _mount(entry: MountEntry, volume: Volume, trees: VolumeTrees) -> Mount | None:
    """What a line of fstab mounts; None where it names a subvolume that is not there."""
    tree, path = trees.open(volume), entry.mount_point.rstrip("/")
    subvolumes = get_driver(volume).subvolumes(tree)
    if not subvolumes:
        return Mount(path, volume, tree)
    subvolume = find_by_options(entry.options, subvolumes)
    return view_of(path, volume, tree, subvolume) if subvolume else None


def _without_hidden(
    mounts: list[Mount], trees: VolumeTrees
) -> tuple[list[Mount], list[Snapshot], list[str]]:
    """(mounts, snapshots, subvolumes that no mount shows) of a guest.

    The mounts show snapshots, and what is mounted itself, as empty folders: each file has one path.
    """
    snapshots: list[Snapshot] = []
    apart: list[str] = []
    numbers: dict[str, set[int]] = {}
    for mount in mounts:
        if mount.subvolume:
            numbers.setdefault(mount.volume.name, set()).add(mount.subvolume.number)
    hidden: dict[str, set[int]] = {}
    for volume in {mount.volume.name: mount.volume for mount in mounts if mount.subvolume}.values():
        tree, mounted = trees.open(volume), numbers[volume.name]
        found = find_snapshots(volume, tree, mounted)
        hidden[volume.name] = mounted | {one.subvolume.number for one in found}
        snapshots += found
        apart += [
            f"{volume.name}, subvolume {one.path or 'at the top'}"
            for one in find_apart(volume, tree, mounted, found)
        ]
    shown = [
        view_of(mount.path, mount.volume, trees.open(mount.volume), mount.subvolume,
                hidden[mount.volume.name])
        if mount.subvolume else mount
        for mount in mounts
    ]  # fmt: skip
    return shown, snapshots, apart


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


def _find_root(disk: Disk, trees: VolumeTrees) -> Mount | None:
    """The root of a Linux; None where nothing is one."""
    unreadable: ZeroSealError | None = None
    for volume in disk.volumes:
        driver = driver_of(volume)
        if driver is None or "linux" not in driver.holds_root_of:
            continue
        try:
            root = find_root_mount(volume, trees.open(volume))
            if root:
                return root
        except ZeroSealError as error:
            unreadable = unreadable or error
    if unreadable:
        raise unreadable
    return None


def _describe_absence(disk: Disk) -> str:
    kinds = [f"{volume.name} ({volume.content.kind})" for volume in disk.volumes]
    if not kinds:
        return (
            "no partition table and no file system was found on the disk: check that this is "
            "the disk image of an installed machine"
        )
    return (
        f"no supported operating system was found on {', '.join(kinds)}: Linux "
        "guests on ext2, ext3, ext4, XFS or btrfs and Windows guests on NTFS can be sealed"
    )


def _describe_no_subvolume(entry: MountEntry, found: Volume) -> str:
    wanted = next((option for option in entry.options if option.startswith("subvol")), "default")
    return f"{entry.mount_point} ({found.name} has no subvolume {wanted.rpartition('=')[2]})"


def _describe_unread(entry: MountEntry, found: Volume | None) -> str:
    if found is None:
        return f"{entry.mount_point} ({entry.spec} is not on this disk)"
    return f"{entry.mount_point} ({found.name}, {found.content.kind})"
