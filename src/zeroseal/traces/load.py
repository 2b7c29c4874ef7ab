"""Reading the catalogue: TOML text to traces, validated with errors that name file and key."""

from __future__ import annotations

import hashlib
import re
import tomllib
from functools import cache
from importlib import resources
from typing import Any

from zeroseal.errors import UsageError
from zeroseal.guests.registry.paths import CLASSES, MACHINE_HIVES, USERS
from zeroseal.traces.key_edits import FORMATS, KeyEdit
from zeroseal.traces.model import (
    FAMILIES,
    EventLogs,
    Finder,
    FinderName,
    HomeGlobs,
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
_PLACE_KEYS = {
    *_LOCATORS,
    "treatment",
    "content",
    "clean",
    "edit",
    "contains",
    "unless_any_contains",
    "if_present",
    "if_absent",
    "except",
    "files_only",
    "follow",
}
_TRACE_KEYS = _PLACE_KEYS | {"id", "title", "why", "guest", "also", "regrowth", "risk", "source"}
_EDIT_KEYS = {"format", "section", "drop", "replace", "values"}
_REGROWTH_KEYS = {
    "by",
    "service",
    "service_with_seed",
    "command",
    "program",
    "required",
    "needs_pass",
}
_FILES = tuple(f"{kind}{family}.toml" for family in FAMILIES for kind in ("", "windows-"))


@cache
def load_catalogue() -> tuple[Trace, ...]:
    """The built-in traces, in the order of the families and of their files."""
    traces: list[Trace] = []
    for name in _FILES:
        traces += parse_traces(_read_catalogue_file(name), name)
    return tuple(traces)


@cache
def catalogue_digest() -> str:
    """SHA-256 of the catalogue's text, in hexadecimal."""
    digest = hashlib.sha256()
    for name in _FILES:
        digest.update(_read_catalogue_file(name).encode())
    return digest.hexdigest()


def parse_traces(text: str, file_name: str) -> list[Trace]:
    """Parses the ``[[trace]]`` tables of a TOML text.

    Raises:
        UsageError: no TOML, or an entry that breaks the schema; says file, trace and key.
    """
    try:
        document = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise UsageError(f"{file_name} is no valid TOML: {error}") from error
    traces = [_parse_trace(table, file_name) for table in document.get("trace", [])]
    seen: set[str] = set()
    for trace in traces:
        if trace.id in seen:
            raise UsageError(f"{file_name}: trace {trace.id} is there twice")
        seen.add(trace.id)
    return traces


def get_trace(trace_id: str) -> Trace:
    """The built-in trace of that id.

    Raises:
        UsageError: there is none; names what comes close.
    """
    return pick_trace(trace_id, load_catalogue())


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
    raise UsageError(f"there is no trace {trace_id!r}: {hint}")


def _read_catalogue_file(name: str) -> str:
    return (resources.files("zeroseal.traces") / "catalogue" / name).read_text("utf-8")


def _parse_trace(table: dict[str, Any], file_name: str) -> Trace:
    trace_id = table.get("id", "")
    where = f"{file_name}: trace {trace_id or '(without id)'}"
    if not isinstance(trace_id, str) or not _ID.fullmatch(trace_id):
        raise UsageError(f"{where}: id must look like family.some-name")
    if trace_id.partition(".")[0] not in FAMILIES:
        raise UsageError(f"{where}: there is no family {trace_id.partition('.')[0]}")
    _check_keys(table, _TRACE_KEYS, where)
    places = [_parse_place(table, where)]
    for extra in table.get("also", []):
        _check_keys(extra, _PLACE_KEYS, where)
        places.append(_parse_place(extra, where))
    guest = table.get("guest", "any")
    if guest not in _GUESTS:
        raise UsageError(f"{where}: guest must be one of {', '.join(_GUESTS)}")
    if guest != "windows" and any(_is_of_windows(place.locator) for place in places):
        raise UsageError(f'{where}: only guest = "windows" has keys, event logs and %FOLDERS%')
    return Trace(
        id=trace_id,
        title=_text(table, "title", where),
        why=_text(table, "why", where),
        guest=guest,
        places=tuple(places),
        regrowth=_parse_regrowth(table.get("regrowth", {}), where),
        risk=table.get("risk", "none"),
        source=table.get("source", ""),
    )


def _is_of_windows(locator: Locator) -> bool:
    if isinstance(locator, PathGlobs):
        return any(pattern.startswith("%") for pattern in locator.patterns)
    return isinstance(locator, RegistryKeys | RegistryValues | EventLogs)


def _parse_place(table: dict[str, Any], where: str) -> Where:
    try:
        treatment = Treatment(table.get("treatment"))
    except ValueError:
        names = ", ".join(item.value for item in Treatment)
        raise UsageError(f"{where}: treatment must be one of {names}") from None
    locator = _parse_locator(table, where)
    needs_edit = treatment is Treatment.REWRITE and not isinstance(locator, Finder)
    if needs_edit != ("edit" in table):
        raise UsageError(f"{where}: paths with the treatment rewrite, and no others, have an edit")
    _check_treatment(treatment, locator, where)
    return Where(
        locator=locator,
        treatment=treatment,
        content=table.get("content", ""),
        clean=_texts(table, "clean", where),
        edit=_parse_edit(table["edit"], where) if needs_edit else None,
        contains=_pattern(table.get("contains", ""), where),
        unless_any_contains=_pattern(table.get("unless_any_contains", ""), where),
        if_present=_texts(table, "if_present", where),
        if_absent=_texts(table, "if_absent", where),
        excepted=_texts(table, "except", where),
        files_only=table.get("files_only", False) is True,
        follow=table.get("follow", False) is True,
    )


def _check_treatment(treatment: Treatment, locator: Locator, where: str) -> None:
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
        raise UsageError(f"{where}: the treatment {treatment.value} needs another kind of place")


def _parse_edit(table: dict[str, Any], where: str) -> KeyEdit:
    _check_keys(table, _EDIT_KEYS, f"{where}: edit")
    if table.get("format") not in FORMATS:
        raise UsageError(f"{where}: edit.format must be one of {', '.join(FORMATS)}")
    drop, replace = _texts(table, "drop", where), table.get("replace", {})
    if not isinstance(replace, dict) or not all(isinstance(line, str) for line in replace.values()):
        raise UsageError(f"{where}: edit.replace must be a table of keys and lines")
    if not drop and not replace:
        raise UsageError(f"{where}: an edit drops keys or replaces their lines")
    return KeyEdit(
        format=table["format"],
        section=table.get("section", ""),
        drop=drop,
        replace=tuple(replace.items()),
        values=table.get("values", ""),
    )


def _pattern(text: str, where: str) -> str:
    try:
        re.compile(text)
    except re.error as error:
        raise UsageError(f"{where}: contains is no regular expression ({error})") from error
    return text


def _parse_locator(table: dict[str, Any], where: str) -> Locator:
    given = [key for key in _LOCATORS if key in table]
    if len(given) != 1:
        raise UsageError(f"{where}: give exactly one of {', '.join(_LOCATORS)}")
    match given[0]:
        case "paths":
            return PathGlobs(_parse_paths(table, where))
        case "keys":
            return RegistryKeys(_parse_keys(_texts(table, "keys", where), where))
        case "values":
            return RegistryValues(
                tuple(_parse_values(text, where) for text in _texts(table, "values", where))
            )
        case "event_logs":
            return EventLogs(_texts(table, "event_logs", where))
        case "home_paths":
            patterns = _texts(table, "home_paths", where)
            if not patterns or any(pattern.startswith("/") for pattern in patterns):
                raise UsageError(f"{where}: home_paths are relative to a home folder")
            return HomeGlobs(patterns)
    try:
        return Finder(FinderName(table["finder"]))
    except ValueError:
        raise UsageError(f"{where}: there is no finder {table['finder']!r}") from None


def _parse_paths(table: dict[str, Any], where: str) -> tuple[str, ...]:
    patterns = _texts(table, "paths", where)
    if not patterns or not all(pattern.startswith(("/", "%")) for pattern in patterns):
        raise UsageError(f"{where}: paths must be absolute")
    return patterns


def _parse_keys(patterns: tuple[str, ...], where: str) -> tuple[str, ...]:
    for pattern in patterns:
        if pattern.partition("\\")[0] not in (*MACHINE_HIVES, USERS, CLASSES):
            raise UsageError(f"{where}: {pattern!r} does not begin with the name of a hive")
    return patterns


def _parse_values(text: str, where: str) -> ValueNames:
    r"""``KEY : NAME | NAME | !EXCEPTED``; no name is the default value's."""
    key, colon, listed = text.partition(" :")
    if not colon:
        raise UsageError(f"{where}: {text!r} must be KEY : NAME")
    _parse_keys((key,), where)
    names = [name.strip() for name in listed.split("|")]
    return ValueNames(
        key,
        tuple(name for name in names if not name.startswith("!")),
        tuple(name[1:] for name in names if name.startswith("!")),
    )


def _parse_regrowth(table: dict[str, Any], where: str) -> Regrowth:
    _check_keys(table, _REGROWTH_KEYS, f"{where}: regrowth")
    services = _texts(table, "service", where)
    return Regrowth(
        by=table.get("by") or (f"{services[0]} on the first boot" if services else "not needed"),
        services=services,
        services_with_seed=_texts(table, "service_with_seed", where),
        commands=_texts(table, "command", where),
        programs=_texts(table, "program", where),
        required=bool(table.get("required", False)),
        needs_pass=bool(table.get("needs_pass", False)),
    )


def _check_keys(table: dict[str, Any], allowed: set[str], where: str) -> None:
    for key in table:
        if key not in allowed:
            raise UsageError(f"{where}: unknown key {key!r}")


def _text(table: dict[str, Any], key: str, where: str) -> str:
    value = table.get(key)
    if not isinstance(value, str) or not value.strip():
        raise UsageError(f"{where}: {key} is missing")
    return value


def _texts(table: dict[str, Any], key: str, where: str) -> tuple[str, ...]:
    value = table.get(key, ())
    if isinstance(value, str):
        return (value,)
    if not all(isinstance(item, str) for item in value):
        raise UsageError(f"{where}: {key} must be a text or a list of texts")
    return tuple(value)
