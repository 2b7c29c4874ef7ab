"""Where a guest's SSH servers keep their host keys, from their configuration.

Source: sshd_config(5), HostKey, HostCertificate and Include; dropbear(8).
"""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.guests.guest import Guest

_CONFIG = "/etc/ssh/sshd_config"
_USUAL = ("/etc/ssh/ssh_host_*key", "/etc/dropbear/dropbear_*_host_key")
_KEYWORDS = ("hostkey", "hostcertificate")
_MOST_FILES = 100


def iter_host_keys(guest: Guest) -> Iterator[str]:
    """Yields the paths of private host keys that are there, each once."""
    seen: set[str] = set()
    usual = (path for pattern in _USUAL for path in guest.glob(pattern))
    named = (path for path in iter_configured(guest) if not path.endswith(".pub"))
    for path in (*usual, *named):
        if path not in seen and guest.exists(path):
            seen.add(path)
            yield path


def iter_configured(guest: Guest) -> Iterator[str]:
    """Yields the absolute paths that the server's configuration names as keys and certificates."""
    pending, read = [_CONFIG], 0
    while pending and read < _MOST_FILES:
        read += 1
        for line in guest.read_text(pending.pop(0)).splitlines():
            words = line.replace("=", " ", 1).split()
            if len(words) < 2:
                continue
            value = words[1].strip('"')
            if words[0].lower() in _KEYWORDS and value.startswith("/"):
                yield value
            elif words[0].lower() == "include":
                for pattern in (word.strip('"') for word in words[1:]):
                    whole = pattern if pattern.startswith("/") else f"/etc/ssh/{pattern}"
                    pending += [path for path in guest.glob(whole) if guest.is_file(path)]
