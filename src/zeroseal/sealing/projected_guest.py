"""What a clone will find in the guest once a plan is carried out."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass
from typing import Generic, TypeVar

from zeroseal.guests.guest import Guest
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.policy import Policy
from zeroseal.traces.changes import RemovePath
from zeroseal.traces.finder import FindContext
from zeroseal.traces.finding import Finding


class GonePaths(Collection[str]):
    """Paths that a plan removes, and all that lies beneath them."""

    def __init__(self, paths: Collection[str]) -> None:
        self._paths = frozenset(paths)

    def __contains__(self, path: object) -> bool:
        text = str(path)
        while text:
            if text in self._paths:
                return True
            text = text.rpartition("/")[0]
        return False

    def __iter__(self) -> Iterator[str]:
        return iter(self._paths)

    def __len__(self) -> int:
        return len(self._paths)


ContextT = TypeVar("ContextT", bound=FindContext)


@dataclass(frozen=True)
class ProjectedGuest(Generic[ContextT]):
    """A guest as clones will have it: what stays, what starts, what is gone."""

    inspection: Inspection
    context: ContextT
    policy: Policy
    gone: GonePaths

    @property
    def guest(self) -> Guest:
        """The guest as it is now."""
        return self.inspection.guest

    def stays(self, path: str) -> bool:
        """Whether a path is there and not removed."""
        return path not in self.gone and self.guest.exists(path)


def gone_after(treated: list[Finding]) -> GonePaths:
    """The paths that are gone when these findings were treated."""
    return GonePaths([item.change.path for item in treated if isinstance(item.change, RemovePath)])
