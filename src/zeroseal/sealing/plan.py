"""The plan of a seal: the ordered treatments for one image, as a pure value."""

from __future__ import annotations

from dataclasses import dataclass

from zeroseal.errors import BlockerError, LockOutError
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.judge import Guard, guard
from zeroseal.sealing.policy import Policy
from zeroseal.sealing.readiness import Readiness
from zeroseal.traces.finding import Finding
from zeroseal.traces.model import SEAL_FAMILIES


@dataclass(frozen=True)
class Plan:
    """What a seal will do to one image; ``seal`` does exactly this.

    Attributes:
        treated: findings to be treated, files first and free space last.
        skipped: findings that stay because the administrator said so.
        guard: why clones will be usable, and what is planted for that.
        planted_files: paths of the files and links that are planted.
    """

    treated: tuple[Finding, ...]
    skipped: tuple[Finding, ...]
    policy: Policy
    readiness: Readiness
    guard: Guard
    planted_files: tuple[str, ...] = ()

    @property
    def is_complete(self) -> bool:
        """Whether the result may be called sealed: nothing that makes the machine itself stays.

        House rules may allow what they keep themselves.
        """
        return not any(
            finding.trace.family in SEAL_FAMILIES and not self.policy.allows_skip(finding.trace)
            for finding in self.skipped
        )


def plan_seal(
    inspection: Inspection, findings: list[Finding], policy: Policy, readiness: Readiness
) -> Plan:
    """Makes the plan; writes nothing.

    Raises:
        RefusedError: a first-boot unit was asked for and could not work.
    """
    treated = [finding for finding in findings if policy.treats(finding.trace)]
    assured = guard(inspection, treated, policy)
    planted = inspection.judge.planted_paths(inspection, policy, assured)
    skipped = [finding for finding in findings if not policy.treats(finding.trace)]
    return Plan(
        treated=tuple(treated),
        skipped=tuple(skipped),
        policy=policy,
        readiness=readiness,
        guard=assured,
        planted_files=planted,
    )


def check_allowed(plan: Plan) -> None:
    """Raises the refusal if a blocker or a lock-out stands against the plan."""
    if plan.readiness.blockers:
        raise BlockerError("not sealed: " + " ".join(plan.readiness.blockers))
    if plan.guard.lock_outs:
        raise LockOutError("not sealed: " + "; ".join(plan.guard.lock_outs))
