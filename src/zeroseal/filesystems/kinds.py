"""The file systems that are read and changed here, by the kind that a volume was recognised as."""

from __future__ import annotations

from collections.abc import Callable, Collection
from typing import Protocol

from zeroseal.blocks.store import Store
from zeroseal.filesystems.cleaner import Cleaner
from zeroseal.filesystems.ext import owners as ext_owners
from zeroseal.filesystems.ext.check import check_volume as check_ext
from zeroseal.filesystems.ext.cleaner import ExtCleaner
from zeroseal.filesystems.ext.edit import ExtEditor
from zeroseal.filesystems.ext.places import PlaceNames as ExtPlaces
from zeroseal.filesystems.ext.read import ExtTree
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.filesystems.fat.check import check_volume as check_fat
from zeroseal.filesystems.fat.cleaner import FatCleaner
from zeroseal.filesystems.fat.edit import FatEditor
from zeroseal.filesystems.fat.read import FatTree
from zeroseal.filesystems.ntfs.check import check_volume as check_ntfs
from zeroseal.filesystems.ntfs.cleaner import NtfsCleaner
from zeroseal.filesystems.ntfs.edit import NtfsEditor
from zeroseal.filesystems.ntfs.places import PlaceNames as NtfsPlaces
from zeroseal.filesystems.ntfs.read import NtfsTree
from zeroseal.filesystems.tree import EditableTree, FileTree, Problem
from zeroseal.filesystems.xfs import owners as xfs_owners
from zeroseal.filesystems.xfs.check import check_volume as check_xfs
from zeroseal.filesystems.xfs.cleaner import XfsCleaner
from zeroseal.filesystems.xfs.edit import XfsEditor
from zeroseal.filesystems.xfs.places import PlaceNames as XfsPlaces
from zeroseal.filesystems.xfs.read import XfsTree
from zeroseal.filesystems.xfs.volume import XfsVolume

EXT, XFS, FAT, NTFS = "ext", "xfs", "vfat", "ntfs"
CHECKERS = {EXT: "e2fsck", XFS: "xfs_repair", FAT: "fsck.fat", NTFS: "chkdsk"}
_READERS: dict[str, Callable[[Store, str], FileTree]] = {
    EXT: ExtTree,
    XFS: XfsTree,
    FAT: FatTree,
    NTFS: NtfsTree,
}
_EDITORS: dict[str, Callable[[Store, int, str, bool], EditableTree]] = {
    EXT: ExtEditor,
    XFS: XfsEditor,
    FAT: FatEditor,
    NTFS: NtfsEditor,
}
_CLEANERS: dict[str, Callable[[Store, str], Cleaner]] = {
    EXT: ExtCleaner,
    XFS: XfsCleaner,
    FAT: FatCleaner,
    NTFS: NtfsCleaner,
}
_CHECKS = {EXT: check_ext, XFS: check_xfs, FAT: check_fat, NTFS: check_ntfs}


def family_of(kind: str) -> str:
    """``ext`` for ext2, ext3 and ext4; other kinds are their own family."""
    return EXT if kind in ("ext2", "ext3", "ext4") else kind


def open_tree(kind: str, store: Store, where: str) -> FileTree:
    """Opens a file system for reading.

    Raises:
        ImageError, RefusedError: it cannot be read.
    """
    return _READERS[family_of(kind)](store, where)


def open_editor(
    kind: str, store: Store, now: int, where: str, zero_removed: bool = True
) -> EditableTree:
    """Opens a file system for changing.

    Raises:
        ImageError, RefusedError: it cannot be changed.
    """
    return _EDITORS[family_of(kind)](store, now, where, zero_removed)


def open_cleaner(kind: str, store: Store, where: str) -> Cleaner:
    """What lies beside the files of a volume."""
    return _CLEANERS[family_of(kind)](store, where)


def check_file_system(kind: str, store: Store, where: str) -> list[Problem]:
    """What our own consistency checker finds wrong."""
    return _CHECKS[family_of(kind)](store, where)


class PlaceNames(Protocol):
    """Says of a byte of a volume what it belongs to."""

    def owner_of(self, offset: int) -> int | None:
        """The node whose content, names or record it is; None for what belongs to none."""

    def describe(self, offset: int) -> str:
        """The structure that it lies in."""


def place_names(tree: FileTree) -> PlaceNames | None:
    """Names the places of a volume; None where the file system has no numbers of nodes."""
    match tree:
        case ExtTree():
            return ExtPlaces(tree.volume)
        case XfsTree():
            return XfsPlaces(tree.volume)
        case NtfsTree():
            return NtfsPlaces(tree.volume)
        case _:
            return None


def find_owned_nodes(
    kind: str, store: Store, where: str, uids: Collection[int], in_acls: bool
) -> dict[int, int]:
    """Nodes in use that belong to some users, or whose access lists name them: {node: uid}."""
    if family_of(kind) == XFS:
        xfs = XfsVolume(store, where)
        return xfs_owners.find_in_acls(xfs, uids) if in_acls else xfs_owners.find_owned(xfs, uids)
    ext = ExtVolume(store, where)
    return ext_owners.find_in_acls(ext, uids) if in_acls else ext_owners.find_owned(ext, uids)


def used_share(kind: str, store: Store, where: str) -> float:
    """How much of a Linux file system is in use, from 0 to 1."""
    if family_of(kind) == XFS:
        xfs = XfsVolume(store, where).superblock
        return 1 - xfs.free_blocks / xfs.blocks
    volume = ExtVolume(store, where)
    free = volume.superblock.free_blocks_lo | volume.superblock.free_blocks_hi << 32
    return 1 - free / volume.block_count
