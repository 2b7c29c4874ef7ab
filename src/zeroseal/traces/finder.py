"""Finders: traces that no pattern can name. A class each, with its name, what it finds, and how.

A finder is known by the name that its entry of the catalogue has. It is enough to write the class:
being defined in a module that ``finders`` imports makes it known.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator
from typing import Any, ClassVar, Generic, TypeVar

from zeroseal.traces.changes import Change
from zeroseal.traces.context import FindContext

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
