"""What the lock-out guard found, whatever the guest."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from zeroseal.sealing.inspection import Inspection
    from zeroseal.sealing.policy import Policy
    from zeroseal.traces.finding import Finding


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


def guard(inspection: Inspection, treated: list[Finding], policy: Policy) -> Guard:
    """Judges what a seal with these findings treated would lead to."""
    judge = inspection.judge
    return judge.guard(judge.project(inspection, treated, policy))
