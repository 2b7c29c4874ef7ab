"""Machines, templates and comparisons as JSON-ready values; see ``docs/json.md``."""

from __future__ import annotations

from dataclasses import asdict

from zeroseal.machines.simulated import LABEL, Run
from zeroseal.machines.yard import YardMachine
from zeroseal.reports.as_json import Json, head
from zeroseal.sealing.compare import Comparison
from zeroseal.templates.shelf import Template


def machine_to_json(machine: YardMachine) -> Json:
    """One machine of a yard."""
    return head("machine") | _machine(machine)


def yard_to_json(machines: list[YardMachine]) -> Json:
    """Several machines."""
    return head("machines") | {"machines": [_machine(machine) for machine in machines]}


def run_to_json(run: Run) -> Json:
    """A start or stop."""
    return head("run") | {"told": list(run.told)} | _machine(run.machine)


def template_to_json(template: Template) -> Json:
    """One template of the shelf."""
    return head("template") | _template(template)


def shelf_to_json(templates: list[Template]) -> Json:
    """All templates of a shelf."""
    return head("shelf") | {"templates": [_template(template) for template in templates]}


def comparison_to_json(comparison: Comparison) -> Json:
    """Which values are shared."""
    return head("comparison") | {
        "unique": comparison.are_unique,
        "images": [str(path) for path in comparison.images],
        "shared": [
            {
                "kind": item.value.kind,
                "value": item.value.shown,
                "byDesign": item.value.by_design,
                "images": [str(comparison.images[number]) for number in item.images],
            }
            for item in comparison.shared
        ],
    }


def _machine(machine: YardMachine) -> Json:
    return {
        "host": LABEL,
        "definition": asdict(machine.definition),
        "disk": str(machine.disk),
        "running": machine.state.running,
        "boots": machine.state.boots,
        "address": machine.state.address,
    }


def _template(template: Template) -> Json:
    return {"entry": asdict(template.entry), "disk": str(template.disk)}
