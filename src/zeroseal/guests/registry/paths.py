r"""Keys by pattern, over all hives of a machine: control sets, per-user hives, wildcards.

A pattern is ``HIVE\KEY\...``: the hive is one of ``SYSTEM``, ``SOFTWARE``, ``SAM``, ``SECURITY``,
``DEFAULT``, or ``USERS`` for every profile's own (the default profile's and that of the logon
screen among them) and ``CLASSES`` for its classes. In a part of a key ``*`` and ``?`` stand for
letters, ``**`` for any number of parts; ``CSn`` stands for every control set that is there, because
an offline hive has no current one.
"""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Protocol

from zeroseal.errors import NeedsRecoveryError
from zeroseal.guests.registry import value_types
from zeroseal.guests.registry.hive import Hive, Key, Value, upper
from zeroseal.guests.registry.hive_names import CLASSES, MACHINE_HIVES, USERS
from zeroseal.guests.registry.logs import replay_logs
from zeroseal.messages import registry as messages

CONFIG_FOLDER = "/Windows/System32/config"
DEFAULT_PROFILE = "/Users/Default"
_PROFILES = "Microsoft\\Windows NT\\CurrentVersion\\ProfileList"
_USER_FILES = {USERS: "NTUSER.DAT", CLASSES: "AppData/Local/Microsoft/Windows/UsrClass.dat"}
_CONTROL_SET = re.compile(r"ControlSet\d{3}$", re.IGNORECASE)
_MOST_DEPTH = 64


class HiveFiles(Protocol):
    """Where a machine's hives are read from; paths have no case, as the guest sees them."""

    def read(self, path: str) -> bytes | None:
        """A whole file; None where there is none."""


@dataclass(frozen=True)
class Profile:
    """A user's profile: who it is, and its folder in the guest (``/Users/ada``)."""

    sid: str
    folder: str


@dataclass(frozen=True)
class FoundKey:
    """A key that a pattern fits: the file of its hive, the hive, and the key's path in it."""

    file: str
    hive: Hive
    path: str
    key: Key


class Registry:
    """The hives of one machine, each opened when it is first asked for.

    Args:
        files: where they are read from.
        recover: whether a dirty hive is replayed from its logs in memory; else it is an error.
    """

    def __init__(self, files: HiveFiles, recover: bool = False) -> None:
        self._files, self._recover = files, recover
        self._hives: dict[str, Hive | None] = {}
        self._new: dict[str, bytes] = {}  # contents that are to be read, by the lower-case path

    def hive(self, path: str) -> Hive | None:
        """The hive in a file; None where there is no such file.

        Raises:
            DamagedError, UnsupportedError, NeedsRecoveryError: as ``Hive``.
        """
        if path not in self._hives:
            raw = self._new.get(path.lower())
            raw = self._files.read(path) if raw is None else raw
            self._hives[path] = None if raw is None else self._open(path, raw)
        return self._hives[path]

    def put(self, path: str, content: bytes) -> None:
        """From now on this is the content of the hive in a file."""
        for known in list(self._hives):
            if known.lower() == path.lower():
                del self._hives[known]
        self._new[path.lower()] = content

    def profiles(self) -> list[Profile]:
        """All profiles that the machine lists, with the variables of their paths filled in."""
        hive = self.hive(f"{CONFIG_FOLDER}/SOFTWARE")
        listed = hive.find_key(_PROFILES) if hive else None
        if hive is None or listed is None:
            return []
        found = []
        for key in hive.subkeys(listed):
            value = hive.find_value(key, "ProfileImagePath")
            text = value_types.typed(value) if value else ""
            if isinstance(text, str) and text:
                path = value_types.expand(text, self.variables())
                found.append(Profile(key.name, guest_path(path)))
        return found

    def variables(self) -> dict[str, str]:
        """The variables that paths of this machine are written with."""
        known = {
            "SystemDrive": "C:",
            "SystemRoot": "C:\\Windows",
            "windir": "C:\\Windows",
            "ProgramData": "C:\\ProgramData",
            "Public": "C:\\Users\\Public",
        }
        hive = self.hive(f"{CONFIG_FOLDER}/SYSTEM")
        if hive is None:
            return known
        for control_set in self._control_sets(hive):
            key = hive.find_key("Control\\Session Manager\\Environment", control_set)
            for value in hive.values(key) if key else ():
                text = value_types.typed(value)
                if isinstance(text, str) and value.name:
                    known.setdefault(value.name, value_types.expand(text, known))
        return known

    def find(self, pattern: str) -> Iterator[FoundKey]:
        """Yields the keys that a pattern fits, in the order of files and keys.

        Raises:
            ValueError: the pattern names no hive.
        """
        name, _slash, rest = pattern.partition("\\")
        parts = [part for part in rest.split("\\") if part]
        for file in self._files_of(name.upper()):
            hive = self.hive(file)
            if hive is not None:
                for path, key in self._match(hive, hive.root, parts, 0):
                    yield FoundKey(file, hive, "\\".join(path), key)

    def values(self, pattern: str, name: str) -> Iterator[tuple[FoundKey, Value]]:
        """Yields the values of those keys whose names fit a pattern."""
        for found in self.find(pattern):
            for value in found.hive.values(found.key):
                if fits(value.name, name):
                    yield found, value

    # -- inside

    def _open(self, path: str, raw: bytes) -> Hive:
        try:
            return Hive(raw, path)
        except NeedsRecoveryError:
            if not self._recover:
                raise
        logs = [self._files.read(f"{path}{ending}") for ending in (".LOG", ".LOG1", ".LOG2")]
        return Hive(replay_logs(raw, [log for log in logs if log], path), path)

    def _files_of(self, name: str) -> Iterator[str]:
        if name in MACHINE_HIVES:
            yield f"{CONFIG_FOLDER}/{name}"
        elif name in _USER_FILES:
            for profile in self.profiles():
                yield f"{profile.folder}/{_USER_FILES[name]}"
            if name == USERS:
                yield f"{DEFAULT_PROFILE}/{_USER_FILES[name]}"
                yield f"{CONFIG_FOLDER}/DEFAULT"
        else:
            raise ValueError(messages.HIVE_NOT_KNOWN.format(name=name))

    def _control_sets(self, hive: Hive) -> list[Key]:
        return [key for key in hive.subkeys(hive.root) if _CONTROL_SET.match(key.name)]

    def _match(
        self, hive: Hive, key: Key, parts: list[str], depth: int
    ) -> Iterator[tuple[list[str], Key]]:
        if depth > _MOST_DEPTH:
            return
        if not parts:
            yield [], key
            return
        first, rest = parts[0], parts[1:]
        if first == "**":
            yield from self._match(hive, key, rest, depth + 1)
            children, rest = list(hive.subkeys(key)), parts
        elif first == "CSn" and key.offset == hive.base.root:
            children = self._control_sets(hive)
        elif _is_pattern(first):
            children = [child for child in hive.subkeys(key) if fits(child.name, first)]
        else:
            child = hive.find_key(first, key)
            children = [child] if child else []
        for child in children:
            for path, found in self._match(hive, child, rest, depth + 1):
                yield [child.name, *path], found


def guest_path(text: str) -> str:
    r"""A path of Windows (``C:\Users\ada``) as a path in the guest.

    Another drive than ``C:`` has no place there: the path begins with its letter (``/d:``).
    """
    rest = text[2:] if text[:2].lower() == "c:" else text.replace(":", ":\\", 1)
    return "/" + "/".join(part for part in rest.split("\\") if part)


def _is_pattern(part: str) -> bool:
    return any(sign in part for sign in "*?")


def fits(name: str, pattern: str) -> bool:
    """Whether a name is like a pattern of ``*`` and ``?``, whatever its case."""
    escaped = pattern.replace("[", "[[]")
    return fnmatch.fnmatchcase(upper(name), upper(escaped))
