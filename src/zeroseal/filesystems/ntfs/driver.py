"""NTFS, for the rooms above."""

from __future__ import annotations

import secrets
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

from zeroseal.blocks.store import Store
from zeroseal.errors import ZeroSealError
from zeroseal.filesystems.driver import HiddenHit, VolumeDriver, VolumeState
from zeroseal.filesystems.tree import EditableTree, Problem
from zeroseal.volumes.volume import Content

if TYPE_CHECKING:
    from zeroseal.blocks.search import Searcher
    from zeroseal.filesystems.inventory import Inventory
    from zeroseal.filesystems.ntfs.read import NtfsTree


class NtfsDriver(VolumeDriver["NtfsTree"]):
    """See ``VolumeDriver``."""

    name = "NTFS"
    kinds = ("ntfs",)
    checker = "chkdsk"
    is_judged_unread = False
    tells_state = True
    holds_root_of = ("windows",)
    is_read_by_windows = True
    has_journal = True
    is_sealed_in_place = False  # no chkdsk judged our changes here

    def recognise(self, store: Store) -> Content | None:  # noqa: D102 - as in VolumeDriver
        if store.size_bytes < 512 or store.read(3, 8) != b"NTFS    ":
            return None
        return Content("ntfs", f"{int.from_bytes(store.read(72, 8), 'little'):016X}")

    def read(self, store: Store, where: str) -> NtfsTree:  # noqa: D102
        from zeroseal.filesystems.ntfs.read import NtfsTree

        return NtfsTree(store, where)

    def edit(  # noqa: D102
        self, tree: NtfsTree, now: int, zero_removed: bool = True
    ) -> EditableTree:
        from zeroseal.filesystems.ntfs.edit import NtfsEditor

        volume = tree.volume
        return NtfsEditor(volume.store, now, volume.where, zero_removed, volume)

    def take_inventory(self, tree: NtfsTree) -> Inventory[Any]:  # noqa: D102
        from zeroseal.filesystems.ntfs.inventory import NtfsInventory

        return NtfsInventory(tree.volume)

    def check(self, tree: NtfsTree) -> list[Problem]:  # noqa: D102
        from zeroseal.filesystems.ntfs.check import check_opened

        return check_opened(tree.volume)

    def check_editable(self, tree: NtfsTree) -> None:  # noqa: D102
        from zeroseal.filesystems.ntfs.state import require_editable

        require_editable(tree)

    def used_share(self, tree: NtfsTree) -> float:  # noqa: D102
        from zeroseal.filesystems.ntfs.state import used_clusters

        return used_clusters(tree.volume) / tree.volume.cluster_count

    def is_closed(self, tree: NtfsTree) -> bool:  # noqa: D102
        from zeroseal.filesystems.ntfs.state import require_closed

        try:
            require_closed(tree.volume)
        except ZeroSealError:
            return False
        return True

    def stored_changes(self, tree: NtfsTree) -> int:  # noqa: D102
        from zeroseal.filesystems.ntfs.journals import stored_changes

        return stored_changes(tree.volume, tree.change_journal())

    def forget_changes(self, editor: EditableTree) -> None:  # noqa: D102
        from zeroseal.filesystems.ntfs.edit import NtfsEditor

        assert isinstance(editor, NtfsEditor)  # as ``edit`` made it
        editor.forget_changes()

    def read_state(self, tree: NtfsTree) -> VolumeState:  # noqa: D102
        from zeroseal.filesystems.ntfs.state import describe_volume

        return describe_volume(tree)

    def is_encrypted(self, tree: NtfsTree, node: int) -> bool:  # noqa: D102
        from zeroseal.filesystems.ntfs import layout

        return bool(tree.get_node(node).flags & layout.FILE_ENCRYPTED)

    def iter_descriptors(self, tree: NtfsTree) -> Iterator[bytes]:  # noqa: D102
        from zeroseal.filesystems.ntfs import layout
        from zeroseal.filesystems.ntfs.security import STREAM, iter_descriptors
        from zeroseal.filesystems.ntfs.streams import read_stream

        stream = tree.get_node(layout.SECURE).find(layout.DATA, STREAM)
        content = read_stream(tree.volume, stream) if stream else b""
        return (stored.content for stored in iter_descriptors(content))

    def replace_bytes(  # noqa: D102
        self, editor: EditableTree, pairs: Sequence[tuple[bytes, bytes]]
    ) -> None:
        from zeroseal.filesystems.ntfs.edit import NtfsEditor

        assert isinstance(editor, NtfsEditor)  # as ``edit`` made it
        editor.replace_bytes(pairs)

    def search_hidden(  # noqa: D102
        self, tree: NtfsTree, searcher: Searcher
    ) -> tuple[list[HiddenHit], list[str]]:
        from zeroseal.filesystems.ntfs.hidden import search_hidden

        return search_hidden(tree, searcher)

    def set_volume_id(self, store: Store, where: str, new: str) -> None:  # noqa: D102
        from zeroseal.filesystems.ntfs.volume_id import set_volume_id

        set_volume_id(store, where, int(new, 16).to_bytes(8, "little"))

    def new_volume_id(self) -> str:  # noqa: D102
        return secrets.token_hex(8).upper()
