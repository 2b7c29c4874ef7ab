"""Installed packages, from the package managers' own records in the guest.

Sources: dpkg(1) and deb-control(5) for ``/var/lib/dpkg/status``; apk(5) for
``/lib/apk/db/installed``; pacman's ``/var/lib/pacman/local/NAME-VERSION/desc``; RPM's database
(``rpm_database``).
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from typing import Any

from zeroseal.guests.components import Kind
from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.rpm_database import database_files, read_rpm_packages

_DPKG_STATUS = "/var/lib/dpkg/status"
_APK_INSTALLED = "/lib/apk/db/installed"
_LONGEST_LIST = 256 << 20
_INSTALLED_OFTEN = re.compile(r"kernel|kmod-")  # several by design
_HALF_STATES = frozenset(("half-installed", "half-configured", "unpacked", "triggers-pending"))


@dataclass(frozen=True)
class Package:
    """One package.

    Attributes:
        kind: whose it is.
        is_half_installed: whether its installation did not come to an end.
        source: the name of the source package that it was built from; empty where that is its own.
        maker: who says to have made it.
    """

    name: str
    version: str
    is_half_installed: bool = False
    kind: Kind = Kind.DEB
    architecture: str = ""
    source: str = ""
    maker: str = ""


def read_packages(guest: Guest) -> list[Package]:
    """All installed packages, by name; empty where no package manager that we know is there."""
    found = [*_from_dpkg(guest), *_from_apk(guest), *_from_pacman(guest), *_from_rpm(guest)]
    return sorted(found, key=lambda package: package.name)


def packages_changed_at(guest: Guest) -> int:
    """When the package managers last wrote down a change, seconds since 1970; 0 for no record."""
    places = (_DPKG_STATUS, _APK_INSTALLED, "/var/lib/pacman/local", *database_files(guest))
    return max((guest.facts(path).changed_at for path in places if guest.exists(path)), default=0)


def changed_packages(before: dict[str, str], after: dict[str, str]) -> list[str]:
    """What changed between two lists (version by name), as short texts by name."""
    changes = []
    for name in sorted(before.keys() | after.keys()):
        old, new = before.get(name), after.get(name)
        if old is None:
            changes.append(f"{name} {new} added")
        elif new is None:
            changes.append(f"{name} {old} removed")
        elif old != new:
            changes.append(f"{name} {old} -> {new}")
    return changes


def versions_of(packages: list[Package]) -> dict[str, str]:
    """Versions by name."""
    return {package.name: package.version for package in packages}


def set_package_version(guest: Guest, name: str, version: str) -> bytes:
    """Dpkg's status with a package at a version, added where it is not there; for simulations."""
    paragraphs = [text for text in guest.read_text(_DPKG_STATUS).split("\n\n") if text.strip()]
    entry = f"Package: {name}\nStatus: install ok installed\nVersion: {version}"
    for number, text in enumerate(paragraphs):
        if _fields(text).get("Package") == name:
            lines = [
                f"Version: {version}" if line.startswith("Version:") else line
                for line in text.strip().splitlines()
            ]
            paragraphs[number] = "\n".join(lines)
            break
    else:
        paragraphs.append(entry)
    return ("\n\n".join(text.strip("\n") for text in paragraphs) + "\n").encode()


def _from_dpkg(guest: Guest) -> Iterator[Package]:
    for paragraph in guest.read_text(_DPKG_STATUS).split("\n\n"):
        fields = _fields(paragraph)
        state = fields.get("Status", "").split()
        if len(state) != 3 or state[2] in ("not-installed", "config-files"):
            continue
        yield Package(
            fields.get("Package", "?"),
            fields.get("Version", ""),
            state[2] in _HALF_STATES,
            Kind.DEB,
            fields.get("Architecture", ""),
            fields.get("Source", "").partition(" ")[0],
            fields.get("Maintainer", ""),
        )


def _from_apk(guest: Guest) -> Iterator[Package]:
    for paragraph in guest.read_text(_APK_INSTALLED).split("\n\n"):
        lines = dict(line.split(":", 1) for line in paragraph.splitlines() if line[1:2] == ":")
        if "P" in lines:
            yield Package(
                lines["P"],
                lines.get("V", ""),
                kind=Kind.APK,
                architecture=lines.get("A", ""),
                source=lines.get("o", ""),
                maker=lines.get("m", ""),
            )


def _from_pacman(guest: Guest) -> Iterator[Package]:
    for path in guest.glob("/var/lib/pacman/local/*/desc"):
        words = guest.read_text(path).split("\n")
        values = {key: words[number + 1] for number, key in enumerate(words[:-1])}
        if "%NAME%" in values:
            yield Package(
                values["%NAME%"],
                values.get("%VERSION%", ""),
                kind=Kind.PACMAN,
                architecture=values.get("%ARCH%", ""),
                source=values.get("%BASE%", ""),
                maker=values.get("%PACKAGER%", ""),
            )


def _from_rpm(guest: Guest) -> Iterator[Package]:
    """Of an interrupted update both versions are installed, of which one was to go."""
    packages = read_rpm_packages(guest)
    often = Counter((one.name, one.architecture) for one in packages)
    for package in packages:
        is_twice = often[package.name, package.architecture] > 1
        may_be = _INSTALLED_OFTEN.match(package.name) is not None
        yield Package(
            package.name,
            package.version,
            is_twice and not may_be,
            Kind.RPM,
            package.architecture,
            package.source,
            package.maker,
        )


def _fields(paragraph: str) -> dict[str, str]:
    lines = (line.partition(":") for line in paragraph.splitlines() if line[:1].strip())
    return {key: value.strip() for key, _colon, value in lines}


@dataclass(frozen=True)
class PendingUpdates:
    """Packages that the cached lists know in a newer version; ``lists_from`` in seconds."""

    names: list[str]
    lists_from: int


def pending_updates(guest: Guest) -> PendingUpdates | None:
    """What could be newer, by apt's cached lists; None where there are none that can be read."""
    lists = [path for path in guest.glob("/var/lib/apt/lists/*_Packages") if guest.is_file(path)]
    if not lists:
        return None
    installed = versions_of(list(_from_dpkg(guest)))
    newer: set[str] = set()
    for path in lists:
        for name, version in _iter_offered(guest.read_file(path, _LONGEST_LIST), installed):
            old = installed[name]
            if old and old != version and version_key(version) > version_key(old):
                newer.add(name)
    moment = max(guest.facts(path).changed_at for path in lists)
    return PendingUpdates(sorted(newer), moment)


def _iter_offered(raw: bytes, names: Collection[str]) -> Iterator[tuple[str, str]]:
    """(name, version) of those names that a list has; a large one has seventy thousand others."""
    wanted = {name.encode(): name for name in names}
    for begin in _iter_paragraphs(raw):
        name = wanted.get(raw[begin : raw.find(b"\n", begin)])
        if name is None:
            continue
        end = raw.find(b"\n\n", begin)
        _before, found, rest = raw[begin : end if end >= 0 else len(raw)].partition(_VERSION_KEY)
        if found:
            yield name, rest.partition(b"\n")[0].strip().decode("utf-8", "replace")


def _iter_paragraphs(raw: bytes) -> Iterator[int]:
    """Yields where the name of each package of a list begins."""
    if raw.startswith(_NAME_KEY[1:]):
        yield len(_NAME_KEY) - 1
    place = raw.find(_NAME_KEY)
    while place >= 0:
        yield place + len(_NAME_KEY)
        place = raw.find(_NAME_KEY, place + 1)


_NAME_KEY, _VERSION_KEY = b"\nPackage: ", b"\nVersion: "
_PARTS = re.compile(r"([^0-9]*)([0-9]*)")
_TILDE, _END, _LETTER, _OTHER = -1, 0, 1, 2


def version_key(version: str) -> tuple[Any, ...]:
    """What to sort versions by: epoch, then upstream version, then revision."""
    epoch, colon, rest = version.partition(":")
    if not colon or not epoch.isdigit():
        epoch, rest = "0", version
    upstream, _dash, revision = rest.rpartition("-")
    if not upstream:
        upstream, revision = rest, ""
    return int(epoch), _part_key(upstream), _part_key(revision)


def _part_key(text: str) -> tuple[Any, ...]:
    key: list[Any] = []
    for signs, digits in _PARTS.findall(text):
        if signs or digits:
            key.append((*(_sign_key(sign) for sign in signs), (_END, 0)))
            key.append(int(digits or 0))
    return (*key, ((_END, 0),))


def _sign_key(sign: str) -> tuple[int, int]:
    if sign == "~":
        return _TILDE, 0
    return (_LETTER if sign.isalpha() else _OTHER), ord(sign)
