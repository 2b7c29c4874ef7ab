"""Installed kernels, and which one boots by default.

Sources: the names that distributions give kernels (``/boot/vmlinuz-VERSION``); GRUB's manual for
``grub.cfg`` and ``grubenv``; the Boot Loader Specification for ``loader/entries``.
"""

from __future__ import annotations

import re

from zeroseal.guests.guest import Guest
from zeroseal.guests.linux.packages import version_key

_LINUX = re.compile(r"^\s*linux\S*\s+\S*?vmlinuz-(\S+)", re.MULTILINE)
_CONFIGS = ("/boot/grub/grub.cfg", "/boot/grub2/grub.cfg")


def newest_first(guest: Guest) -> list[str]:
    """The versions of the installed kernels, the newest first; rescue kernels are left out."""
    names = {
        path.rpartition("/vmlinuz-")[2]
        for pattern in ("/boot/vmlinuz-*", "/usr/lib/modules/*/vmlinuz")
        for path in guest.glob(pattern)
        if "/vmlinuz-" in path
    }
    return sorted((name for name in names if "rescue" not in name), key=version_key, reverse=True)


def default_kernel(guest: Guest) -> str:
    """The version that GRUB's first entry boots; empty where that cannot be told."""
    for path in _CONFIGS:
        match = _LINUX.search(guest.read_text(path))
        if match:
            return match[1]
    return ""
