"""What a treatment does to one place: small values that a plan is made of.

A change is a pure value that knows its place and how it is carried out. It never holds a secret: a
file of accounts is rewritten by naming what goes, not by carrying its new content. Changes that
belong to one finder stand beside it (``linux/``, ``windows/``).
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable
from dataclasses import dataclass, field
from enum import IntEnum
from typing import TYPE_CHECKING, ClassVar

from zeroseal.blocks.patches import Patch
from zeroseal.blocks.store import Store
from zeroseal.guests.guest import Guest
from zeroseal.traces.key_edits import KeyEdit, edit_keys
from zeroseal.traces.model import Treatment

if TYPE_CHECKING:
    from zeroseal.guests.windows.hives import HiveSet


class Phase(IntEnum):
    """When a change is carried out.

    Stale ranges come before the volumes are opened for editing; a new security identifier after
    all that is removed.
    """

    PATCH = 0
    EDIT = 1
    LAST = 2


@dataclass(frozen=True)
class Workbench:
    """What changes are carried out on.

    Attributes:
        guest: opened for editing, but in the first phase.
        store_of: gives the store of a volume by its name, the disk's for an empty name.
        hives: of a Windows, being changed.
        now: the moment that what changes is given, seconds since 1970.
        snapshot_guests: the guest with a snapshot in it, by the snapshot's number; made as needed.
    """

    guest: Guest
    store_of: Callable[[str], Store]
    hives: HiveSet | None = None
    now: int = 0
    snapshot_guests: dict[int, Guest] = field(default_factory=dict)

    def get_hives(self) -> HiveSet:
        """The hives; only changes of a Windows ask for them."""
        if self.hives is None:
            raise TypeError("the guest has no registry")
        return self.hives


class Change(ABC):
    """What is done to one place.

    Attributes:
        phase: when it is done.
        treatment: what it is called where the catalogue's entry says less; None for the entry's.
        has_size: whether it is about bytes that are counted, of files or of parts of a volume.
    """

    phase: ClassVar[Phase] = Phase.EDIT
    has_size: ClassVar[bool] = False
    treatment: ClassVar[Treatment | None] = None

    @property
    @abstractmethod
    def place(self) -> str:
        """The path, the key or the volume's name that it is about."""

    @abstractmethod
    def apply(self, bench: Workbench) -> None:
        """Carries it out."""

    def claim(self, claimed: set[str]) -> bool:
        """Whether no earlier change takes the whole place; claims it where this one does.

        Args:
            claimed: paths that are gone, with all below them.
        """
        del claimed
        return True


def is_claimed(path: str, claimed: set[str]) -> bool:
    """Whether a path, or a folder that it lies in, is claimed."""
    while path:
        if path in claimed:
            return True
        path = path.rpartition("/")[0]
    return False


@dataclass(frozen=True)
class PathChange(Change):
    """A change of a file or folder of the guest.

    Attributes:
        takes_place: whether what it held is gone then, with all below it.
    """

    path: str
    has_size: ClassVar[bool] = True
    takes_place: ClassVar[bool] = False

    def claim(self, claimed: set[str]) -> bool:  # noqa: D102 - as in Change
        if is_claimed(self.path, claimed):
            return False
        if self.takes_place:
            claimed.add(self.path)
        return True

    @property
    def place(self) -> str:
        """The path."""
        return self.path


@dataclass(frozen=True)
class RemovePath(PathChange):
    """Removes a file, link or whole folder of the guest."""

    treatment = Treatment.REMOVE
    takes_place = True

    def apply(self, bench: Workbench) -> None:  # noqa: D102 - as in Change
        bench.guest.remove(self.path)


@dataclass(frozen=True)
class EmptyFile(PathChange):
    """Cuts a file of the guest to nothing; owner, mode and attributes stay."""

    takes_place = True

    def apply(self, bench: Workbench) -> None:  # noqa: D102
        bench.guest.replace_content(self.path, b"")


@dataclass(frozen=True)
class ReplaceContent(PathChange):
    """Gives a file of the guest other content; owner, mode and attributes stay."""

    content: str

    def apply(self, bench: Workbench) -> None:  # noqa: D102
        bench.guest.replace_content(self.path, self.content.encode())


@dataclass(frozen=True)
class PutFile(PathChange):
    """Makes a file with its folders, or gives one that is there this content."""

    content: str

    def apply(self, bench: Workbench) -> None:  # noqa: D102
        bench.guest.put_file(self.path, self.content.encode(), 0o644)


@dataclass(frozen=True)
class RenamePath(PathChange):
    """Gives a file or folder another name in its folder."""

    new_name: str

    def apply(self, bench: Workbench) -> None:  # noqa: D102
        bench.guest.rename(self.path, self.new_name)


@dataclass(frozen=True)
class TextChange(PathChange):
    """Rewrites a text file of the guest.

    A finder asks ``edited`` whether there is anything to change; a plan is carried out by it.
    """

    treatment = Treatment.REWRITE

    @abstractmethod
    def edited(self, text: str) -> str:
        """What the change makes of a text; the same text where there is nothing to do."""

    def applies_to(self, guest: Guest) -> bool:
        """Whether there is anything to change in a guest."""
        text = guest.read_text(self.path)
        return self.edited(text) != text

    def apply(self, bench: Workbench) -> None:  # noqa: D102
        text = self.edited(bench.guest.read_text(self.path))
        bench.guest.replace_content(self.path, text.encode("utf-8", "surrogateescape"))


@dataclass(frozen=True)
class EditKeys(TextChange):
    """Drops or replaces keys of a text file."""

    edit: KeyEdit

    def edited(self, text: str) -> str:  # noqa: D102
        return edit_keys(text, self.edit)


class VolumeChange(Change):
    """A change of what lies beside the files of a volume.

    Attributes:
        stale_bytes: how much of it is not as it should be.
    """

    has_size = True

    @property
    @abstractmethod
    def stale_bytes(self) -> int:
        """How much it is."""


@dataclass(frozen=True)
class WritePatches(VolumeChange):
    """Makes stale ranges as they should be: zeros, or what the format has in their place.

    Attributes:
        where: what they are part of, as a plan names it.
        volume: the name of the volume that they lie on; empty where it is the disk itself.
        patches: the ranges, exactly as they will be written.
    """

    where: str
    volume: str
    patches: tuple[Patch, ...]
    phase = Phase.PATCH

    @property
    def place(self) -> str:
        """What they are part of."""
        return self.where

    @property
    def stale_bytes(self) -> int:
        """Of all of them."""
        return sum(patch.stale_bytes for patch in self.patches)

    def apply(self, bench: Workbench) -> None:  # noqa: D102
        store = bench.store_of(self.volume)
        for patch in self.patches:
            patch.apply(store)


@dataclass(frozen=True)
class ForgetFileChanges(VolumeChange):
    """Empties a volume's journal of changes to its files, and what names the volume in it."""

    volume: str
    size_bytes: int

    @property
    def place(self) -> str:
        """The volume."""
        return self.volume

    @property
    def stale_bytes(self) -> int:
        """The size of the journal."""
        return self.size_bytes

    def apply(self, bench: Workbench) -> None:  # noqa: D102
        guest = bench.guest
        mount = next(item for item in guest.volume_mounts if item.volume.name == self.volume)
        mount.driver.forget_changes(guest.editor_of(mount))
