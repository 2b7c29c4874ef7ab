r"""Programs and updates that a Windows lists, from its registry.

Sources: the documentation of "Uninstall Registry Key" (``DisplayName``, ``DisplayVersion``,
``Publisher``, ``InstallDate``); the keys of component based servicing as a Windows writes them:
``Packages\NAME~TOKEN~ARCHITECTURE~LANGUAGE~VERSION`` with ``CurrentState`` 112 for installed and
``InstallTimeHigh``/``InstallTimeLow`` in FILETIME.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from zeroseal.guests.components import Component, Kind
from zeroseal.guests.registry import value_types
from zeroseal.guests.registry.paths import FoundKey
from zeroseal.guests.windows.hives import GuestRegistry

_CURRENT = "SOFTWARE\\Microsoft\\Windows\\CurrentVersion"
_PROGRAMS = (
    f"{_CURRENT}\\Uninstall\\*",
    "SOFTWARE\\WOW6432Node\\Microsoft\\Windows\\CurrentVersion\\Uninstall\\*",
)
_UPDATES = f"{_CURRENT}\\Component Based Servicing\\Packages\\Package_for_*"
_VERSION = "SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion"
_NUMBER = re.compile(r"Package_for_(KB\d+|RollupFix|ServicingStack[^~]*|DotNetRollup[^~]*)", re.I)
_INSTALLED = 112
_FILETIME_PER_SECOND, _SECONDS_1601_TO_1970 = 10_000_000, 11_644_473_600


def read_programs(registry: GuestRegistry) -> Iterator[Component]:
    """Yields the programs of the machine; those of one user's own are not the system's."""
    for pattern in _PROGRAMS:
        architecture = "x86" if "WOW6432Node" in pattern else ""
        for found in registry.find(pattern):
            name = _text(found, "DisplayName")
            if name:
                yield Component(
                    Kind.PROGRAM,
                    name,
                    _text(found, "DisplayVersion"),
                    architecture,
                    maker=_text(found, "Publisher"),
                )


def read_updates(registry: GuestRegistry) -> Iterator[Component]:
    """Yields the updates that are installed, by their numbers."""
    for found, match in _updates(registry):
        parts = found.key.name.split("~")
        if len(parts) == 5:
            yield Component(Kind.UPDATE, match[1], parts[4], parts[2])


def updated_at(registry: GuestRegistry) -> int:
    """When the last update was installed, seconds since 1970; 0 where nothing says so."""
    times = [
        (_number(found, "InstallTimeHigh") << 32 | _number(found, "InstallTimeLow"))
        // _FILETIME_PER_SECOND
        - _SECONDS_1601_TO_1970
        for found, _match in _updates(registry)
    ]
    return max(0, *times) if times else 0


def read_build(registry: GuestRegistry) -> Iterator[Component]:
    """Yields the system's own build, as its kernel is numbered."""
    for found in registry.find(_VERSION):
        build, revision = _text(found, "CurrentBuild"), _number(found, "UBR")
        if build:
            major = _number(found, "CurrentMajorVersionNumber") or 10
            minor = _number(found, "CurrentMinorVersionNumber")
            yield Component(Kind.KERNEL, "windows", f"{major}.{minor}.{build}.{revision}")


def _updates(registry: GuestRegistry) -> Iterator[tuple[FoundKey, re.Match[str]]]:
    for found in registry.find(_UPDATES):
        match = _NUMBER.match(found.key.name)
        if match and _number(found, "CurrentState") == _INSTALLED:
            yield found, match


def _text(found: FoundKey, name: str) -> str:
    value = found.hive.find_value(found.key, name)
    text = value_types.typed(value) if value else ""
    return text.strip("\0 ") if isinstance(text, str) else ""


def _number(found: FoundKey, name: str) -> int:
    value = found.hive.find_value(found.key, name)
    number = value_types.typed(value) if value else 0
    return number if isinstance(number, int) else 0
