"""Which services failed in a guest, from what it wrote to its disk.

Sources: systemd, "Journal File Format" (a field is stored as ``NAME=value``; short ones are not
compressed); the texts are those of systemd's own catalogue.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from zeroseal.guests.guest import Guest

_FIELD = re.compile(rb"MESSAGE=Failed to start ([^\x00-\x1f\x7f]{1,200}?)\.?(?=[\x00-\x1f])")
_LINE = re.compile(rb"systemd\[1\]: Failed to start ([^\x00-\x1f\x7f]{1,200}?)\.?$", re.MULTILINE)
_ON_CONSOLE = re.compile(r"Failed to start (.{1,200}?)\.?$")
_LONGEST_LOG = 256 << 20


def read_failed_services(guest: Guest) -> list[str]:
    """What systemd says it could not start, from the journal and the system log, each once."""
    return sorted(set(_iter_failed(guest)))


def failed_on_console(lines: list[str]) -> list[str]:
    """What a console's lines say could not be started, each once."""
    matches = (_ON_CONSOLE.search(line.rstrip()) for line in lines)
    return sorted({match[1] for match in matches if match})


def _iter_failed(guest: Guest) -> Iterator[str]:
    for patterns, expression in (
        (("/var/log/journal/*/*.journal",), _FIELD),
        (("/var/log/syslog", "/var/log/messages", "/var/log/daemon.log"), _LINE),
    ):
        for pattern in patterns:
            for path in guest.glob(pattern):
                if not guest.is_file(path):
                    continue
                for match in expression.finditer(guest.read_file(path, _LONGEST_LOG)):
                    yield match[1].decode("utf-8", "replace")
