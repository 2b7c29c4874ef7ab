"""How a trial looks on a terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console

from zeroseal.cli import render
from zeroseal.cli.show_builds import duration_text
from zeroseal.sentences import clean, counted

if TYPE_CHECKING:
    from zeroseal.machines.trial import TrialMachine, TrialResult

_MOST_KEPT = 20


def show_trial(result: TrialResult, console: Console) -> None:
    """The answer, what grew again, and each of the two machines."""
    where = host_words(is_simulated=result.is_simulated)
    took = duration_text(result.seconds)
    if result.is_good:
        rest = f": two machines started with their own identity {where}, in {took}."
        render.headline(console, "GOOD", render.SEALED_STYLE, rest)
    else:
        rest = f": clones of this image would have problems. Tried {where}, in {took}."
        render.headline(console, "NOT GOOD", render.FINDING_STYLE, rest)
    render.section(console, "Identity")
    render.facts(console, [(item.kind, item.text) for item in result.regrowth])
    for machine in result.machines:
        render.section(console, machine.name)
        render.facts(console, _values(machine))
        render.bullets(console, _sentences(machine))
    if result.kept:
        render.section(console, "Kept from the image, the same on both machines")
        lines = [f"{clean(one.path)}: {one.what}" for one in result.kept[:_MOST_KEPT]]
        if len(result.kept) > _MOST_KEPT:
            lines.append(f"and {counted(len(result.kept) - _MOST_KEPT, 'more file')}")
        render.items(console, lines)
    if result.is_good:
        words = f"zeroseal shelf add {result.image.path} --name NAME --version VERSION"
        render.next_step(console, "Put it on the shelf:", words)


def host_words(*, is_simulated: bool) -> str:
    """Where machines were started, and what that is worth."""
    if is_simulated:
        return "on the simulated host, which proves nothing about a real guest"
    return "on a real host"


def _values(machine: TrialMachine) -> list[tuple[str, str]]:
    kinds: dict[str, list[str]] = {}
    for value in machine.values:
        if not value.by_design:
            kinds.setdefault(value.kind, []).append(value.shown)
    return [(kind, clean(", ".join(shown))) for kind, shown in kinds.items()]


def _sentences(machine: TrialMachine) -> list[str]:
    found = [f"failed: {clean(name)}" for name in machine.failed]
    found += [f"failed: {clean(text)}" for text in machine.refused]
    found += [clean(text) for text in machine.messages]
    if not machine.failed:
        found.append("no service failed")
    return found
