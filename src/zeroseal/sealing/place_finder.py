"""From a byte of the disk to what it belongs to: a file, a folder, or a structure by its name."""

from __future__ import annotations

from zeroseal.blocks.pieced import PiecedStore
from zeroseal.blocks.store import SliceStore
from zeroseal.filesystems.tree import FileTree, Kind
from zeroseal.guests.guest import Mount
from zeroseal.guests.system import GuestSystem
from zeroseal.sealing.inspection import Inspection
from zeroseal.volumes.volume import LVM_KIND, Volume

LVM_METADATA = "LVM metadata of "
NAMES_SUFFIX = " (names)"  # a place in the names of a folder


class PlaceFinder:
    """Answers for one disk; what a volume's files hold is listed at the first question about it."""

    def __init__(self, inspection: Inspection) -> None:
        self._inspection = inspection
        self._paths: dict[str, dict[int, str]] = {}
        self._unmounted = tuple(_name_of(volume) for volume in inspection.unmounted)

    def is_unused(self, place: str) -> bool:
        """Whether nothing that the guest could read lies at a place that ``place_of`` named."""
        return not place.startswith(("/", *self._unmounted))

    def place_of(self, offset: int) -> str:
        """A path of the guest (``/etc (names)`` for a folder), or where else on the disk."""
        for volume in reversed(
            self._inspection.disk.volumes
        ):  # logical volumes before their partition
            inside = _offset_in(volume, offset)
            if inside is not None:
                return self._place_on(volume, inside)
        return f"between the volumes, at byte {offset}"

    def _place_on(self, volume: Volume, offset: int) -> str:
        for mount in self._inspection.guest.mounts:
            if mount.volume.name == volume.name:
                return self._place_by_node(mount, offset)
        if volume.content.kind == LVM_KIND:
            return f"{LVM_METADATA}{volume.name}"
        return f"{_name_of(volume)}, at its byte {offset}"

    def _place_by_node(self, mount: Mount, offset: int) -> str:
        name, inventory = mount.volume.name, self._inspection.inventory_of(mount)
        owner = inventory.owner_of(offset)
        if owner is not None:
            if name not in self._paths:
                self._paths[name] = self._paths_on(name)
            path = self._paths[name].get(owner)
            if path:
                return path
        return f"{name}, {inventory.describe(offset)}, at its byte {offset}"

    def _paths_on(self, volume: str) -> dict[int, str]:
        """A path of each node of a volume that a mount shows."""
        found: dict[int, str] = {}
        for mount in self._inspection.guest.mounts:
            if mount.volume.name == volume:
                found = _paths_by_node(mount.tree, mount.path.rstrip("/")) | found
        return found


def _name_of(volume: Volume) -> str:
    return f"{volume.name} ({volume.content.kind})"


def _offset_in(volume: Volume, offset: int) -> int | None:
    """Where a byte of the disk lies on a volume; None where it does not."""
    if not isinstance(volume.store, PiecedStore):
        inside = offset - volume.offset_bytes
        return inside if 0 <= inside < volume.size_bytes else None
    position = 0
    for piece in volume.store.pieces:
        if isinstance(piece.store, SliceStore):
            start = piece.store.offset_bytes + piece.offset_bytes
            if start <= offset < start + piece.length:
                return position + offset - start
        position += piece.length
    return None


def _paths_by_node(tree: FileTree, mount_path: str) -> dict[int, str]:
    """A path of each node that has a name; of a folder, with the suffix for its names."""
    found = {tree.root: (mount_path or "/") + NAMES_SUFFIX}
    pending = [(mount_path, tree.root)]
    while pending:
        path, node = pending.pop()
        for entry in tree.list_folder(node):
            name = f"{path}/{entry.name.decode('utf-8', 'backslashreplace')}"
            if entry.kind is Kind.FOLDER and entry.node not in found:
                pending.append((name, entry.node))
                name += NAMES_SUFFIX
            found.setdefault(entry.node, name)
    return found


def is_shipped(system: GuestSystem, place: str) -> bool:
    """Whether a place, as a search names it, is as its package brought it."""
    return system.is_shipped(place.removesuffix(NAMES_SUFFIX), place.endswith(NAMES_SUFFIX))
