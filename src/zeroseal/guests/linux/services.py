"""Which services the guest starts: systemd's units, OpenRC's runlevels, scripts of System V.

What a service does is read from the commands that it runs, so that a key generator is known by what
it calls and not by the name that a distribution gave it.
"""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Collection, Iterator
from functools import cached_property

from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.systemd_units import SystemdUnits

_RUNLEVELS = ("sysinit", "boot", "default")
_SYSTEMD = ("/usr/lib/systemd/systemd", "/lib/systemd/systemd")
_OPENRC = ("/sbin/openrc", "/usr/bin/openrc", "/usr/sbin/openrc", "/sbin/openrc-run")
_EXEC_KEYS = ("ExecStartPre", "ExecStart", "ExecStartPost", "ExecCondition")
_SCRIPT_BYTES = 64 << 10
_VOLATILE = ("/run/", "/sys/", "/proc/", "/dev/")


class Services:
    """The services of a guest that a boot starts."""

    def __init__(self, guest: Guest) -> None:
        self._guest = guest

    @property
    def has_systemd(self) -> bool:
        """Whether systemd is what starts services."""
        has_openrc = any(self._guest.exists(path) for path in _OPENRC)
        return any(self._guest.exists(path) for path in _SYSTEMD) or (
            self._guest.is_folder("/etc/systemd/system") and not has_openrc
        )

    @property
    def has_openrc(self) -> bool:
        """Whether OpenRC is what starts services."""
        return not self.has_systemd and self._guest.is_folder("/etc/runlevels/default")

    @cached_property
    def _units(self) -> SystemdUnits:
        return SystemdUnits(self._guest)

    @cached_property
    def scripts(self) -> frozenset[str]:
        """Names of the init scripts that a boot runs: of OpenRC, or of System V."""
        names: set[str] = set()
        if self.has_openrc:
            for level in _RUNLEVELS:
                names.update(self._guest.list_names(f"/etc/runlevels/{level}"))
            return frozenset(names)
        for pattern in ("/etc/rc[S2-5].d/S*", "/etc/rc.d/rc[2-5].d/S*"):
            for path in self._guest.glob(pattern):
                names.add(re.sub(r"^S\d+", "", path.rpartition("/")[2]))
        if self.has_systemd:
            names = {name for name in names if not self._units.has_unit(f"{name}.service")}
        return frozenset(names)

    def is_enabled(self, name: str, gone: Collection[str] = ()) -> bool:
        """Whether a boot starts a unit or an init script, and its conditions hold.

        Args:
            name: a unit, also as a pattern of instances (``sshd-keygen@*.service``).
            gone: paths that will not be there when it starts.
        """
        stem = name.removesuffix(".service")
        if stem in self.scripts:
            return True
        if not self.has_systemd:
            return False
        found = (unit for unit in self._units.reached if fnmatch.fnmatchcase(unit, name))
        return any(self._may_start(unit, gone) for unit in found)

    def first_enabled(self, names: Collection[str], gone: Collection[str] = ()) -> str:
        """The first of some services that a boot starts; empty where it starts none."""
        return next((name for name in names if self.is_enabled(name, gone)), "")

    def find_caller(self, commands: Collection[str], gone: Collection[str] = ()) -> str:
        """The started service that runs one of some commands; empty where none does.

        A command is looked for in what units execute, in the scripts that they call, and in init
        scripts.
        """
        for name, text in self._iter_run_texts(gone):
            if any(command in text for command in commands):
                return name
        return ""

    def iter_users(self) -> Iterator[tuple[str, str]]:
        """Yields (unit, account) of started units that run as another account than root."""
        if not self.has_systemd:
            return
        for name in sorted(self._units.reached):
            users = self._units.get_unit(name).values("User")
            if users and users[-1] not in ("root", "0"):
                yield name, users[-1]

    def _iter_run_texts(self, gone: Collection[str]) -> Iterator[tuple[str, str]]:
        """Yields (service, text of what it runs)."""
        for name in sorted(self.scripts):
            yield name, self._read_script(f"/etc/init.d/{name}")
        if not self.has_systemd:
            return
        for name in sorted(self._units.reached):
            if not name.endswith(".service") or not self._may_start(name, gone):
                continue
            unit = self._units.get_unit(name)
            for command in (value for key in _EXEC_KEYS for value in unit.values(key)):
                program, _space, _rest = command.lstrip("-@:+!").partition(" ")
                yield name, command
                if program.startswith("/") and program not in gone:
                    yield name, self._read_script(program)

    def _read_script(self, path: str) -> str:
        if not self._guest.is_file(path):
            return ""
        if self._guest.read_file(path, 2) != b"#!":
            return ""
        return self._guest.read_file(path, _SCRIPT_BYTES).decode("utf-8", "replace")

    # -- conditions, see systemd.unit(5)

    def _may_start(self, name: str, gone: Collection[str]) -> bool:
        """Whether no condition that can be judged on a disk speaks against a unit."""
        unit = self._units.get_unit(name)
        either: list[bool] = []
        for key in ("ConditionPathExists", "ConditionFileNotEmpty", "ConditionPathIsDirectory",
                    "ConditionDirectoryNotEmpty", "ConditionPathExistsGlob",
                    "ConditionFirstBoot"):  # fmt: skip
            for value in unit.values(key):
                asked = value.lstrip("|").lstrip("!")
                if asked.startswith(_VOLATILE):
                    continue
                holds = self._holds(key, asked, gone)
                holds ^= value.lstrip("|").startswith("!")
                if value.startswith("|"):
                    either.append(holds)
                elif not holds:
                    return False
        return not either or any(either)

    def _holds(self, key: str, value: str, gone: Collection[str]) -> bool:
        if key == "ConditionFirstBoot":
            # an empty machine ID, as a seal leaves it, is no first boot: machine-id(5)
            first = self._guest.read_text("/etc/machine-id").strip() == "uninitialized"
            return first == (value.lower() in ("yes", "true", "1", "on"))
        if key == "ConditionPathExistsGlob":
            return any(path not in gone for path in self._guest.glob(value))
        if value in gone or not self._guest.exists(value):
            return False
        if key == "ConditionFileNotEmpty":
            return self._guest.facts(value).size_bytes > 0
        if key == "ConditionDirectoryNotEmpty":
            return bool(self._guest.list_names(value))
        return True
