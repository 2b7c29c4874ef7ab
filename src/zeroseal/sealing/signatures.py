"""Secrets and logs by their look: what may lie on a disk though nobody knows its value.

A signature is a few fixed bytes and a rule for what stands around them. In free space, in slack or
between volumes it is residue. In a file that packages did not bring, and that is not where such a
thing belongs, it is told: a private key that stays is one that all clones share.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from zeroseal.blocks.search import Needle
from zeroseal.blocks.store import Store

_BEFORE_BYTES, _AFTER_BYTES = 256, 256
_HASH = (
    rb"\$(?:6|5)\$(?:rounds=\d+\$)?[./A-Za-z0-9]{1,16}\$[./A-Za-z0-9]{43,86}"
    rb"|\$1\$[./A-Za-z0-9]{1,8}\$[./A-Za-z0-9]{22}"
    rb"|\$(?:y|gy|7)\$[./A-Za-z0-9$]{30,150}"
    rb"|\$2[abxy]\$\d\d\$[./A-Za-z0-9]{53}"
)


@dataclass(frozen=True)
class Signature:
    """How something looks.

    Attributes:
        label: what it is.
        pattern: the bytes to search for.
        before: must match up to the pattern's beginning, ``after`` from its end on.
        home: the paths where it belongs, as a regular expression; no path where it is empty.
    """

    label: str
    pattern: bytes
    before: re.Pattern[bytes]
    after: re.Pattern[bytes]
    home: re.Pattern[str]

    def fits(self, store: Store, offset_bytes: int) -> bool:
        """Whether what stands around the pattern makes it the real thing."""
        start = max(0, offset_bytes - _BEFORE_BYTES)
        end = offset_bytes + len(self.pattern)
        stop = min(store.size_bytes, end + _AFTER_BYTES)
        window = store.read(start, stop - start)
        before, after = window[: offset_bytes - start], window[end - start :]
        return bool(self.before.search(before) and self.after.match(after))


_ANY, _NOWHERE = re.compile(rb""), re.compile(r"(?!)")

SIGNATURES = (
    # RFC 7468, RFC 1421 and PROTOCOL.key of OpenSSH: the label ends in PRIVATE KEY
    Signature(
        "private key",
        b"PRIVATE KEY-----",
        re.compile(rb"-----BEGIN [A-Z0-9 ]{0,20}$"),
        re.compile(rb"[\r\n]+(?:Proc-Type:|[A-Za-z0-9+/]{40})"),
        _NOWHERE,
    ),
    # PROTOCOL.key: the magic of OpenSSH's own format, in base64 without its armour
    Signature(
        "private key",
        b"b3BlbnNzaC1rZXktdjEA",
        re.compile(rb"(?<!KEY-----)(?<!KEY-----\n)(?<!KEY-----\r\n)$"),
        re.compile(rb"[A-Za-z0-9+/\r\n]{60}"),
        _NOWHERE,
    ),
    # shadow(5): a hash, the day it was set, and the usual limits
    Signature(
        "password hash",
        b":0:99999:7:",
        re.compile(rb":[!*]?(?:" + _HASH + rb"):\d*$"),
        _ANY,
        re.compile(r"^/etc/shadow-?$"),
    ),
    # systemd's Journal File Format: the header's signature, flags, and the state
    Signature(
        "log (systemd journal)",
        b"LPKSHHRH",
        _ANY,
        re.compile(rb"[\0-\x3f]\0\0\0[\0-\x3f]\0\0\0[\0-\x02]\0{7}", re.DOTALL),
        re.compile(r"^/(var|run)/log/journal/"),
    ),
    # MS-EVEN6 and libyal's description of EVTX: file header and chunk header
    Signature(
        "log (Windows events)",
        b"ElfChnk\0",
        _ANY,
        re.compile(rb".{24}\x80\0\0\0", re.DOTALL),
        re.compile(r"(?i)\.evtx$"),
    ),
)


def signature_needles(first_value_no: int) -> list[Needle]:
    """What to search for; value numbers begin at ``first_value_no``, in order."""
    return [
        Needle(first_value_no + number, signature.pattern)
        for number, signature in enumerate(SIGNATURES)
    ]
