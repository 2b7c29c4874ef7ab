"""Comparing version texts as package managers do.

Source: deb-version(7), "Sorting algorithm": digits as numbers, ``~`` before the end, letters before
other signs. For RPM and Alpine versions it is a good enough order to sort by.
"""

from __future__ import annotations

import re
from typing import Any

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
