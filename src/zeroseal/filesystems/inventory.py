"""The inventory of a volume: what of it is in use by whom, what is free, what is stale."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable
from enum import Enum
from functools import cached_property
from typing import Generic, Protocol, TypeVar

from zeroseal.blocks.patches import Patch


class Part(Enum):
    """Where old content stays beside the files."""

    JOURNAL = "journal"
    FREE_INODES = "free inodes"
    FREE_SPACE = "free space"
    SLACK = "slack"


class PlaceNames(Protocol):
    """Says of a byte of a volume what it belongs to."""

    def owner_of(self, offset_bytes: int) -> int | None:
        """The node whose content, names or record it is; None for what belongs to none."""

    def describe(self, offset_bytes: int) -> str:
        """The structure that it lies in."""


VolumeT = TypeVar("VolumeT")


class Inventory(ABC, Generic[VolumeT]):
    """What a volume's tables say, each part read when it is first asked for, and then kept."""

    def __init__(self, volume: VolumeT) -> None:
        self._volume = volume
        self._patches: dict[Part, tuple[Patch, ...]] = {}

    def patches(self, part: Part) -> tuple[Patch, ...]:
        """What is stale in a part; nothing where the volume has no such part, or it is clean.

        Raises:
            DamagedError: the volume contradicts itself.
        """
        if part not in self._patches:
            self._patches[part] = tuple(self._find(part))
        return self._patches[part]

    def stale_bytes(self, part: Part) -> int:
        """How much of a part is not as it should be."""
        return sum(patch.stale_bytes for patch in self.patches(part))

    @abstractmethod
    def _find(self, part: Part) -> Iterable[Patch]:
        """Finds what is stale in a part."""

    @abstractmethod
    def _name_places(self) -> PlaceNames:
        """Reads what belongs to whom."""

    @cached_property
    def _places(self) -> PlaceNames:
        return self._name_places()

    def owner_of(self, offset_bytes: int) -> int | None:
        """The node whose content, names or record a byte is; None for what belongs to none."""
        return self._places.owner_of(offset_bytes)

    def describe(self, offset_bytes: int) -> str:
        """The structure that a byte lies in."""
        return self._places.describe(offset_bytes)
