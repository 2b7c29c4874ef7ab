"""How the catalogue looks on a terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console
from rich.text import Text

from zeroseal.cli import render
from zeroseal.reports.catalogue_page import describe_place
from zeroseal.sentences import counted
from zeroseal.traces.model import FAMILIES, Trace

if TYPE_CHECKING:
    from zeroseal.sealing.survey import Survey


def show_traces(traces: tuple[Trace, ...], console: Console) -> None:
    """All traces by family, one line each and what regrows it."""
    shown = {trace.family for trace in traces}
    rest = (
        " in eight families" if len(shown) == len(FAMILIES) else f" of {', '.join(sorted(shown))}"
    )
    render.headline(console, counted(len(traces), "trace"), "bold", rest)
    for family, title in FAMILIES.items():
        if family not in shown:
            continue
        render.section(console, title)
        for trace in (item for item in traces if item.family == family):
            line = Text(f"  {trace.id:<27} ")
            line.append(f"{trace.title:<32}")
            line.append(f"{_treatments(trace):<16}", style=render.FINDING_STYLE)
            if trace.guest != "any":
                line.append(f"  {trace.guest}", style=render.QUIET_STYLE)
            console.print(line, soft_wrap=True)
    render.next_step(console, "Explain one:", f"zeroseal traces {traces[0].id}")


def show_trace(trace: Trace, console: Console) -> None:
    """One trace: what, why, where, what is done, what regrows it, what it may cost."""
    render.headline(console, trace.title, "bold", f"  {trace.id}")
    render.facts(
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
        render.section(console, "Clones are unusable without it: one of these must be in the guest")
        render.items(console, trace.regrowth.services)
        render.items(console, [f"{u} (with a seed)" for u in trace.regrowth.services_with_seed])
    for place in trace.places:
        render.section(console, f"Treatment: {place.treatment.value}")
        render.items(console, describe_place(place))


def show_found(
    traces: tuple[Trace, ...], counts: dict[str, int], survey: Survey, console: Console
) -> None:
    """The traces that an image has, by family, with the number of places."""
    name = survey.image.path.name
    places = sum(counts.values())
    rest = f" in {counted(places, 'place')} on {name} ({survey.system.name})"
    style = render.FINDING_STYLE if traces else "bold"
    render.headline(console, counted(len(traces), "trace"), style, rest)
    for family, title in FAMILIES.items():
        found = [trace for trace in traces if trace.family == family]
        if found:
            render.section(console, title)
        for trace in found:
            line = Text(f"  {trace.id:<27} {trace.title:<32}{counts[trace.id]:>4}  ")
            line.append(_treatments(trace), style=render.FINDING_STYLE)
            console.print(line, soft_wrap=True)
    render.next_step(console, "List every place:", f"zeroseal survey {survey.image.path} --places")


def _treatments(trace: Trace) -> str:
    return ", ".join(dict.fromkeys(place.treatment.value for place in trace.places))
