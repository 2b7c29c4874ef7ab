"""Whose a file is: a package's as it shipped it, a package's and changed, made by one, or nobody's.

Sources: dpkg(1), ``/var/lib/dpkg/info/PACKAGE.{list,md5sums}`` and its maintainer scripts; apk(5),
``/lib/apk/db/installed`` (F: folder, R: file); pacman's ``/var/lib/pacman/local/*/files``; RPM's
database (``rpm_database``).
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from enum import Enum
from functools import cached_property

from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.rpm_database import has_database, read_rpm_packages
from zeroseal.guests.linux.shipped_files import ShippedFiles

_DPKG_INFO, _PACMAN_LOCAL = "/var/lib/dpkg/info", "/var/lib/pacman/local"
_APK_INSTALLED = "/lib/apk/db/installed"
_SCRIPTS = ("preinst", "postinst", "prerm", "postrm", "config", "triggers")
_LONGEST_LIST = 64 << 20
_PATH = re.compile(rb"/(?:etc|var|opt|srv|usr/local)/[A-Za-z0-9_.+@:/-]+")


class Claim(Enum):
    """Whose a file is."""

    SHIPPED = "shipped by a package"
    CHANGED = "shipped by a package and changed"
    MADE = "made by a package's scripts"
    NOBODY = "nobody's"


class FileClaims:
    """What the package databases of a guest say of its files.

    Args:
        guest: with dpkg, apk, pacman or RPM.
    """

    def __init__(self, guest: Guest) -> None:
        self._guest = guest
        self._digests = ShippedFiles(guest)

    @property
    def is_known(self) -> bool:
        """Whether there is a database that lists files."""
        places = (_DPKG_INFO, _APK_INSTALLED, _PACMAN_LOCAL)
        return any(map(self._guest.exists, places)) or has_database(self._guest)

    def claim_of(self, path: str) -> Claim:
        """Whose a file is: by its path, and what a package shipped by its content too."""
        if self._is_shipped(path):
            return Claim.CHANGED if self._digests.is_changed(path) else Claim.SHIPPED
        return Claim.MADE if self._is_made(path) else Claim.NOBODY

    def is_nobodys(self, path: str) -> bool:
        """Whether no package has to do with a file, by its path alone."""
        return not self._is_shipped(path) and not self._is_made(path)

    # -- inside

    def _is_shipped(self, path: str) -> bool:
        return path in self._shipped or path.removeprefix("/usr") in self._shipped

    def _is_made(self, path: str) -> bool:
        return path in self._mentioned or any(
            above in self._mentioned and above not in self._shipped for above in _folders_of(path)
        )

    @cached_property
    def _shipped(self) -> set[str]:
        """Every path that a package lists, folders among them."""
        return {
            *self._from_dpkg(),
            *self._from_apk(),
            *self._from_pacman(),
            *self._from_rpm(),
        }

    @cached_property
    def _mentioned(self) -> set[str]:
        """Every path that a package's scripts name."""
        found: set[bytes] = set()
        for kind in _SCRIPTS:
            for script in self._guest.glob(f"{_DPKG_INFO}/*.{kind}"):
                found.update(_PATH.findall(self._guest.read_file(script)))
        return {path.decode().rstrip("/.:") for path in found}

    def _from_dpkg(self) -> Iterator[str]:
        for name in self._guest.glob(f"{_DPKG_INFO}/*.list"):
            yield from self._guest.read_text(name).splitlines()

    def _from_apk(self) -> Iterator[str]:
        folder = ""
        for line in self._read(_APK_INSTALLED).splitlines():
            kind, _colon, value = line.partition(":")
            if kind == "F":
                folder = value
                yield f"/{value}"
            elif kind == "R":
                yield f"/{folder}/{value}"

    def _from_pacman(self) -> Iterator[str]:
        for name in self._guest.glob(f"{_PACMAN_LOCAL}/*/files"):
            yield from (f"/{line.rstrip('/')}" for line in self._read(name).splitlines())

    def _from_rpm(self) -> Iterator[str]:
        for package in read_rpm_packages(self._guest):
            yield from (file.path for file in package.files)

    def _read(self, path: str) -> str:
        if not self._guest.is_file(path):
            return ""
        return self._guest.read_file(path, _LONGEST_LIST).decode("utf-8", "surrogateescape")


def _folders_of(path: str) -> Iterator[str]:
    """The folders that a path lies in, below the second level: those of one purpose."""
    parts = path.split("/")
    for depth in range(4, len(parts)):
        yield "/".join(parts[:depth])
