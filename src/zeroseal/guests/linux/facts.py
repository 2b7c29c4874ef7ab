"""What system the guest is, from its own files."""

from __future__ import annotations

import shlex

from zeroseal.guests.guest import Guest
from zeroseal.guests.system import SystemFacts


def read_facts(guest: Guest) -> SystemFacts:
    """Reads os-release(5) and hostname(5)."""
    release = parse_assignments(
        guest.read_text("/etc/os-release") or guest.read_text("/usr/lib/os-release")
    )
    os_id = release.get("ID", "linux")
    return SystemFacts(
        family="linux",
        name=release.get("PRETTY_NAME") or release.get("NAME") or os_id,
        os_id=os_id,
        version=release.get("VERSION_ID", ""),
        host_name=read_host_name(guest),
    )


def read_host_name(guest: Guest) -> str:
    """The static host name: the first line of /etc/hostname that is no comment."""
    for path in ("/etc/hostname", "/etc/HOSTNAME"):
        for line in guest.read_text(path).splitlines():
            if line.strip() and not line.startswith("#"):
                return line.strip()
    return ""


def parse_assignments(text: str) -> dict[str, str]:
    """Parses shell-like ``KEY=value`` lines; lines that are none are left out."""
    found = {}
    for line in text.splitlines():
        key, equals, value = line.strip().partition("=")
        if not equals or key.startswith("#"):
            continue
        try:
            words = shlex.split(value)
        except ValueError:
            continue
        found[key] = words[0] if words else ""
    return found
