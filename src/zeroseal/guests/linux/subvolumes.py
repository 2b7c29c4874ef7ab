"""Subvolumes of a Linux guest: which is its root, which it mounts, which are snapshots of those.

Source: btrfs(5), the mount options ``subvol=`` and ``subvolid=``; fstab(5).
"""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence
from dataclasses import dataclass

from zeroseal.errors import UnsupportedError
from zeroseal.filesystems.drivers import get_driver
from zeroseal.filesystems.tree import FileTree, Kind, Subvolume
from zeroseal.guests.guest import Guest, Mount
from zeroseal.guests.linux.fstab import MountEntry, parse_fstab
from zeroseal.messages import guests as messages
from zeroseal.volumes.volume import Volume

_MOST_NAMED = 5
_SNAPPER = re.compile(r"(^|/)\.snapshots/\d+/snapshot$")  # snapper(8)


@dataclass(frozen=True)
class Snapshot:
    """A subvolume that holds an earlier state of one that the guest mounts.

    Attributes:
        volume: where it lies.
        subvolume: itself.
        is_of_root: whether it holds a system.
        source: the number of the mounted subvolume that it is a snapshot of; 0 for none.
    """

    volume: Volume
    subvolume: Subvolume
    is_of_root: bool
    source: int = 0

    @property
    def place(self) -> str:
        """How it is named."""
        return f"{self.volume.name}, subvolume {self.subvolume.path}"


def looks_like_root(guest: Guest) -> bool:
    """Whether a tree is the root of a Linux system."""
    has_system = guest.is_file("/etc/os-release") or guest.is_file("/usr/lib/os-release")
    return has_system and guest.is_folder("/etc")


def find_root_mount(volume: Volume, tree: FileTree) -> Mount | None:
    """The mount of a Linux system's root, where it lies on a volume; None where it does not.

    Raises:
        UnsupportedError: several subvolumes hold a system, and nothing says which is started.
    """
    subvolumes = get_driver(volume).subvolumes(tree)
    if not subvolumes:
        mount = Mount("/", volume, tree)
        return mount if looks_like_root(Guest([mount])) else None
    mounts = [view_of("/", volume, tree, subvolume) for subvolume in subvolumes]
    roots = [mount for mount in mounts if looks_like_root(Guest([mount]))]
    if len(roots) < 2:
        return roots[0] if roots else None
    chosen = _choose(roots)
    if chosen is None:
        paths = [_shown(mount) for mount in roots[:_MOST_NAMED]]
        raise UnsupportedError(
            messages.SEVERAL_ROOTS.format(name=volume.name, paths=", ".join(paths))
        )
    return chosen


def view_of(
    path: str, volume: Volume, tree: FileTree, subvolume: Subvolume, hidden: Collection[int] = ()
) -> Mount:
    """A subvolume as the guest mounts it; others that are ``hidden`` are empty folders in it."""
    view = get_driver(volume).view(tree, subvolume.node, hidden)
    return Mount(path, volume, view, subvolume, frozenset(hidden))


def find_by_options(options: Sequence[str], subvolumes: Sequence[Subvolume]) -> Subvolume | None:
    """The subvolume that mount options mean: the default one where they name none."""
    for option in options:
        key, _equals, value = option.partition("=")
        if key == "subvolid" and value.isdigit():
            return next((one for one in subvolumes if one.number == int(value)), None)
        if key == "subvol":
            return next((one for one in subvolumes if one.path == value.strip("/")), None)
    return next((one for one in subvolumes if one.is_default), None)


def find_snapshots(volume: Volume, tree: FileTree, mounted: Collection[int]) -> list[Snapshot]:
    """The snapshots of what a guest mounts, or what that is one of, and other systems beside it.

    A system within a folder of the guest that is no relation, such as a container's, is none.

    Args:
        volume: with subvolumes.
        tree: of it.
        mounted: the numbers of those that are mounted.
    """
    subvolumes = {one.number: one for one in get_driver(volume).subvolumes(tree)}
    families = {number: _family(subvolumes[number], subvolumes) for number in mounted}
    found = []
    for one in subvolumes.values():
        if one.number in mounted:
            continue
        family = _family(one, subvolumes) if one.path else frozenset[int]()
        source = next((number for number, own in families.items() if own & family), 0)
        is_within = any(_lies_within(one, subvolumes[number]) for number in mounted)
        holds_system = looks_like_root(Guest([view_of("/", volume, tree, one)]))
        if source or (holds_system and (not is_within or _SNAPPER.search(one.path))):
            found.append(Snapshot(volume, one, holds_system, source))
    return found


def guest_of_snapshot(guest: Guest, snapshot: Snapshot) -> tuple[Guest, Mount]:
    """The guest as it is with a snapshot in the place of what it was made from, and that mount."""
    name = snapshot.volume.name
    beside = next(one for one in guest.mounts if one.subvolume and one.volume.name == name)
    place = next(
        (
            number
            for number, one in enumerate(guest.mounts)
            if one.subvolume and one.volume.name == name and one.subvolume.number == snapshot.source
        ),
        0,
    )
    mounts = list(guest.mounts)
    mounts[place] = view_of(
        mounts[place].path, beside.volume, beside.tree, snapshot.subvolume, beside.hidden
    )
    return Guest(mounts), mounts[place]


def find_apart(
    volume: Volume, tree: FileTree, mounted: Collection[int], snapshots: Sequence[Snapshot]
) -> list[Subvolume]:
    """Subvolumes with content that no mount shows, and that are no snapshots."""
    subvolumes = get_driver(volume).subvolumes(tree)
    known = {*mounted, *(one.subvolume.number for one in snapshots)}
    shown = [one for one in subvolumes if one.number in mounted]
    return [
        one
        for one in subvolumes
        if one.number not in known
        and not any(_lies_within(one, above) for above in shown)
        and _holds_files(volume, tree, one, subvolumes)
    ]


# -- inside


def _choose(roots: Sequence[Mount]) -> Mount | None:
    """The root that is started: the default one, or that whose own table of mounts names it."""
    subvolumes = [mount.subvolume for mount in roots if mount.subvolume]
    named = []
    for mount in roots:
        options = _root_options(Guest([mount]))
        names_one = any(option.startswith("subvol") for option in options)
        found = find_by_options(options, subvolumes)
        is_default = mount.subvolume is not None and mount.subvolume.is_default
        if is_default and (not names_one or found == mount.subvolume):
            return mount
        if names_one and found == mount.subvolume:
            named.append(mount)
    if len(named) == 1:
        return named[0]
    writable = [mount for mount in roots if mount.subvolume and not mount.subvolume.is_read_only]
    return writable[0] if len(writable) == 1 else None


def _root_options(guest: Guest) -> tuple[str, ...]:
    entries: list[MountEntry] = parse_fstab(guest.read_text("/etc/fstab"))
    return next((entry.options for entry in entries if entry.mount_point == "/"), ())


def _family(one: Subvolume, subvolumes: dict[int, Subvolume]) -> frozenset[int]:
    """The numbers of a subvolume, of what it is a snapshot of, of what that is one of, ..."""
    found = {one.number}
    number = one.snapshot_of
    while number in subvolumes and number not in found:
        found.add(number)
        number = subvolumes[number].snapshot_of
    return frozenset(found)


def _lies_within(one: Subvolume, above: Subvolume) -> bool:
    return one is not above and (not above.path or one.path.startswith(f"{above.path}/"))


def _holds_files(
    volume: Volume, tree: FileTree, one: Subvolume, subvolumes: Sequence[Subvolume]
) -> bool:
    """Whether a subvolume holds anything but folders, with others in them or not."""
    hidden = [other.number for other in subvolumes if other is not one]
    guest = Guest([view_of("/", volume, tree, one, hidden)])
    return any(facts.kind is not Kind.FOLDER for _path, facts in guest.walk("/"))


def _shown(mount: Mount) -> str:
    return mount.subvolume.path or "the topmost" if mount.subvolume else ""
