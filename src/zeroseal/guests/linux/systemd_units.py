"""Systemd's units as the guest has them: files, drop-ins, links, and what pulls in what.

Source: systemd.unit(5), systemd.socket(5), systemd.timer(5), systemd.path(5), bootup(7). Units that
generators write at boot are not seen, but for those of cloud-init.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from zeroseal.errors import DamagedError
from zeroseal.guests.guest import Found, Guest

_FOLDERS = ("/etc/systemd/system", "/usr/lib/systemd/system", "/lib/systemd/system")
_KINDS_OF_LINKS = ("wants", "requires", "upholds")
_PULLING = ("Wants", "Requires", "Requisite", "BindsTo", "Upholds", "Sockets")
_DEFAULT_TARGETS = ("multi-user.target", "graphical.target")
_ALWAYS = ("sysinit.target", "basic.target", "sockets.target", "timers.target", "paths.target")
_MOST_UNITS = 5000


@dataclass(frozen=True)
class Unit:
    """A unit's settings in their order, drop-ins behind the file itself.

    Attributes:
        settings: (key, value) pairs; an empty value takes back what stood before.
    """

    name: str
    settings: tuple[tuple[str, str], ...]

    def values(self, key: str) -> list[str]:
        """The values of a key that are in force."""
        found: list[str] = []
        for name, value in self.settings:
            if name == key:
                found = [*found, value] if value else []
        return found


class SystemdUnits:
    """The units of a guest, and which of them a boot reaches."""

    def __init__(self, guest: Guest) -> None:
        self._guest = guest
        self._files: dict[str, list[str]] = {}
        self._links: dict[str, list[str]] = {}
        self._drop_ins: dict[str, list[str]] = {}
        self._units: dict[str, Unit] = {}
        for folder in _FOLDERS:
            self._read_folder(folder)
        self.reached = frozenset(self._reach())

    def _read_folder(self, folder: str) -> None:
        for name in self._guest.list_names(folder):
            stem, _dot, kind = name.rpartition(".")
            if kind in _KINDS_OF_LINKS:
                self._links.setdefault(stem, []).extend(self._guest.list_names(f"{folder}/{name}"))
            elif kind == "d":
                self._drop_ins.setdefault(stem, []).append(f"{folder}/{name}")
            else:
                self._files.setdefault(name, []).append(f"{folder}/{name}")

    def is_masked(self, name: str) -> bool:
        """Whether a unit leads to /dev/null, or is an empty file."""
        path = self._path_of(name)
        if path is None:
            return False
        found = self._find(path)
        if found is None or found.path == "/dev/null":
            link = self._guest.find(path, follow_last=False)
            tree = self._guest.mounts[link.place.mount_no].tree if link else None
            return bool(link and tree and tree.read_link(link.place.node) == b"/dev/null")
        return False

    def _find(self, path: str) -> Found | None:
        """Where a unit's link leads; nowhere where it leads in circles."""
        try:
            return self._guest.find(path)
        except DamagedError:
            return None

    def has_unit(self, name: str) -> bool:
        """Whether there is a file of a unit."""
        return self._path_of(name) is not None

    def get_unit(self, name: str) -> Unit:
        """A unit's settings, read once; none where there is no such unit."""
        if name not in self._units:
            self._units[name] = self._read_unit(name)
        return self._units[name]

    def _read_unit(self, name: str) -> Unit:
        settings: list[tuple[str, str]] = []
        path = self._path_of(name)
        paths = [path] if path else []
        for stem in (_template_of(name), name) if "@" in name else (name,):
            for folder in reversed(self._drop_ins.get(stem, [])):
                names = self._guest.list_names(folder)
                paths += [f"{folder}/{item}" for item in names if item.endswith(".conf")]
        for item in (item for item in paths if self._find(item)):
            settings += _parse_settings(self._guest.read_text(item))
        return Unit(name, tuple(settings))

    def _path_of(self, name: str) -> str | None:
        """Where a unit's file is: the administrator's wins over the package's."""
        for wanted in dict.fromkeys((name, _template_of(name))):
            if wanted in self._files:
                return self._files[wanted][0]
        return None

    def _reach(self) -> Iterator[str]:
        """Yields every unit that a boot pulls in."""
        pending = [*self._first_units()]
        seen: set[str] = set()
        while pending and len(seen) < _MOST_UNITS:
            name = pending.pop()
            is_missing = name.endswith(".service") and not self.has_unit(name)
            if name in seen or is_missing or self.is_masked(name):
                continue
            seen.add(name)
            yield name
            pending += self._pulled_by(name)

    def _first_units(self) -> list[str]:
        default = self._guest.find("/etc/systemd/system/default.target") or self._guest.find(
            "/usr/lib/systemd/system/default.target"
        )
        names = [default.path.rpartition("/")[2]] if default else list(_DEFAULT_TARGETS)
        if "graphical.target" in names:
            names.append("multi-user.target")
        if self._guest.exists("/usr/lib/systemd/system-generators/cloud-init-generator"):
            names.append("cloud-init.target")
        return [*names, "default.target", *_ALWAYS]

    def _pulled_by(self, name: str) -> list[str]:
        pulled = list(self._links.get(name, []))
        stem, _dot, kind = name.rpartition(".")
        if "@" in name:
            pulled += self._links.get(_template_of(name), [])
        unit = self.get_unit(name)
        for key in _PULLING:
            pulled += [word for value in unit.values(key) for word in value.split()]
        if kind == "socket":
            pulled += unit.values("Service") or [f"{stem}.service", f"{stem}@.service"]
        if kind in ("timer", "path"):
            pulled += unit.values("Unit") or [f"{stem}.service"]
        instance = stem.partition("@")[2]
        pulled = [item.replace("%i", instance).replace("%I", instance) for item in pulled]
        path = self._path_of(name)
        found = self._find(path) if path else None
        alias = found.path.rpartition("/")[2] if found else name
        return [*pulled, alias] if alias != name and "@" not in name else pulled


def _template_of(name: str) -> str:
    """``keys@rsa.service`` is an instance of ``keys@.service``."""
    return re.sub(r"@[^.]+\.", "@.", name)


def _parse_settings(text: str) -> list[tuple[str, str]]:
    settings = []
    for line in re.sub(r"\\\n", " ", text).splitlines():
        key, equals, value = line.strip().partition("=")
        if equals and not key.startswith(("#", ";", "[")):
            settings.append((key.strip(), value.strip()))
    return settings
