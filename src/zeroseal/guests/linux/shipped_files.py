"""Names that are common words too: where they stand in what the system's makers shipped, they stay.

An account called ``builder`` stands in hundreds of files of installed packages. Those files are the
same on every machine and say nothing of this one. What counts as shipped: the folders that the
Filesystem Hierarchy Standard gives to packages (``/usr`` without ``/usr/local``, ``/boot`` without
the initramfs, which is made on the machine), the package managers' own records, and configuration
files that are byte for byte as their package brought them (dpkg's ``Conffiles``, RPM's digests).
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterator

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

    def _is_as_shipped(self, path: str) -> bool:
        if self._settings is None:
            self._settings = dict(self._iter_settings())
        kind, expected = self._settings.get(path, ("", ""))
        if not expected or not self._guest.is_file(path):
            return False
        content = self._guest.read_file(path, _LONGEST_FILE)
        return hashlib.new(kind, content, usedforsecurity=False).hexdigest() == expected

    def _iter_settings(self) -> Iterator[tuple[str, tuple[str, str]]]:
        """Yields (path, (hash, digest)) of the configuration files that packages brought."""
        text = self._guest.read_text("/var/lib/dpkg/status")
        yield from ((match[1], ("md5", match[2])) for match in _CONFFILE.finditer(text))
        for package in read_rpm_packages(self._guest):
            kind = _RPM_HASHES.get(package.digest_kind)
            if kind:
                yield from (
                    (file.path, (kind, file.digest)) for file in package.files if file.is_setting
                )
