"""What a file system is and can: one driver each, in ``filesystems/NAME/driver.py``.

The rooms above ask the driver of a volume (``drivers.driver_of``) and no one else. A driver's
modules are imported when it is first asked for them: a command that looks at no disk, or at a disk
without XFS, starts without.
"""

from __future__ import annotations

import uuid
from abc import ABC, abstractmethod
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, ClassVar, Generic, NamedTuple, TypeVar

from zeroseal.blocks.store import Store
from zeroseal.filesystems.tree import EditableTree, FileTree, Problem, Subvolume
from zeroseal.volumes.volume import Content

if TYPE_CHECKING:
    from zeroseal.blocks.search import Searcher
    from zeroseal.filesystems.inventory import Inventory

TreeT = TypeVar("TreeT", bound=FileTree)


@dataclass(frozen=True)
class Recovery:
    """What the recovery of a volume did.

    Attributes:
        where: the volume's name.
        transactions: how many were found committed, and ``blocks`` how many blocks they wrote.
        orphans: inodes that were finished off.
    """

    where: str
    transactions: int
    blocks: int
    orphans: int


@dataclass(frozen=True)
class VolumeState:
    """What a volume says of itself, beside its files.

    Attributes:
        volume: its name on the disk.
        flags: its state in words of the format.
        log: ``closed``, ``empty`` or ``open``.
        against_changing: why it may not be changed as it is; empty where it may.
        problem: why it could not be read; empty where it could.
    """

    volume: str
    label: str = ""
    version: str = ""
    flags: tuple[str, ...] = ()
    log: str = ""
    size_bytes: int = 0
    free_bytes: int = 0
    cluster_bytes: int = 0
    sleeps: bool = False
    against_changing: str = ""
    problem: str = ""


class Weakness(NamedTuple):
    """Something that stands against a seal though the volume is sound; ``code`` names its kind."""

    code: str
    text: str


class HiddenHit(NamedTuple):
    """A searched value that the bytes of a volume do not show; ``path`` is within the volume."""

    value_no: int
    path: str


class VolumeDriver(ABC, Generic[TreeT]):
    """One file system.

    Attributes:
        name: how messages and code name it.
        kinds: the kinds of ``Content`` that it recognises; the first is its own name there.
        checker: the program that checks it in a guest.
        grower: the program that makes it larger, or no name where nothing here would use one.
        is_weak_signature: whether other formats may bear its signature too, so that it is asked
            after them.
        holds_root_of: the guest families (``linux``, ``windows``) whose root may lie on it.
        is_read_by_windows: whether Windows sees it as a volume of its own.
        has_journal: whether it has a journal and a table of its files.
        is_sealed_in_place: whether a seal in place needs no word of its own for it.
        is_judged_unread: whether a volume that cannot be opened is a fault of the disk; else it is
            left alone.
        tells_state: whether ``read_state`` says anything.
        grows_here: whether ``grow`` can do that.
        has_volume: whether it lies on a volume; a folder or an archive does not.
    """

    name: ClassVar[str]
    kinds: ClassVar[tuple[str, ...]]
    checker: ClassVar[str]
    grower: ClassVar[str] = ""
    is_weak_signature: ClassVar[bool] = False
    holds_root_of: ClassVar[tuple[str, ...]] = ()
    is_read_by_windows: ClassVar[bool] = False
    has_journal: ClassVar[bool] = False
    is_sealed_in_place: ClassVar[bool] = True
    is_judged_unread: ClassVar[bool] = True
    tells_state: ClassVar[bool] = False
    grows_here: ClassVar[bool] = False
    has_volume: ClassVar[bool] = True

    @abstractmethod
    def recognise(self, store: Store) -> Content | None:
        """What lies on a store, where that is this file system."""

    @abstractmethod
    def read(self, store: Store, where: str) -> TreeT:
        """Opens it for reading.

        Raises:
            ImageError, RefusedError: it cannot be read.
        """

    @abstractmethod
    def edit(self, tree: TreeT, now: int, zero_removed: bool = True) -> EditableTree:
        """The same volume, to be changed.

        Args:
            tree: as ``read`` gave it; what was written beneath it since is seen.
            now: the time that changes are given, seconds since 1970.
            zero_removed: whether content and names that go are zeroed.

        Raises:
            ImageError, RefusedError: it cannot be changed.
        """

    @abstractmethod
    def take_inventory(self, tree: TreeT) -> Inventory[Any]:
        """What is in use by whom, free, and stale."""

    @abstractmethod
    def check(self, tree: TreeT) -> list[Problem]:
        """What our own consistency checker finds wrong; it shares no code with the editor."""

    @abstractmethod
    def used_share(self, tree: TreeT) -> float:
        """How much of the volume is in use, from 0 to 1."""

    def stated_bytes(self, tree: TreeT) -> int:
        """How large the file system calls itself; 0 where it says nothing."""
        del tree
        return 0

    def check_editable(self, tree: TreeT) -> None:
        """Raises ImageError or RefusedError where a volume can be read but not changed."""

    def subvolumes(self, tree: TreeT) -> list[Subvolume]:
        """The parts of a volume that can be mounted on their own; none where it has no such."""
        del tree
        return []

    def view(self, tree: TreeT, node: int, hidden: Collection[int] = ()) -> TreeT:
        """The same tree with another folder as its root; what is changed in one is so in all.

        Args:
            tree: of the volume.
            node: the root.
            hidden: numbers of subvolumes that are shown as empty folders.
        """
        raise NotImplementedError(self.name, tree, node, hidden)

    def new_volume_id(self) -> str:
        """A random UUID or serial number, as ``Content.uuid`` has it."""
        return str(uuid.uuid4())

    def set_volume_id(self, store: Store, where: str, new: str) -> None:
        """Gives a volume another UUID or serial number; its contents stay.

        Args:
            store: the volume, which must be sound and closed.
            where: its name, for messages.
            new: as ``new_volume_id`` makes them.

        Raises:
            ImageError: it cannot be read.
            RefusedError: something on it depends on the old one.
        """
        raise NotImplementedError(self.name, store, where, new)

    def grow(self, store: Store, where: str) -> int:
        """Lets a volume use all of its store; returns the new size of the file system in bytes.

        Args:
            store: the volume, which is larger than its file system, sound and closed.
            where: its name, for messages.

        Raises:
            ImageError: it cannot be read.
            UnsupportedError: it cannot be grown here.
        """
        raise NotImplementedError(self.name, store, where)

    def drop_subvolume(self, editor: EditableTree, number: int) -> None:
        """Removes a subvolume with all that it holds.

        Raises:
            RefusedError: other subvolumes lie within it.
        """
        raise NotImplementedError(self.name, editor, number)

    def is_closed(self, tree: TreeT) -> bool:
        """Whether it can be judged; one that was not closed may not be, and is left alone."""
        del tree
        return True

    def find_owned(self, tree: TreeT, uids: Collection[int], in_acls: bool) -> dict[int, int]:
        """Nodes in use of some users, or whose access lists name them: {node: uid}."""
        del tree, uids, in_acls
        return {}

    def recover(self, store: Store, where: str) -> Recovery | None:
        """Recovers a volume that was not shut down cleanly; None where it was.

        Raises:
            ImageError, RefusedError: it cannot be recovered.
        """
        del store, where
        return None

    def find_weaknesses(self, tree: TreeT, where: str) -> Iterator[Weakness]:
        """Yields what stands against a seal though the volume is sound."""
        del tree, where
        return iter(())

    def stored_changes(self, tree: TreeT) -> int:
        """How many bytes a journal of changes takes that an edit has to empty."""
        del tree
        return 0

    def forget_changes(self, editor: EditableTree) -> None:
        """Empties the journal of changes."""

    def read_state(self, tree: TreeT) -> VolumeState | None:
        """What a volume says of itself; None where the format says nothing worth a line."""
        del tree
        return None

    def is_encrypted(self, tree: TreeT, node: int) -> bool:
        """Whether the file system has encrypted a file's content."""
        del tree, node
        return False

    def iter_descriptors(self, tree: TreeT) -> Iterator[bytes]:
        """Yields the security descriptors that its files may have, each once.

        Raises:
            ImageError: they cannot be read.
        """
        del tree
        return iter(())

    def replace_bytes(self, editor: EditableTree, pairs: Sequence[tuple[bytes, bytes]]) -> None:
        """Puts other bytes of the same lengths in the place of some, also in its own structures."""

    def search_hidden(self, tree: TreeT, searcher: Searcher) -> tuple[list[HiddenHit], list[str]]:
        """Searches what the bytes of a volume do not show.

        Returns:
            What was found, and sentences about what could not be read.
        """
        del tree, searcher
        return [], []
