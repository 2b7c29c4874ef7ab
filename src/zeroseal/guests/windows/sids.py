"""Security identifiers: binary and text, and the machine's own, which those of its accounts begin.

A machine has three numbers of its own: ``S-1-5-21-A-B-C``, 24 bytes in binary form; an account adds
its relative identifier (RID).

Source: [MS-DTYP] 2.4.2, SID; 2.4.6, SECURITY_DESCRIPTOR. The identifier authority is big-endian,
sub-authorities are little-endian (seen in real hives).
"""

from __future__ import annotations

import re
import secrets
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from functools import cached_property

MACHINE_SID_BYTES = 24
_HEAD_BYTES, _MOST_PARTS = 8, 15
_PREFIX = bytes.fromhex("0105000000000005") + (21).to_bytes(4, "little")
_MACHINE_PREFIX = b"\x01\x04" + _PREFIX[2:]
_TEXT = re.compile(r"S-1-5-21-(\d{1,10})-(\d{1,10})-(\d{1,10})$")
_LEAST_DIGITS = 6
_LARGEST = (1 << 32) - 1

# domains that Microsoft issued, the same on every machine: descriptors of notification states
CONSTANT_DOMAINS = frozenset(
    {
        (2702878673, 795188819, 444038987),
        (3933942852, 973373972, 2766786355),
        (873752615, 3530222896, 2141709330),
        (708184333, 2340524356, 1711544312),
    }
)


def sid_text(raw: bytes) -> str:
    """A binary security identifier as text; empty where it is none."""
    if len(raw) < _HEAD_BYTES or raw[0] != 1 or len(raw) < sid_bytes(raw):
        return ""
    parts = [
        int.from_bytes(raw[at : at + 4], "little") for at in range(_HEAD_BYTES, sid_bytes(raw), 4)
    ]
    return "-".join(["S", "1", str(int.from_bytes(raw[2:8], "big")), *map(str, parts)])


def sid_raw(text: str) -> bytes:
    """A security identifier in binary; ``text`` as ``S-1-5-21-...``.

    Raises:
        ValueError: it is not an identifier.
    """
    _s, revision, authority, *parts = text.split("-")
    head = bytes([int(revision), len(parts)]) + int(authority).to_bytes(6, "big")
    return head + b"".join(int(part).to_bytes(4, "little") for part in parts)


def sid_bytes(raw: bytes) -> int:
    """The length of the identifier that begins there, by its count of sub-authorities."""
    return _HEAD_BYTES + 4 * raw[1]


def iter_machine_sids(descriptor: bytes) -> Iterator[tuple[tuple[int, int, int], int]]:
    """Yields (numbers, RID) of the accounts of machines and domains that a descriptor names."""
    place = descriptor.find(_PREFIX)
    while place >= 0:
        numbers = descriptor[place + 12 : place + 28]
        if len(numbers) == 16:
            first, second, third, rid = (
                int.from_bytes(numbers[at : at + 4], "little") for at in range(0, 16, 4)
            )
            yield (first, second, third), rid
        place = descriptor.find(_PREFIX, place + 4)


@dataclass(frozen=True)
class MachineSid:
    """The identifier of a machine, by its three numbers."""

    numbers: tuple[int, int, int]

    @classmethod
    def parse(cls, raw: bytes) -> MachineSid | None:
        """From its 24 bytes; None where they are none."""
        return cls.parse_text(sid_text(raw)) if raw[:12] == _MACHINE_PREFIX else None

    @classmethod
    def parse_text(cls, text: str) -> MachineSid | None:
        """From ``S-1-5-21-A-B-C``; None where it is none."""
        found = _TEXT.match(text)
        return cls((int(found[1]), int(found[2]), int(found[3]))) if found else None

    @cached_property
    def text(self) -> str:
        """``S-1-5-21-A-B-C``."""
        return "S-1-5-21-" + "-".join(map(str, self.numbers))

    @cached_property
    def triplet(self) -> bytes:
        """The 12 bytes that are its own, in whatever identifier of the machine."""
        return b"".join(number.to_bytes(4, "little") for number in self.numbers)

    @cached_property
    def raw(self) -> bytes:
        """Its 24 bytes."""
        return _MACHINE_PREFIX + self.triplet

    def account(self, rid: int) -> str:
        """The identifier of one of its accounts."""
        return f"{self.text}-{rid}"

    def raw_account(self, rid: int) -> bytes:
        """The 28 bytes of one of its accounts."""
        return _PREFIX + self.triplet + rid.to_bytes(4, "little")

    @property
    def can_be_replaced(self) -> bool:
        """Whether there are enough others whose text is as long, number by number."""
        return all(len(str(number)) >= _LEAST_DIGITS for number in self.numbers)

    def another(self, taken: Collection[MachineSid]) -> MachineSid:
        """A random one whose text is as long as this one's, number by number, and free.

        Text that names the old one can then be changed where it stands.
        """
        while True:
            first, second, third = (_random_like(number) for number in self.numbers)
            made = MachineSid((first, second, third))
            if made != self and made not in taken and made.numbers not in CONSTANT_DOMAINS:
                return made


def _random_like(number: int) -> int:
    digits = len(str(number))
    low = int(10 ** (digits - 1))
    high = min(int(10**digits) - 1, _LARGEST)
    return low + secrets.randbelow(high - low + 1)
