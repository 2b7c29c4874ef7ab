"""A job: one seal from plan to record, whatever its target.

    inspection + policy  ->  plan  ->  applied to a staged layer  ->  proven  ->  delivered

A target (``targets/``) opens what is sealed, and delivers the result: it decides when the proof
runs, and gives nothing a name before the proof holds.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Generic, TypeVar

from zeroseal.blocks.digest import DiskDigest
from zeroseal.blocks.search import Hit, Needle
from zeroseal.blocks.staged import StagedStore
from zeroseal.blocks.store import CancellableStore, Store
from zeroseal.blocks.workers import wait_for
from zeroseal.guests.system import SystemFacts
from zeroseal.images.detect import opened_image
from zeroseal.images.facts import ImageFacts, facts_of
from zeroseal.progress import CancelToken, Progress, Step, quiet
from zeroseal.sealing.apply import apply_plan
from zeroseal.sealing.inspection import Inspection, recoverable
from zeroseal.sealing.plan import Plan, check_allowed, plan_seal
from zeroseal.sealing.policy import DEFAULT_POLICY, Policy
from zeroseal.sealing.proof import CheckedResult, Proof, check_result, prove, require_clean
from zeroseal.sealing.readiness import assess
from zeroseal.sealing.record import NO_LINEAGE, Lineage, SealedFile
from zeroseal.sealing.record_build import RecordExtras, build_record
from zeroseal.sealing.residue import needles_of
from zeroseal.sealing.searched_value import ValueSet
from zeroseal.sealing.value_collection import collect_values

if TYPE_CHECKING:
    from zeroseal.sealing.signing import RecordSigner
    from zeroseal.sealing.volume_ids.ids import NewId

ResultT = TypeVar("ResultT")


@dataclass(frozen=True)
class PlannedSeal:
    """A plan and what it is for; ``new_ids`` are those that a seal gave to the volumes."""

    source: ImageFacts
    system: SystemFacts
    plan: Plan
    new_ids: tuple[NewId, ...] = ()


@dataclass(frozen=True)
class SealResult:
    """A finished seal.

    Attributes:
        output: the sealed image, archive or folder.
        record: the file beside it; None for a folder.
        digest: of the disk or archive; None for a folder.
        zeroed_bytes: how much of the disk was zeroed as ranges.
        rewritten_bytes: how much of it was written anew.
    """

    planned: PlannedSeal
    output: ImageFacts
    record: Path | None
    digest: DiskDigest | None
    proof: Proof
    zeroed_bytes: int = 0
    rewritten_bytes: int = 0


@dataclass(frozen=True)
class SealRequest(Generic[ResultT]):
    """What is asked for.

    Attributes:
        source: an image file, or the tree that the target is for.
        target: where the result goes.
        policy: what to treat and to keep.
        now: the one moment that everything changed is given, seconds since 1970.
        signer: who signs the record; None for nobody.
        lineage: where the disk comes from, as far as the caller knows.
    """

    source: Path
    target: Target[ResultT]
    policy: Policy = DEFAULT_POLICY
    now: int = 0
    signer: RecordSigner | None = None
    lineage: Lineage = NO_LINEAGE


@dataclass(frozen=True)
class AppliedSeal:
    """A plan that was applied to a staged layer; nothing is proven or written yet.

    Attributes:
        values: what the proof has to search for.
        token: ends work in other threads when the job ends, however it does.
    """

    request: SealRequest[object]
    inspection: Inspection
    planned: PlannedSeal
    values: ValueSet
    progress: Progress
    token: CancelToken

    @property
    def needles(self) -> list[Needle]:
        """What the result's bytes are searched for; nothing where that is not wanted."""
        return needles_of(self.values) if self.planned.plan.policy.searches_values else []

    @contextmanager
    def checking(self, result: Store) -> Iterator[RunningCheck]:
        """Reads a result afresh in another thread: consistent, no treated trace.

        However the block is left, the check ends with it.
        """
        token, planned = self.token, self.planned
        watched = CancellableStore(result, token)
        with ThreadPoolExecutor(1) as pool, token:
            running = pool.submit(check_result, watched, planned.plan, self.values, token.progress)
            yield RunningCheck(running, self.progress)

    def prove(self, checked: CheckedResult, hits: list[Hit]) -> Proof:
        """The proof of a result whose bytes were searched for ``needles``.

        Raises:
            NotProvenError: a value is still there; nothing may be written out.
        """
        proof = prove(checked, self.values, hits)
        require_clean(proof, self.planned.plan)
        return proof

    def build_record(
        self,
        name: str,
        digest: DiskDigest,
        proof: Proof,
        lineage: Lineage,
        file: SealedFile | None = None,
    ) -> bytes:
        """The record's text."""
        request = self.request
        extras = RecordExtras(request.signer, lineage, file)
        planned = self.planned
        return build_record(
            name=name,
            digest=digest,
            plan=planned.plan,
            new_ids=[f"{one.old.title} of {one.old.where}" for one in planned.new_ids],
            system=planned.system,
            source=planned.source,
            proof=proof,
            sealed_at=request.now,
            extras=extras,
        )


@dataclass(frozen=True)
class RunningCheck:
    """A check of a result that goes on beside other work."""

    running: Future[CheckedResult]
    progress: Progress

    def follow(self, step: Step) -> None:
        """The progress callback for the other work: what the check finds ends that at once.

        Raises:
            NotProvenError: something is wrong, or still there; nothing may be written out.
        """
        if self.running.done():
            self.running.result()
        self.progress(step)

    def wait(self) -> CheckedResult:
        """The checked result; raises as ``follow``."""
        return wait_for(self.running, self.progress, "checking the result")


class Bench(ABC, Generic[ResultT]):
    """What a target has opened for one seal."""

    @abstractmethod
    def inspect(self, policy: Policy) -> Inspection:
        """Reads the guest from the layer that changes go to.

        Raises:
            ImageError, RefusedError: there is none that can be sealed for this target.
        """

    @abstractmethod
    def deliver(self, applied: AppliedSeal) -> ResultT:
        """Proves the result and brings it where it belongs, whole or not at all.

        Raises:
            UnfinishedError: no space, or a proof that did not hold. Nothing is left behind.
        """


class Target(ABC, Generic[ResultT]):
    """Where the result of a seal goes."""

    @abstractmethod
    def open(self, request: SealRequest[ResultT]) -> AbstractContextManager[Bench[ResultT]]:
        """Opens the source for a seal.

        Raises:
            ImageError: the source cannot be read or is not supported.
            RefusedError: the target is there already, or something keeps the old bytes.
        """


def seal(request: SealRequest[ResultT], progress: Progress = quiet) -> ResultT:
    """Seals; what was not asked for does not change.

    Raises:
        ImageError: the source cannot be read or is not supported.
        RefusedError: a blocker, a lock-out, or a target that is refused.
        UnfinishedError: no space, or a proof that did not hold. Nothing is left behind.
    """
    with request.target.open(request) as bench:
        inspection = bench.inspect(request.policy)
        inspection.guest.check_editable()
        policy = inspection.fit_policy(request.policy)
        planned = plan_inspected(inspection, policy, progress)
        check_allowed(planned.plan)
        if policy.renews_volume_ids:
            _check_has_ids(inspection)
        values = values_of(inspection, policy)
        apply_plan(planned.plan, inspection, progress, request.now)
        if policy.renews_volume_ids:
            planned = replace(planned, new_ids=_renew(inspection.store, progress, request.now))
        applied = AppliedSeal(
            request=request,  # type: ignore[arg-type]  # only its common part is read
            inspection=inspection,
            planned=planned,
            values=values,
            progress=progress,
            token=CancelToken(),
        )
        return bench.deliver(applied)


def _check_has_ids(inspection: Inspection) -> None:
    """Raises RefusedError where volumes have no identities, or some that cannot be changed."""
    from zeroseal.sealing.volume_ids.ids import list_volume_ids

    list_volume_ids(inspection.disk)


def _renew(store: Store, progress: Progress, now: int) -> tuple[NewId, ...]:
    """Gives a disk to which a plan was applied other identities of its volumes.

    Raises:
        RefusedError: they cannot be changed everywhere.
    """
    from zeroseal.sealing.volume_ids.renew import plan_on, renew_ids

    return renew_ids(store, plan_on(Inspection.read(store), progress), now)


def plan_image(
    source: Path, policy: Policy = DEFAULT_POLICY, progress: Progress = quiet, snapshot: str = ""
) -> PlannedSeal:
    """Surveys and plans; writes nothing.

    Raises:
        ZeroSealError: as ``seal``, but blockers and lock-outs are in the plan.
    """
    recover = policy.recovers_journal
    with (
        opened_image(source, snapshot, policy.reach) as image,
        recoverable(image, recover) as store,
    ):
        inspection = Inspection.read(store, recover, image)
        return plan_inspected(inspection, inspection.fit_policy(policy), progress)


def plan_inspected(inspection: Inspection, policy: Policy, progress: Progress) -> PlannedSeal:
    """Plans the seal of what was inspected, by a policy that is settled for its guest."""
    findings = inspection.find_all(policy, progress)
    plan = plan_seal(inspection, findings, policy, assess(inspection, findings, policy))
    return PlannedSeal(facts_of(inspection.get_image()), inspection.facts, plan)


def values_of(inspection: Inspection, policy: Policy) -> ValueSet:
    """The values to search for afterwards; none where that is not wanted."""
    return collect_values(inspection, policy) if policy.searches_values else ValueSet((), ())


def count_changes(staged: StagedStore) -> tuple[int, int]:
    """(bytes that became zeroed ranges, bytes that were written anew) of a staged disk."""
    zeroed = sum(extent.length for extent in staged.iter_changes() if extent.is_zero)
    return zeroed, staged.written_bytes
