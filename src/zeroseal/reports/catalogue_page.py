"""The catalogue as a Markdown page: what ``traces --markdown`` prints and ``docs/traces.md`` is."""

from __future__ import annotations

from typing import TYPE_CHECKING, assert_never

from zeroseal.sentences import counted
from zeroseal.traces.model import (
    FAMILIES,
    EventLogs,
    HomeGlobs,
    InCode,
    PathGlobs,
    RegistryKeys,
    RegistryValues,
    Trace,
    ValueNames,
    Where,
)

if TYPE_CHECKING:
    from zeroseal.traces.key_edits import KeyEdit


def build_page(traces: tuple[Trace, ...]) -> str:
    """Traces by family, each with all that the catalogue says of it."""
    families = {trace.family for trace in traces}
    where = " in eight families" if len(families) == len(FAMILIES) else ""
    parts = ["# Traces\n\n", f"{counted(len(traces), 'trace')}{where}.\n"]
    for family, title in FAMILIES.items():
        if family in families:
            parts.append(f"\n## {title}\n")
        parts += [_trace_text(trace) for trace in traces if trace.family == family]
    return "".join(parts)


def describe_place(place: Where) -> list[str]:
    """Where a trace is looked for, a line each."""
    conditions = [f"where {path} is there" for path in place.if_present]
    conditions += [f"where {path} is not there" for path in place.if_absent]
    conditions += [f"with {place.contains!r} in it"] if place.contains else []
    conditions += [f"but not {path}" for path in place.excepted]
    rest = f" ({'; '.join(conditions)})" if conditions else ""
    match place.locator:
        case PathGlobs(patterns=patterns):
            lines = [f"{pattern}{rest}" for pattern in patterns]
        case HomeGlobs(patterns=patterns):
            lines = [f"~/{pattern}{rest}" for pattern in patterns]
        case RegistryKeys(patterns=patterns):
            lines = [f"key {pattern}" for pattern in patterns]
        case RegistryValues(patterns=values):
            lines = [_describe_values(item) for item in values]
        case EventLogs(patterns=patterns):
            lines = [f"event logs {pattern}" for pattern in patterns]
        case InCode(name=name):
            lines = [f"found by the {name} finder"]
        case _:
            assert_never(place.locator)
    return lines + (_describe_edit(place.edit) if place.edit else [])


def _describe_values(item: ValueNames) -> str:
    names = ", ".join(name or "(default)" for name in item.names)
    rest = f", but not {', '.join(item.excepted)}" if item.excepted else ""
    return f"values {names} of {item.key}{rest}"


def _describe_edit(edit: KeyEdit) -> list[str]:
    section = f" in [{edit.section}]" if edit.section else ""
    lines = [f"drops {key}{section}" for key in edit.drop]
    return lines + [f"{key}{section} becomes {line}" for key, line in edit.replace]


def _trace_text(trace: Trace) -> str:
    lines = [f"\n### `{trace.id}`: {trace.title}\n", f"- why: {trace.why}"]
    for place in trace.places:
        where = ", ".join(f"`{text}`" for text in describe_place(place))
        lines.append(f"- {place.treatment.value}: {where}")
    needs = "; needs set-up's own pass" if trace.regrowth.needs_pass else ""
    lines.append(f"- regrows: {trace.regrowth.by}{needs}")
    if trace.regrowth.required:
        services = ", ".join(f"`{unit}`" for unit in trace.regrowth.services)
        seeded = ", ".join(f"`{unit}`" for unit in trace.regrowth.services_with_seed)
        commands = ", ".join(f"`{command}`" for command in trace.regrowth.commands)
        lines.append(
            f"- a clone is of no use without it: one of {services} must be enabled, or a service "
            f"that runs one of {commands}, or one of {seeded} and a seed given"
        )
    lines += [f"- risk: {trace.risk}", f"- source: {trace.source}"]
    return "\n".join(lines) + "\n"
