"""Guest systems: Linux and Windows behind one protocol, for the rooms above.

Which one a guest is, is decided once, when it is opened (``open.py``).
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from zeroseal.blocks.search import Needle
from zeroseal.guests.components import Component, Contents, collect
from zeroseal.guests.guest import Guest
from zeroseal.guests.identity_value import IdentityValue
from zeroseal.sentences import clean

if TYPE_CHECKING:
    from zeroseal.guests.windows.system import WindowsSystem


@dataclass(frozen=True)
class SystemFacts:
    """What a guest says of itself.

    Attributes:
        family: ``linux`` or ``windows``.
        name: the long name, such as ``Debian GNU/Linux 12 (bookworm)``.
        os_id: the short name of os-release(5), such as ``debian``.
        version: VERSION_ID; may be empty.
        host_name: the static host name; may be empty.
    """

    family: str
    name: str
    os_id: str
    version: str
    host_name: str


class GuestSystem(ABC):
    """The operating system of a guest: who it is, its accounts, services, what its makers brought.

    Attributes:
        family: as ``SystemFacts.family``.
        guest: its tree.
        packed_places: folders where compressed files are looked into, but for what packages
            brought.
        word_places: folders where short names are looked for as words, beside homes; none where
            that is not done.
    """

    family: ClassVar[str]
    packed_places: ClassVar[tuple[str, ...]]
    word_places: ClassVar[tuple[str, ...]] = ()

    def __init__(self, guest: Guest) -> None:
        self.guest = guest

    @property
    @abstractmethod
    def facts(self) -> SystemFacts:
        """What the guest says of itself."""

    @property
    @abstractmethod
    def account_names(self) -> list[str]:
        """The names of all accounts, the system's own among them."""

    @property
    @abstractmethod
    def human_names(self) -> list[str]:
        """The names of accounts that people have."""

    @property
    @abstractmethod
    def human_homes(self) -> list[str]:
        """The homes of accounts that people have."""

    @abstractmethod
    def fold(self, name: str) -> str:
        """A name as it is compared with others."""

    @abstractmethod
    def is_enabled(self, service: str) -> bool:
        """Whether a start of the guest starts a service."""

    @abstractmethod
    def installed(self) -> Collection[str]:
        """The names of packages or programs that are installed."""

    @abstractmethod
    def components(self) -> Iterator[Component]:
        """Yields everything that is installed."""

    @abstractmethod
    def components_changed_at(self) -> int:
        """When something was last installed, updated or removed; seconds since 1970, 0: unknown."""

    def read_contents(self) -> Contents:
        """Everything that is installed, as a bill of materials has it."""
        facts = self.facts
        return Contents(
            clean(facts.name),
            clean(facts.os_id or facts.family),
            clean(facts.version),
            self.components_changed_at(),
            collect(self.components()),
        )

    @abstractmethod
    def is_shipped(self, path: str, is_names: bool = False) -> bool:
        """Whether a file is as its package brought it, or a folder's names are the packages'.

        Args:
            path: in the guest.
            is_names: whether the names in the folder are meant.
        """

    @abstractmethod
    def identity_values(self) -> Iterator[IdentityValue]:
        """Yields what tells the machine from another, fit to be shown."""

    @abstractmethod
    def describe_start(self, later: Iterable[str]) -> str:
        """What shows that the machine was started, half a sentence; empty where nothing does.

        Args:
            later: the paths that were changed after a seal.
        """

    def places_inside(self, path: str, needles: Collection[Needle]) -> list[str]:
        """Where inside a file a value lies, for formats that have such places."""
        del path, needles
        return []

    def check_readable(self) -> None:  # noqa: B027 - most have nothing to say
        """Raises DamagedError where what the system says of itself cannot be read."""


def signs_in(paths: Iterable[str], signs: Iterable[tuple[str, str]]) -> list[str]:
    """The names of the signs, (beginning of a path, name), that some paths are."""
    listed = list(paths)
    return [name for start, name in signs if any(path.startswith(start) for path in listed)]


def as_windows(system: GuestSystem) -> WindowsSystem | None:
    """A guest's system where it is a Windows."""
    if system.family != "windows":
        return None
    from zeroseal.guests.windows.system import WindowsSystem  # of no use to a Linux

    assert isinstance(system, WindowsSystem)
    return system
