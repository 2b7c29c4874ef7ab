"""What a seal weighs differently for each guest system: one judge each."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Generic, TypeVar

from zeroseal.sealing.house_rules import Requirements
from zeroseal.sealing.remark import Remark
from zeroseal.sealing.searched_value import CollectedValues
from zeroseal.sealing.what_stays import NOTHING_LOOKED_FOR, WhatStays
from zeroseal.traces.finder import FindContext
from zeroseal.traces.finding import Finding

if TYPE_CHECKING:
    from zeroseal.guests.windows.hives import HiveSet
    from zeroseal.sealing.inspection import Inspection
    from zeroseal.sealing.plan import Plan
    from zeroseal.sealing.policy import Policy
    from zeroseal.sealing.projected_guest import ProjectedGuest

ProjectedT = TypeVar("ProjectedT", bound="ProjectedGuest[Any]")


@dataclass(frozen=True)
class Guard:
    """What the guard found.

    Attributes:
        assured: sentences that say how a clone will be usable.
        lock_outs: sentences that say why it would not be, with the way out.
        hints: what limits clones without making them useless, sentences.
        planted: the tasks that a planted script has to do for that.
    """

    assured: tuple[str, ...]
    lock_outs: tuple[str, ...]
    hints: tuple[str, ...] = ()
    planted: tuple[str, ...] = ()


class Judge(ABC, Generic[ProjectedT]):
    """Readiness, lock-outs, values and planting for guests of one system."""

    @abstractmethod
    def build_context(self, inspection: Inspection, policy: Policy) -> FindContext:
        """What finders look at.

        Raises:
            DamagedError: what the system says of itself cannot be read.
        """

    def find_elsewhere(self, inspection: Inspection, policy: Policy) -> Iterator[Finding]:
        """Findings in what else on the disk holds such a system, as in snapshots."""
        del inspection, policy
        return iter(())

    @abstractmethod
    def project(self, inspection: Inspection, treated: list[Finding], policy: Policy) -> ProjectedT:
        """The guest as clones will have it."""

    @abstractmethod
    def find_remarks(self, projected: ProjectedT, handled: set[str]) -> Iterator[Remark]:
        """Yields what is to be said before a seal.

        Args:
            projected: what clones will find.
            handled: places that the plan treats.
        """

    def find_what_stays(self, projected: ProjectedT, handled: Collection[str]) -> WhatStays:
        """Files that nobody knows and that look like identity, and secrets that stay."""
        del projected, handled
        return NOTHING_LOOKED_FOR

    @abstractmethod
    def guard(self, projected: ProjectedT) -> Guard:
        """Why clones will be usable, or would not be."""

    @abstractmethod
    def find_unmet(self, inspection: Inspection, required: Requirements) -> Iterator[str]:
        """Yields what house rules require and only such a system has, where it is lacking."""

    @abstractmethod
    def collect_values(self, inspection: Inspection, policy: Policy) -> CollectedValues:
        """The values that a seal with this policy removes."""

    def planted_paths(
        self, inspection: Inspection, policy: Policy, assured: Guard
    ) -> tuple[str, ...]:
        """The files and links that will be planted.

        Raises:
            RefusedError: a script was asked for that could not work.
        """
        del inspection, policy, assured
        return ()

    def plant(self, inspection: Inspection, plan: Plan) -> None:
        """Plants them."""

    def open_hives(self, inspection: Inspection, now: int) -> HiveSet | None:
        """The registry to be changed; None where there is none."""
        del inspection, now
        return None


def find_what_stays(inspection: Inspection, policy: Policy) -> WhatStays:
    """What stays on a disk as it is, with nothing treated."""
    judge = inspection.judge
    return judge.find_what_stays(judge.project(inspection, [], policy), ())


def guard(inspection: Inspection, treated: list[Finding], policy: Policy) -> Guard:
    """Judges what a seal with these findings treated would lead to."""
    judge = inspection.judge
    return judge.guard(judge.project(inspection, treated, policy))
