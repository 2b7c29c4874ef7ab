"""Reading the catalogue: TOML text to traces, validated with errors that name file and key."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable
from functools import cache
from importlib import resources
from typing import Any

import msgspec

from zeroseal.documents import Table, WrongValueError, convert, parse_toml
from zeroseal.errors import UsageError
from zeroseal.guests.registry.hive_names import CLASSES, MACHINE_HIVES, USERS
from zeroseal.messages import traces as messages
from zeroseal.traces.key_edits import FORMATS, KeyEdit
from zeroseal.traces.model import (
    FAMILIES,
    EventLogs,
    HomeGlobs,
    InCode,
    Locator,
    PathGlobs,
    RegistryKeys,
    RegistryValues,
    Regrowth,
    Trace,
    Treatment,
    ValueNames,
    Where,
)

_ID = re.compile(r"[a-z]+\.[a-z0-9]+(-[a-z0-9]+)*")
_LOCATORS = ("paths", "home_paths", "keys", "values", "event_logs", "finder")
_GUESTS = ("linux", "windows", "any")
_OF_KEYS = (Treatment.REMOVE, Treatment.EMPTY)
_OF_VALUES = (Treatment.REMOVE, Treatment.REPLACE, Treatment.BLANK)
_FILES = tuple(f"{kind}{family}.toml" for family in FAMILIES for kind in ("", "windows-"))
Texts = str | tuple[str, ...]


class EditTable(Table, frozen=True):
    """What is done to keys of a text; see ``KeyEdit``."""

    format: str = ""
    section: str = ""
    drop: Texts = ()
    replace: dict[str, str] = msgspec.field(default_factory=dict)
    values: str = ""


class PlaceTable(Table, frozen=True, kw_only=True):
    """Where a trace is and what is done there; see ``Where``."""

    treatment: str = ""
    paths: Texts | None = None
    home_paths: Texts | None = None
    keys: Texts | None = None
    values: Texts | None = None
    event_logs: Texts | None = None
    finder: str | None = None
    content: str = ""
    clean: Texts = ()
    edit: EditTable | None = None
    contains: str = ""
    unless_any_contains: str = ""
    if_present: Texts = ()
    if_absent: Texts = ()
    excepted: Texts = msgspec.field(default=(), name="except")
    files_only: bool = False
    follow: bool = False


class RegrowthTable(Table, frozen=True):
    """What makes a trace again; see ``Regrowth``."""

    by: str = ""
    service: Texts = ()
    service_with_seed: Texts = ()
    command: Texts = ()
    program: Texts = ()
    required: bool = False
    needs_pass: bool = False


class TraceTable(PlaceTable, frozen=True, kw_only=True):
    """One ``[[trace]]``, with its first place in the same table."""

    id: str = ""
    title: str = ""
    why: str = ""
    guest: str = "any"
    also: tuple[PlaceTable, ...] = ()
    regrowth: RegrowthTable = RegrowthTable()
    risk: str = "none"
    source: str = ""


class TracesFile(msgspec.Struct):
    """A file of traces; each table is a ``TraceTable``."""

    trace: tuple[dict[str, Any], ...] = ()


@cache
def load_catalogue() -> tuple[Trace, ...]:
    """The built-in traces, in the order of the families and of their files."""
    traces: list[Trace] = []
    for name in _FILES:
        traces += parse_traces(_read_catalogue_file(name), name, is_built_in=True)
    return tuple(traces)


@cache
def catalogue_digest() -> str:
    """SHA-256 of the catalogue's text, in hexadecimal."""
    digest = hashlib.sha256()
    for name in _FILES:
        digest.update(_read_catalogue_file(name).encode())
    return digest.hexdigest()


def parse_traces(text: str, file_name: str, is_built_in: bool = False) -> list[Trace]:
    """Parses the ``[[trace]]`` tables of a TOML text.

    Args:
        text: the TOML.
        file_name: for messages.
        is_built_in: whether the names of finders are right, as a test sees to; looking them up
            loads them all.

    Raises:
        UsageError: no TOML, or an entry that breaks the schema; says file, trace and key.
    """
    try:
        document = convert(parse_toml(text, file_name), TracesFile)
    except WrongValueError as error:
        raise UsageError(
            messages.KEY_WRONG.format(file_name=file_name, key=error.key, reason=error.reason)
        ) from None
    return build_traces(document.trace, file_name, is_built_in)


def build_traces(
    tables: Iterable[dict[str, Any]], file_name: str, is_built_in: bool = False
) -> list[Trace]:
    """Traces from their tables; as ``parse_traces``.

    Raises:
        UsageError: one breaks the schema; says file, trace and key.
    """
    traces: list[Trace] = []
    seen: set[str] = set()
    for table in tables:
        where = f"{file_name}: trace {table.get('id') or '(without id)'}"
        try:
            trace = _build_trace(convert(table, TraceTable))
            if not is_built_in:
                _check_finders(trace)
        except WrongValueError as error:
            raise UsageError(
                messages.KEY_WRONG.format(file_name=where, key=error.key, reason=error.reason)
            ) from None
        except ValueError as error:
            raise UsageError(f"{where}: {error}") from None
        if trace.id in seen:
            raise UsageError(messages.TRACE_OCCURS_TWICE.format(file_name=file_name, id=trace.id))
        seen.add(trace.id)
        traces.append(trace)
    return traces


def get_trace(trace_id: str) -> Trace:
    """The built-in trace of that id.

    Raises:
        UsageError: there is none; names what comes close.
    """
    found = _by_id().get(trace_id)
    return found or pick_trace(trace_id, load_catalogue())


@cache
def _by_id() -> dict[str, Trace]:
    return {trace.id: trace for trace in load_catalogue()}


def pick_trace(trace_id: str, traces: tuple[Trace, ...]) -> Trace:
    """The one of some traces that has that id.

    Raises:
        UsageError: there is none; names what comes close.
    """
    for trace in traces:
        if trace.id == trace_id:
            return trace
    import difflib

    known = [trace.id for trace in traces]
    close = difflib.get_close_matches(trace_id, known, n=3, cutoff=0.5)
    hint = f"did you mean {' or '.join(close)}?" if close else "zeroseal traces lists them"
    raise UsageError(messages.TRACE_NOT_KNOWN.format(trace_id=trace_id, hint=hint))


def _read_catalogue_file(name: str) -> str:
    return (resources.files("zeroseal.traces") / "catalogue" / name).read_text("utf-8")


def _build_trace(table: TraceTable) -> Trace:
    """A trace from its table.

    Raises:
        ValueError: what it says contradicts itself.
    """
    if not _ID.fullmatch(table.id):
        raise ValueError(messages.INVALID_ID)
    family = table.id.partition(".")[0]
    if family not in FAMILIES:
        raise ValueError(messages.FAMILY_NOT_KNOWN.format(family=family))
    places = [_build_place(item) for item in (table, *table.also)]
    for key in ("title", "why"):
        if not getattr(table, key).strip():
            raise ValueError(messages.KEY_MISSING.format(key=key))
    if table.guest not in _GUESTS:
        raise ValueError(messages.GUEST_NOT_KNOWN.format(guests=", ".join(_GUESTS)))
    if table.guest != "windows" and any(_is_of_windows(place.locator) for place in places):
        raise ValueError(messages.WINDOWS_LOCATORS_ONLY)
    return Trace(
        id=table.id,
        title=table.title,
        why=table.why,
        guest=table.guest,
        places=tuple(places),
        regrowth=_build_regrowth(table.regrowth),
        risk=table.risk,
        source=table.source,
    )


def _check_finders(trace: Trace) -> None:
    for place in trace.places:
        if isinstance(place.locator, InCode):
            from zeroseal.traces.finders import get_finder

            get_finder(place.locator.name)


def _is_of_windows(locator: Locator) -> bool:
    if isinstance(locator, PathGlobs):
        return any(pattern.startswith("%") for pattern in locator.patterns)
    return isinstance(locator, RegistryKeys | RegistryValues | EventLogs)


def _build_place(table: PlaceTable) -> Where:
    try:
        treatment = Treatment(table.treatment)
    except ValueError:
        names = ", ".join(item.value for item in Treatment)
        raise ValueError(messages.TREATMENT_MUST_BE_ONE.format(names=names)) from None
    locator = _build_locator(table)
    needs_edit = treatment is Treatment.REWRITE and not isinstance(locator, InCode)
    if needs_edit != (table.edit is not None):
        raise ValueError(messages.EDIT_NEEDS_REWRITE)
    _check_treatment(treatment, locator)
    return Where(
        locator=locator,
        treatment=treatment,
        content=table.content,
        clean=_texts(table.clean),
        edit=_build_edit(table.edit) if table.edit else None,
        contains=_pattern(table.contains),
        unless_any_contains=_pattern(table.unless_any_contains),
        if_present=_texts(table.if_present),
        if_absent=_texts(table.if_absent),
        excepted=_texts(table.excepted),
        files_only=table.files_only,
        follow=table.follow,
    )


def _check_treatment(treatment: Treatment, locator: Locator) -> None:
    fits = True
    match locator:
        case RegistryKeys():
            fits = treatment in _OF_KEYS
        case RegistryValues():
            fits = treatment in _OF_VALUES
        case EventLogs():
            fits = treatment is Treatment.REMOVE
        case PathGlobs() | HomeGlobs():
            fits = treatment not in (Treatment.BLANK, Treatment.RENAME)
    if not fits:
        raise ValueError(messages.TREATMENT_DOES_NOT_FIT.format(treatment=treatment.value))


def _build_edit(table: EditTable) -> KeyEdit:
    if table.format not in FORMATS:
        raise ValueError(messages.EDIT_FORMAT_MUST_BE_ONE.format(formats=", ".join(FORMATS)))
    if not table.drop and not table.replace:
        raise ValueError(messages.EDIT_NEEDS_ONE_ACTION)
    return KeyEdit(
        format=table.format,
        section=table.section,
        drop=_texts(table.drop),
        replace=tuple(table.replace.items()),
        values=table.values,
    )


def _pattern(text: str) -> str:
    try:
        re.compile(text)
    except re.error as error:
        raise ValueError(messages.INVALID_REGULAR_EXPRESSION.format(error=error)) from error
    return text


def _build_locator(table: PlaceTable) -> Locator:
    given = [key for key in _LOCATORS if getattr(table, key) is not None]
    if len(given) != 1:
        raise ValueError(messages.ONE_LOCATOR_REQUIRED.format(locators=", ".join(_LOCATORS)))
    patterns = _texts(getattr(table, given[0]))
    match given[0]:
        case "paths":
            if not patterns or not all(pattern.startswith(("/", "%")) for pattern in patterns):
                raise ValueError(messages.PATHS_MUST_BE_ABSOLUTE)
            return PathGlobs(patterns)
        case "home_paths":
            if not patterns or any(pattern.startswith("/") for pattern in patterns):
                raise ValueError(messages.HOME_PATHS_RELATIVE_TO_HOME_FOLDER)
            return HomeGlobs(patterns)
        case "keys":
            return RegistryKeys(tuple(map(_checked_key, patterns)))
        case "values":
            return RegistryValues(tuple(map(_build_values, patterns)))
        case "event_logs":
            return EventLogs(patterns)
    return InCode(patterns[0])


def _checked_key(pattern: str) -> str:
    if pattern.partition("\\")[0] not in (*MACHINE_HIVES, USERS, CLASSES):
        raise ValueError(messages.HIVE_NAME_REQUIRED.format(pattern=pattern))
    return pattern


def _build_values(text: str) -> ValueNames:
    r"""``KEY : NAME | NAME | !EXCEPTED``; no name is the default value's."""
    key, colon, listed = text.partition(" :")
    if not colon:
        raise ValueError(messages.VALUE_NEEDS_KEY_AND_NAME.format(text=text))
    names = [name.strip() for name in listed.split("|")]
    return ValueNames(
        _checked_key(key),
        tuple(name for name in names if not name.startswith("!")),
        tuple(name[1:] for name in names if name.startswith("!")),
    )


def _build_regrowth(table: RegrowthTable) -> Regrowth:
    services = _texts(table.service)
    return Regrowth(
        by=table.by or (f"{services[0]} on the first boot" if services else "not needed"),
        services=services,
        services_with_seed=_texts(table.service_with_seed),
        commands=_texts(table.command),
        programs=_texts(table.program),
        required=table.required,
        needs_pass=table.needs_pass,
    )


def _texts(value: Texts) -> tuple[str, ...]:
    return (value,) if isinstance(value, str) else value
