"""Finders: traces that no pattern can name. A class each, with its name, what it finds, and how.

A finder is known by the name that its entry of the catalogue has. It is enough to write the class:
being defined in a module that ``finders`` imports makes it known.
"""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import Any, ClassVar, Generic, TypeVar

from zeroseal.filesystems.inventory import Inventory
from zeroseal.guests.guest import Guest, Mount
from zeroseal.traces.changes import Change
from zeroseal.volumes.gaps import Gap
from zeroseal.volumes.lvm.read import PhysicalVolume
from zeroseal.volumes.volume import Volume


@dataclass(frozen=True)
class FindContext(ABC):
    """What finders for any guest look at.

    Attributes:
        swaps: swap volumes of the disk.
        inventory_of: gives the inventory of a mounted volume.
        gaps: ranges of the disk that belong to nothing.
        physical_volumes: those of LVM.
        retained: names of accounts that stay, as they are compared.
        accounts_stay: whether the removal of accounts is skipped as a whole.
        asks_dhcp: whether static addresses become DHCP.
    """

    guest: Guest
    swaps: list[Volume]
    inventory_of: Callable[[Mount], Inventory[Any]]
    gaps: tuple[Gap, ...] = ()
    physical_volumes: tuple[PhysicalVolume, ...] = ()
    retained: frozenset[str] = frozenset()
    accounts_stay: bool = False
    asks_dhcp: bool = False

    @abstractmethod
    def spell_out(self, pattern: str) -> Iterator[str]:
        """The patterns of the guest's tree that one of the catalogue stands for."""

    @abstractmethod
    def below_homes(self, patterns: Iterable[str]) -> Iterator[str]:
        """Patterns below the home of every account that stays."""

    @property
    def host_words(self) -> re.Pattern[str] | None:
        """The names that the guest has had, as words in lower case; None where none is looked for.

        A log that is named after the host goes as a whole.
        """
        return None


Found = tuple[Change, str]
"""A change, and its evidence: what shows the trace, never the secret itself; may be empty."""
ContextT = TypeVar("ContextT", bound=FindContext)
_BY_NAME: dict[str, Finder[Any]] = {}


class Finder(ABC, Generic[ContextT]):
    """Names the places of one trace.

    Attributes:
        name: as the catalogue names it.
    """

    name: ClassVar[str]

    def __init_subclass__(cls) -> None:
        super().__init_subclass__()
        if "name" not in cls.__dict__:
            return  # what several finders have in common
        if cls.name in _BY_NAME:
            raise TypeError(f"there are two finders {cls.name!r}")
        _BY_NAME[cls.name] = cls()

    @abstractmethod
    def find(self, context: ContextT) -> Iterator[Found]:
        """Yields what is to be done where, with the evidence."""


def defined_finders() -> dict[str, Finder[Any]]:
    """All finders that are defined, by name."""
    return _BY_NAME
