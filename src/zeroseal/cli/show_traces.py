"""How the catalogue looks on a terminal."""

from __future__ import annotations

from typing import assert_never

from rich.console import Console
from rich.text import Text

from zeroseal.cli import look
from zeroseal.traces.model import FAMILIES, Finder, HomeGlobs, PathGlobs, Trace, Where


def show_traces(traces: tuple[Trace, ...], console: Console) -> None:
    """All traces by family, one line each and what regrows it."""
    shown = {trace.family for trace in traces}
    rest = (
        " in eight families" if len(shown) == len(FAMILIES) else f" of {', '.join(sorted(shown))}"
    )
    look.headline(console, f"{len(traces)} traces", "bold", rest)
    for family, title in FAMILIES.items():
        if family not in shown:
            continue
        look.section(console, title)
        for trace in (item for item in traces if item.family == family):
            line = Text(f"  {trace.id:<27} ")
            line.append(f"{trace.title:<32}")
            line.append(_treatments(trace), style=look.FINDING_STYLE)
            console.print(line, soft_wrap=True)
    look.next_step(console, "Explain one:", f"zeroseal traces {traces[0].id}")


def show_trace(trace: Trace, console: Console) -> None:
    """One trace: what, why, where, what is done, what regrows it, what it may cost."""
    look.headline(console, trace.title, "bold", f"  {trace.id}")
    look.facts(
        console,
        [
            ("family", FAMILIES[trace.family]),
            ("why", trace.why),
            ("regrows", trace.regrowth.by),
            ("risk", trace.risk),
            ("guests", trace.guest),
            ("source", trace.source),
        ],
    )
    if trace.regrowth.required:
        look.section(console, "A clone is of no use without it: one of these must be in the guest")
        look.items(console, trace.regrowth.services)
        look.items(console, [f"{u} (with a seed)" for u in trace.regrowth.services_with_seed])
    for place in trace.places:
        look.section(console, f"Treatment: {place.treatment.value}")
        look.items(console, describe_place(place))


def describe_place(place: Where) -> list[str]:
    """Where a trace is looked for, a line each."""
    match place.locator:
        case PathGlobs(patterns=patterns):
            return list(patterns)
        case HomeGlobs(patterns=patterns):
            return [f"~/{pattern}" for pattern in patterns]
        case Finder(name=name):
            return [f"found by the {name.value} finder"]
        case _:
            assert_never(place.locator)


def _treatments(trace: Trace) -> str:
    return ", ".join(dict.fromkeys(place.treatment.value for place in trace.places))
