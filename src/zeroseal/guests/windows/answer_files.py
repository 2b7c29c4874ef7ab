"""Answer files of Windows' set-up: where they lie, and whether they hold passwords.

A password stands there in clear, or in base64 of UTF-16 with the element's name behind it, which
is no protection. Set-up writes ``*SENSITIVE*DATA*DELETED*`` over those that it has used.

Source: Windows' unattended set-up reference (public documentation); no file of a real machine was
at hand.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from zeroseal.guests.guest import Guest
from zeroseal.guests.windows.tasks import decode_xml

PANTHER = "/Windows/Panther"
CACHED_PATHS = (f"{PANTHER}/unattend.xml", f"{PANTHER}/Unattend/unattend.xml")
_PATTERNS = (
    "/unattend.xml",
    "/autounattend.xml",
    "/*:/unattend.xml",
    "/*:/autounattend.xml",
    f"{PANTHER}/*unattend*.xml",
    f"{PANTHER}/Unattend/*unattend*.xml",
    "/Windows/System32/*/*unattend*.xml",
    "/Windows/System32/*/Panther/*unattend*.xml",
    "/Windows/Temp/*unattend*.xml",
)
_PASSWORD = re.compile(
    r"<(?:\w+:)?(?:\w*Password)>\s*(?:<(?:\w+:)?Value>)?\s*([^<\s][^<]*)", re.IGNORECASE
)
_COPY_PROFILE = re.compile(r"<(?:\w+:)?CopyProfile>\s*true\s*<", re.IGNORECASE)
_DELETED = "*SENSITIVE*DATA*DELETED*"
_LONGEST = 4 << 20


@dataclass(frozen=True)
class AnswerFile:
    """An answer file.

    Attributes:
        passwords: how many it holds.
        is_cached: whether set-up keeps it for the next start of a resealed system.
        copies_profile: whether set-up is to copy the administrator's profile (``CopyProfile``).
    """

    path: str
    passwords: int
    is_cached: bool
    copies_profile: bool = False


def iter_answer_files(guest: Guest) -> Iterator[AnswerFile]:
    """Yields the answer files of a guest, each once."""
    seen = set()
    cached = {path.lower() for path in CACHED_PATHS}
    for pattern in _PATTERNS:
        for path in guest.glob(pattern):
            if path not in seen and guest.is_file(path):
                seen.add(path)
                text = decode_xml(guest.read_file(path, _LONGEST))
                copies = bool(_COPY_PROFILE.search(text))
                yield AnswerFile(path, count_passwords(text), path.lower() in cached, copies)


def count_passwords(text: str) -> int:
    """How many passwords an answer file still holds."""
    return sum(_DELETED not in found for found in _PASSWORD.findall(text))
