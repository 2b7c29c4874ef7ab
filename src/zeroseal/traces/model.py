"""What a trace is: the shape of a catalogue entry."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum
from typing import NamedTuple

from zeroseal.traces.key_edits import KeyEdit


class Treatment(Enum):
    """What is done to a finding."""

    REMOVE = "remove"
    EMPTY = "empty"
    REWRITE = "rewrite"
    BLANK = "blank"
    REPLACE = "replace"
    RENAME = "rename"
    KEEP = "keep"


@dataclass(frozen=True)
class PathGlobs:
    """Places by path; see ``Guest.glob`` for the patterns."""

    patterns: tuple[str, ...]


@dataclass(frozen=True)
class HomeGlobs:
    """Places by path below the home folder of every account that stays."""

    patterns: tuple[str, ...]


@dataclass(frozen=True)
class RegistryKeys:
    """Keys of a Windows' registry; see ``guests.registry.paths`` for the patterns."""

    patterns: tuple[str, ...]


class ValueNames(NamedTuple):
    """Values of the keys that a pattern fits: those that a name fits, and none that is excepted."""

    key: str
    names: tuple[str, ...]
    excepted: tuple[str, ...] = ()


@dataclass(frozen=True)
class RegistryValues:
    """Values of a Windows' registry."""

    patterns: tuple[ValueNames, ...]


@dataclass(frozen=True)
class EventLogs:
    """Event logs of a Windows, by the names of their channels (``Security``, ``*``)."""

    patterns: tuple[str, ...]


@dataclass(frozen=True)
class InCode:
    """Places that a finder names: no pattern can (``finders.get_finder``)."""

    name: str


Locator = PathGlobs | HomeGlobs | RegistryKeys | RegistryValues | EventLogs | InCode


@dataclass(frozen=True)
class Where:
    """A locator and what is done to what it finds.

    Attributes:
        content: with ``replace``, the new content.
        clean: contents (without white space around them) that are clean already.
        edit: with ``rewrite`` of paths, what is done to keys of the text.
        contains: only files are meant whose text has this pattern (a regular expression).
        unless_any_contains: none of the files is meant where any has this pattern in its text.
        if_present: only guests are meant that have one of these paths; ``if_absent``, none of them.
        excepted: paths that are not meant though a pattern fits; ``*`` stands for ``/`` too.
        files_only: leave folders and links alone that the patterns match.
        follow: where a link is matched, remove the file that it leads to as well.
    """

    locator: Locator
    treatment: Treatment
    content: str = ""
    clean: tuple[str, ...] = ()
    edit: KeyEdit | None = None
    contains: str = ""
    unless_any_contains: str = ""
    if_present: tuple[str, ...] = ()
    if_absent: tuple[str, ...] = ()
    excepted: tuple[str, ...] = ()
    files_only: bool = False
    follow: bool = False


@dataclass(frozen=True)
class Regrowth:
    """What creates a removed identity anew on a clone.

    Attributes:
        by: who does it and when, a sentence.
        services: units of the guest; any of them enabled is proof of regrowth.
        services_with_seed: units that do it only on a clone that is given a seed.
        commands: what a service that regrows it calls, whatever the service's name is.
        programs: paths of the guest; any of them present is proof of regrowth.
        required: whether a clone without it would be of no use (a lock-out).
        needs_pass: whether only the set-up of a resealed Windows makes it anew.
    """

    by: str
    services: tuple[str, ...] = ()
    services_with_seed: tuple[str, ...] = ()
    commands: tuple[str, ...] = ()
    programs: tuple[str, ...] = ()
    required: bool = False
    needs_pass: bool = False


@dataclass(frozen=True)
class Trace:
    """One kind of identity or private residue.

    Attributes:
        id: stable and never used for anything else, ``family.name``.
        why: what goes wrong when clones share it.
        guest: the guest family it is for: ``linux``, ``windows``, or ``any``.
        risk: what removing it may cost, ``none`` where nothing.
        source: where the fact comes from.
    """

    id: str
    title: str
    why: str
    guest: str
    places: tuple[Where, ...]
    regrowth: Regrowth
    risk: str
    source: str

    @property
    def family(self) -> str:
        """The family that the id begins with."""
        return self.id.partition(".")[0]


FAMILIES = {
    "identity": "Identity: who the machine thinks it is",
    "keys": "Keys: secrets that prove its identity",
    "people": "People: accounts, profiles, histories",
    "wire": "Wire: network",
    "diary": "Diary: logs and other records of activity",
    "leftovers": "Leftovers: caches and temporary files",
    "birth": "Birth: first-boot state",
    "disk": "Disk: swap, journal, free space",
}
"""Trace families in the order in which they are shown."""

SEAL_FAMILIES = ("identity", "keys", "wire")
"""A seal that skips a trace of these is none: two clones would be one machine."""
