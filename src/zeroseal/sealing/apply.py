"""Applying a plan to a staged layer: what the plan holds, in the order of its phases."""

from __future__ import annotations

from zeroseal.progress import Progress, Step
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.plan import Plan
from zeroseal.traces.changes import Change, Phase, Workbench


def apply_plan(plan: Plan, inspection: Inspection, progress: Progress, now: int) -> None:
    """Does all that the plan says.

    Stale ranges come first: edits then begin on volumes without any, and leave none behind.

    Args:
        plan: made from the same inspection.
        inspection: of a store that may be changed; its guest is opened for editing here.
        progress: told of each finding.
        now: the moment that what changes is given, seconds since 1970.
    """
    guest, judge = inspection.guest, inspection.judge
    changes = [finding.change for finding in plan.treated]
    bench = Workbench(guest, inspection.store_of, judge.open_hives(inspection, now), now)
    for change in _of_phase(changes, Phase.PATCH):
        change.apply(bench)
    guest.start_editing(now)
    for number, change in enumerate(_of_phase(changes, Phase.EDIT)):
        progress(Step("removing", number, len(changes), "findings"))
        change.apply(bench)
    for change in _of_phase(changes, Phase.LAST):
        progress(Step("replacing the machine's security identifier", 0, 0))
        change.apply(bench)
    if bench.hives:
        bench.hives.finish()
    if plan.planted_files:
        judge.plant(inspection, plan)
    guest.finish()
    progress(Step("removing", len(changes), len(changes), "findings"))


def _of_phase(changes: list[Change], phase: Phase) -> list[Change]:
    return [change for change in changes if change.phase is phase]
