"""The file systems that are read and changed here, by the kind that a volume was recognised as.

One table says where the code of each is. A part of it is loaded when it is first needed: a command
that looks at no disk, or at a disk without XFS, starts without.
"""

from __future__ import annotations

from collections.abc import Collection
from functools import cache
from importlib import import_module
from typing import Any, NamedTuple, Protocol, cast

from zeroseal.blocks.store import Store
from zeroseal.filesystems.cleaner import Cleaner
from zeroseal.filesystems.tree import EditableTree, FileTree, Problem

EXT, XFS, FAT, NTFS = "ext", "xfs", "vfat", "ntfs"
CHECKERS = {EXT: "e2fsck", XFS: "xfs_repair", FAT: "fsck.fat", NTFS: "chkdsk"}


class _Parts(NamedTuple):
    """Where the code of a file system is: ``MODULE:NAME`` below this package."""

    tree: str  # (store, where) -> FileTree
    editor: str  # (store, now, where, zero_removed) -> EditableTree
    cleaner: str  # (store, where) -> Cleaner
    check: str  # (store, where) -> list[Problem]
    places: str  # (tree) -> PlaceNames
    is_closed: str = ""  # (store, where) -> bool; else it is judged whatever its state
    owned_nodes: str = ""  # (store, where, uids, in_acls) -> {node: uid}
    used_share: str = ""  # (store, where) -> float


_TABLE = {
    EXT: _Parts(
        tree="ext.read:ExtTree",
        editor="ext.edit:ExtEditor",
        cleaner="ext.cleaner:ExtCleaner",
        check="ext.check:check_volume",
        places="ext.places:places_of",
        owned_nodes="ext.owners:owned_nodes",
        used_share="ext.volume:used_share",
    ),
    XFS: _Parts(
        tree="xfs.read:XfsTree",
        editor="xfs.edit:XfsEditor",
        cleaner="xfs.cleaner:XfsCleaner",
        check="xfs.check:check_volume",
        places="xfs.places:places_of",
        owned_nodes="xfs.owners:owned_nodes",
        used_share="xfs.volume:used_share",
    ),
    FAT: _Parts(
        tree="fat.read:FatTree",
        editor="fat.edit:FatEditor",
        cleaner="fat.cleaner:FatCleaner",
        check="fat.check:check_volume",
        places="fat.places:PlaceNames",
        is_closed="fat.volume:is_closed",
        used_share="fat.volume:used_share",
    ),
    NTFS: _Parts(
        tree="ntfs.read:NtfsTree",
        editor="ntfs.edit:NtfsEditor",
        cleaner="ntfs.cleaner:NtfsCleaner",
        check="ntfs.check:check_volume",
        places="ntfs.places:places_of",
        is_closed="ntfs.state:is_closed",
        used_share="ntfs.state:used_share",
    ),
}


def family_of(kind: str) -> str:
    """``ext`` for ext2, ext3 and ext4; other kinds are their own family."""
    return EXT if kind in ("ext2", "ext3", "ext4") else kind


def open_tree(kind: str, store: Store, where: str) -> FileTree:
    """Opens a file system for reading.

    Raises:
        ImageError, RefusedError: it cannot be read.
    """
    return cast(FileTree, _load(_TABLE[family_of(kind)].tree)(store, where))


def open_editor(
    kind: str, store: Store, now: int, where: str, zero_removed: bool = True
) -> EditableTree:
    """Opens a file system for changing.

    Raises:
        ImageError, RefusedError: it cannot be changed.
    """
    editor = _load(_TABLE[family_of(kind)].editor)
    return cast(EditableTree, editor(store, now, where, zero_removed))


def open_cleaner(kind: str, store: Store, where: str) -> Cleaner:
    """What lies beside the files of a volume."""
    return cast(Cleaner, _load(_TABLE[family_of(kind)].cleaner)(store, where))


def check_file_system(kind: str, store: Store, where: str) -> list[Problem]:
    """What our own consistency checker finds wrong."""
    return cast(list[Problem], _load(_TABLE[family_of(kind)].check)(store, where))


def is_closed(kind: str, store: Store, where: str) -> bool:
    """Whether a file system can be judged; one of FAT or NTFS that was not closed cannot."""
    name = _TABLE[family_of(kind)].is_closed
    return not name or bool(_load(name)(store, where))


class PlaceNames(Protocol):
    """Says of a byte of a volume what it belongs to."""

    def owner_of(self, offset: int) -> int | None:
        """The node whose content, names or record it is; None for what belongs to none."""

    def describe(self, offset: int) -> str:
        """The structure that it lies in."""


def place_names(kind: str, tree: FileTree) -> PlaceNames | None:
    """Names the places of a volume; None where there is no volume beneath a tree."""
    parts = _TABLE.get(family_of(kind))
    return cast(PlaceNames, _load(parts.places)(tree)) if parts else None


def find_owned_nodes(
    kind: str, store: Store, where: str, uids: Collection[int], in_acls: bool
) -> dict[int, int]:
    """Nodes in use that belong to some users, or whose access lists name them: {node: uid}."""
    find = _load(_TABLE[family_of(kind)].owned_nodes)
    return cast(dict[int, int], find(store, where, uids, in_acls))


def used_share(kind: str, store: Store, where: str) -> float:
    """How much of a file system is in use, from 0 to 1."""
    return float(_load(_TABLE[family_of(kind)].used_share)(store, where))


@cache
def _load(reference: str) -> Any:
    module, _colon, name = reference.partition(":")
    return getattr(import_module(f"zeroseal.filesystems.{module}"), name)
