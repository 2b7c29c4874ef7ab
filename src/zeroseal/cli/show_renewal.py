"""How a renewal looks on a terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console

from zeroseal.cli import render
from zeroseal.cli.show_machines import HOST_TITLES
from zeroseal.sentences import clean

if TYPE_CHECKING:
    from pathlib import Path

    from zeroseal.templates.renew import Renewal


def show_renewal(renewal: Renewal, shelf: Path, console: Console) -> None:
    """What was patched, sealed and kept."""
    name, title = renewal.machine.definition.name, renewal.template.entry.title
    where = (
        "on the simulated host: nothing was run"
        if renewal.is_simulated
        else HOST_TITLES[renewal.host]
    )
    render.headline(console, "Renewed", "bold", f" {name} {where}; {title} is now on the shelf.")
    count = len(renewal.changes)
    render.facts(
        console,
        [
            ("packages", f"{count} changed" if count else "none changed"),
            ("snapshot", renewal.snapshot or "none: the disk's format has no snapshots"),
            ("template", str(renewal.template.disk)),
            ("sealed", f"{len(renewal.sealed.planned.plan.treated)} findings treated and zeroed"),
        ],
    )
    for title_text, tasks in (("Patches", renewal.tasks), ("On the copy", renewal.copy_tasks)):
        if tasks:
            render.section(console, title_text)
            render.bullets(
                console,
                [clean(t.name) + (f" ({t.runs} runs)" if t.runs > 1 else "") for t in tasks],
            )
    if renewal.changes:
        render.section(console, "Changed packages")
        render.bullets(console, [clean(text) for text in renewal.changes[:20]])
    render.section(console, "The machine")
    messages = list(renewal.messages)
    if renewal.dropped:
        messages.append(f"older snapshots were removed: {', '.join(renewal.dropped)}")
    messages.append(f"{name} is unsealed and switched off, with its patches")
    render.bullets(console, messages)
    render.next_step(
        console, "Check that its clones get their own identity:",
        f"zeroseal trial {renewal.template.disk}",
    )  # fmt: skip
