"""Names that are common words too: where they stand in what the system's makers shipped, they stay.

An account called ``builder`` stands in hundreds of files of installed packages. Those files are the
same on every machine and say nothing of this one. What counts as shipped: the folders that the
Filesystem Hierarchy Standard gives to packages (``/usr`` without ``/usr/local``, ``/boot`` without
the initramfs, which is made on the machine), the package managers' own records, and configuration
files that are byte for byte as their package brought them (dpkg's ``Conffiles``).
"""

from __future__ import annotations

import hashlib
import re

from zeroseal.guests.guest import Guest

_SHIPPED = re.compile(
    r"^/(usr/(?!local(/|$))|lib(32|64|x32)?/|s?bin/|boot/(?!initr|initramfs|loader)"
    r"|var/lib/(dpkg|rpm|pacman|apt)/|lib/apk/)"
)
_CONFFILE = re.compile(r"^ (/\S+) ([0-9a-f]{32})( obsolete)?$", re.MULTILINE)
_LONGEST_FILE = 16 << 20


class ShippedFiles:
    """What of a guest its packages brought."""

    def __init__(self, guest: Guest) -> None:
        self._guest = guest
        self._conffiles: dict[str, str] | None = None

    def holds(self, path: str, is_names: bool = False) -> bool:
        """Whether a file is as its package brought it, or a folder's names are the packages'."""
        if _SHIPPED.match(f"{path}/" if is_names else path):
            return True
        return not is_names and self._is_as_shipped(path)

    def _is_as_shipped(self, path: str) -> bool:
        if self._conffiles is None:
            text = self._guest.read_text("/var/lib/dpkg/status")
            self._conffiles = {match[1]: match[2] for match in _CONFFILE.finditer(text)}
        expected = self._conffiles.get(path)
        if expected is None or not self._guest.is_file(path):
            return False
        content = self._guest.read_file(path, _LONGEST_FILE)
        return hashlib.md5(content, usedforsecurity=False).hexdigest() == expected
