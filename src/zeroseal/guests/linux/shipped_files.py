"""Names that are common words too: where they stand in what the system's makers shipped, they stay.

An account called ``builder`` stands in hundreds of files of installed packages. Those files are the
same on every machine and say nothing of this one. What counts as shipped: the folders that the
Filesystem Hierarchy Standard gives to packages (``/usr`` without ``/usr/local``, ``/boot`` without
the initramfs, which is made on the machine), the package managers' own records, and configuration
files that are byte for byte as their package brought them (dpkg's ``Conffiles``, RPM's digests,
pacman's ``%BACKUP%`` and apk's ``Z:`` lines below ``/etc``).
"""

from __future__ import annotations

import base64
import hashlib
import re
from collections.abc import Iterator
from contextlib import suppress
from functools import cached_property

from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.rpm_database import read_rpm_packages

_SHIPPED = re.compile(
    r"^/(usr/(?!local(/|$))|lib(32|64|x32)?/|s?bin/|boot/(?!initr|initramfs|loader)"
    r"|var/lib/(dpkg|rpm|pacman|apt)/|lib/apk/)"
)
_CONFFILE = re.compile(r"^ (/\S+) ([0-9a-f]{32})( obsolete)?$", re.MULTILINE)
_LONGEST_FILE = 16 << 20
_RPM_HASHES = {1: "md5", 2: "sha1", 8: "sha256", 9: "sha384", 10: "sha512"}  # as in OpenPGP


class ShippedFiles:
    """What of a guest its packages brought."""

    def __init__(self, guest: Guest) -> None:
        self._guest = guest
        self._settings: dict[str, tuple[str, str]] | None = None

    def holds(self, path: str, is_names: bool = False) -> bool:
        """Whether a file is as its package brought it, or a folder's names are the packages'."""
        if _SHIPPED.match(f"{path}/" if is_names else path):
            return True
        return not is_names and self._is_as_shipped(path)

    def is_changed(self, path: str) -> bool:
        """Whether a package's file is known to differ from what the package brought."""
        expected = self._setting(path) or self._others.get(path)
        return expected is not None and not self._fits(path, *expected)

    def _is_as_shipped(self, path: str) -> bool:
        expected = self._setting(path)
        return expected is not None and self._fits(path, *expected)

    def _fits(self, path: str, kind: str, expected: str) -> bool:
        if not self._guest.is_file(path):
            return False
        content = self._guest.read_file(path, _LONGEST_FILE)
        return hashlib.new(kind, content, usedforsecurity=False).hexdigest() == expected

    def _setting(self, path: str) -> tuple[str, str] | None:
        if self._settings is None:
            self._settings = dict(self._iter_settings())
        return self._settings.get(path)

    @cached_property
    def _others(self) -> dict[str, tuple[str, str]]:
        """The digests of files that are no settings, by dpkg's ``*.md5sums``."""
        lines = (
            line.split("  ", 1)
            for name in self._guest.glob("/var/lib/dpkg/info/*.md5sums")
            for line in self._guest.read_text(name).splitlines()
        )
        return {f"/{words[1]}": ("md5", words[0]) for words in lines if len(words) == 2}

    def _iter_settings(self) -> Iterator[tuple[str, tuple[str, str]]]:
        """Yields (path, (hash, digest)) of the configuration files that packages brought."""
        text = self._guest.read_text("/var/lib/dpkg/status")
        yield from ((match[1], ("md5", match[2])) for match in _CONFFILE.finditer(text))
        yield from self._of_pacman()
        yield from self._of_apk()
        for package in read_rpm_packages(self._guest):
            kind = _RPM_HASHES.get(package.digest_kind)
            if kind:
                yield from (
                    (file.path, (kind, file.digest)) for file in package.files if file.is_setting
                )

    def _of_pacman(self) -> Iterator[tuple[str, tuple[str, str]]]:
        """From ``files`` of each package: paths behind ``%BACKUP%``, each with its MD5."""
        for name in self._guest.glob("/var/lib/pacman/local/*/files"):
            _files, _mark, backup = self._guest.read_text(name).partition("%BACKUP%\n")
            for line in backup.splitlines():
                path, tab, digest = line.partition("\t")
                if tab:
                    yield f"/{path}", ("md5", digest)

    def _of_apk(self) -> Iterator[tuple[str, tuple[str, str]]]:
        """From the list of what is installed: ``Z:Q1`` and a SHA-1 in base64 behind each file."""
        folder = path = ""
        for line in self._guest.read_text("/lib/apk/db/installed").splitlines():
            kind, _colon, value = line.partition(":")
            if kind == "F":
                folder = value
            elif kind == "R":
                path = f"/{folder}/{value}"
            elif kind == "Z" and value.startswith("Q1") and path.startswith("/etc/"):
                with suppress(ValueError):
                    yield path, ("sha1", base64.b64decode(value[2:], validate=True).hex())
