"""Machines, templates and comparisons as JSON-ready values; see ``docs/json.md``."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zeroseal.reports.as_json import Json, head, table_of
from zeroseal.reports.shelf_as_json import template_table

if TYPE_CHECKING:
    from pathlib import Path

    from zeroseal.machines.build import BuildResult
    from zeroseal.machines.hosts.host import Run
    from zeroseal.machines.learn import LearnResult
    from zeroseal.machines.readiness import MachineReadiness
    from zeroseal.machines.snapshots import MachineSnapshot
    from zeroseal.machines.trial import TrialResult
    from zeroseal.machines.yard import YardMachine
    from zeroseal.sealing.compare import Comparison, SharedFile
    from zeroseal.templates.renew import Renewal


def machine_to_json(machine: YardMachine) -> Json:
    """One machine of a yard."""
    return head("machine") | machine_table(machine)


def yard_to_json(machines: list[YardMachine]) -> Json:
    """Several machines."""
    return head("machines") | {"machines": [machine_table(machine) for machine in machines]}


def run_to_json(run: Run) -> Json:
    """A start or stop."""
    head_of_run = {"messages": list(run.messages), "simulated": run.is_simulated}
    return head("run") | head_of_run | machine_table(run.machine)


def builds_to_json(done: list[tuple[BuildResult, MachineReadiness]]) -> Json:
    """Machines that were built, and whether they are fit to be sealed."""
    return head("builds") | {
        "builds": [
            machine_table(result.machine)
            | {
                "new": result.is_new,
                "simulated": result.is_simulated,
                "seconds": result.seconds,
                "tasks": [table_of(task) for task in result.tasks],
                "messages": list(result.messages),
                "readiness": readiness_to_json(readiness),
            }
            for result, readiness in done
        ]
    }


def readiness_to_json(readiness: MachineReadiness) -> Json:
    """Whether a machine is fit to be sealed."""
    return {
        "ready": readiness.is_ready,
        "blockers": list(readiness.blockers),
        "advice": list(readiness.advice),
    }


def trial_to_json(result: TrialResult) -> Json:
    """What two throwaway machines became."""
    return head("trial") | {
        "good": result.is_good,
        "simulated": result.is_simulated,
        "image": str(result.image.path),
        "seconds": result.seconds,
        "regrowth": [
            {"kind": item.kind, "good": item.is_good, "text": item.text} for item in result.regrowth
        ],
        "kept": [{"path": one.path, "what": one.what} for one in result.kept],
        "machines": [
            {
                "name": machine.name,
                "values": [{"kind": v.kind, "value": v.shown} for v in machine.values],
                "failed": list(machine.failed),
                "refused": list(machine.refused),
                "messages": list(machine.messages),
            }
            for machine in result.machines
        ],
    }


def learned_to_json(result: LearnResult) -> Json:
    """What two machines of an image taught."""
    learned = result.learned
    return head("learned") | {
        "good": result.is_good,
        "simulated": result.is_simulated,
        "image": str(result.image.path),
        "imageSealed": learned.is_sealed,
        "seconds": result.seconds,
        "sharedValues": list(learned.shared_values),
        "compared": learned.compared,
        "timely": learned.timely,
        "files": [
            {
                "path": one.path,
                "sizeBytes": one.size_bytes,
                "renewal": one.renewal.name.lower(),
                "reasons": list(one.reasons),
                "trace": one.trace or None,
                "new": one.is_new,
                "owner": one.claim.value,
            }
            for one in learned.files
        ],
        "messages": list(result.notes),
    }


def renewal_to_json(renewal: Renewal) -> Json:
    """A machine that was patched, and its new template."""
    return head("renewal") | {
        "machine": machine_table(renewal.machine),
        "simulated": renewal.is_simulated,
        "tasks": [table_of(task) for task in renewal.tasks],
        "copyTasks": [table_of(task) for task in renewal.copy_tasks],
        "changes": list(renewal.changes),
        "snapshot": renewal.snapshot,
        "dropped": list(renewal.dropped),
        "messages": list(renewal.messages),
        "template": template_table(renewal.template),
    }


def removals_to_json(removed: list[tuple[str, Path | None]]) -> Json:
    """Machines that were removed, and the disks that stay."""
    return head("removal") | {
        "removed": [
            {"name": name, "disk": None if disk is None else str(disk)} for name, disk in removed
        ]
    }


def snapshots_to_json(machine: YardMachine, snapshots: list[MachineSnapshot]) -> Json:
    """The snapshots of one machine."""
    listed = [table_of(snapshot) for snapshot in snapshots]
    return head("snapshots") | machine_table(machine) | {"snapshots": listed}


def comparison_to_json(comparison: Comparison) -> Json:
    """Which values are shared."""
    return head("comparison") | {
        "unique": comparison.are_unique,
        "worst": comparison.worst.title,
        "images": [str(path) for path in comparison.images],
        "shared": [
            {
                "kind": item.value.kind,
                "value": item.value.shown,
                "severity": item.value.severity.title,
                "byDesign": item.value.by_design,
                "images": [str(comparison.images[number]) for number in item.images],
            }
            for item in comparison.shared
        ],
        "files": _shared_files(comparison, comparison.files),
        "sameFiles": _shared_files(comparison, comparison.same_files),
    }


def _shared_files(comparison: Comparison, files: tuple[SharedFile, ...]) -> list[Json]:
    return [
        {
            "path": one.path,
            "what": one.what,
            "images": [str(comparison.images[number]) for number in one.images],
        }
        for one in files
    ]


def machine_table(machine: YardMachine) -> Json:
    """One machine, without the head of a result."""
    return {
        "host": machine.definition.host,
        "definition": table_of(machine.definition),
        "disk": str(machine.disk),
        "running": machine.state.running,
        "boots": machine.state.boots,
        "address": machine.state.address,
        "sshPort": machine.state.ssh_port,
        "unfinished": machine.state.unfinished,
    }
