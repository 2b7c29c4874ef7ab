"""A root file system that lies on no volume: a folder of the host, or a tar archive."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from typing import TYPE_CHECKING, Any

from zeroseal.blocks.patches import Patch
from zeroseal.blocks.store import Store
from zeroseal.filesystems.driver import VolumeDriver
from zeroseal.filesystems.inventory import Inventory, Part, PlaceNames
from zeroseal.filesystems.tree import EditableTree, Problem
from zeroseal.volumes.volume import Content

if TYPE_CHECKING:
    from zeroseal.filesystems.plain.tree import PlainTree

TREE_KIND = "tree"


class PlainDriver(VolumeDriver["PlainTree"]):
    """See ``VolumeDriver``; there are no bytes beneath the files."""

    name = "tree"
    kinds = (TREE_KIND,)
    checker = ""
    holds_root_of = ("linux",)
    has_volume = False

    def recognise(self, store: Store) -> Content | None:  # noqa: D102 - as in VolumeDriver
        del store
        return None

    def read(self, store: Store, where: str) -> PlainTree:
        """It is opened by its path: ``folder.FolderSource``, ``tar.TarSource``."""
        raise TypeError(f"{where} is no volume")

    def edit(  # noqa: D102
        self, tree: PlainTree, now: int, zero_removed: bool = True
    ) -> EditableTree:
        del now, zero_removed  # edits are noted in the table that was read
        return tree

    def take_inventory(self, tree: PlainTree) -> Inventory[Any]:  # noqa: D102
        return _NoInventory(tree)

    def check(self, tree: PlainTree) -> list[Problem]:  # noqa: D102
        del tree
        return []

    def used_share(self, tree: PlainTree) -> float:  # noqa: D102
        del tree
        return 0.0

    def find_owned(  # noqa: D102
        self, tree: PlainTree, uids: Collection[int], in_acls: bool
    ) -> dict[int, int]:
        if in_acls:
            return {}
        return {no: node.uid for no, node in tree.nodes.items() if node.uid in uids}


class _NoInventory(Inventory["PlainTree"]):
    """Nothing lies beside the files."""

    def _find(self, part: Part) -> Iterable[Patch]:
        del part
        return ()

    def _name_places(self) -> PlaceNames:
        raise TypeError("a tree has no bytes")
