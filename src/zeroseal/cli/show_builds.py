"""How a build looks on a terminal, and whether a machine is fit to be sealed."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console

from zeroseal.cli import render
from zeroseal.cli.show_machines import HOST_TITLES, SIMULATED, machine_rows
from zeroseal.sentences import clean

if TYPE_CHECKING:
    from pathlib import Path

    from zeroseal.machines.build import BuildResult
    from zeroseal.machines.readiness import MachineReadiness


def show_builds(
    done: list[tuple[BuildResult, MachineReadiness]], yard: Path, console: Console
) -> None:
    """Machines that were built, or were there already."""
    for result, readiness in done:
        _show_built(result, readiness, yard, console)


def _show_built(
    result: BuildResult, readiness: MachineReadiness, yard: Path, console: Console
) -> None:
    name = result.machine.definition.name
    host = HOST_TITLES.get(result.machine.definition.host, "")
    where = SIMULATED if result.is_simulated else f"{host} in {duration_text(result.seconds)}"
    if result.is_new:
        render.headline(console, "Built", "bold", f" {name} {where}.")
    else:
        rest = f" {name} already matches its sheet; nothing was changed."
        render.headline(console, "Up to date", "bold", rest)
    render.facts(console, machine_rows(result.machine))
    if result.tasks:
        render.section(console, "Tasks")
        render.bullets(console, [_task_text(task.name, task.runs) for task in result.tasks])
    render.bullets(console, result.messages)
    show_readiness(readiness, console)
    disk = result.machine.disk
    if readiness.is_ready:
        render.next_step(console, "Show the identity on it:", f"zeroseal survey {disk}")
    else:
        render.next_step(
            console, "Then look at it again:", f"zeroseal yard show {name} --yard {yard}"
        )


def show_readiness(readiness: MachineReadiness, console: Console) -> None:
    """Blockers and advice, each in a sentence."""
    if readiness.is_ready:
        render.section(console, "Ready to be sealed")
    else:
        render.section(console, "Not ready to be sealed")
        render.bullets(console, readiness.blockers)
    if readiness.advice:
        render.section(console, "Good to know")
        render.bullets(console, readiness.advice)


def _task_text(name: str, runs: int) -> str:
    return clean(name) + (f" ({runs} runs)" if runs > 1 else "")


def duration_text(seconds: int) -> str:
    """A time for people."""
    if seconds >= 60:
        return f"{seconds // 60} min {seconds % 60} s"
    return f"{seconds} s" if seconds else "less than 1 s"
