"""Whether a file is a ring of public OpenPGP keys, as package managers trust them.

Source: RFC 9580, "Packet Headers" and "Packet Types" (both forms of lengths, without partial ones).
"""

from __future__ import annotations

_PUBLIC_KEY = 6
# signature, public key, trust, user ID, public subkey, user attribute, padding
_OF_PUBLIC_KEYS = frozenset((2, _PUBLIC_KEY, 12, 13, 14, 17, 21))


def is_public_keyring(content: bytes) -> bool:
    """Whether some bytes are whole packets, of which the first is a public key and none secret."""
    at = 0
    while at < len(content):
        head = _read_head(content, at)
        if head is None:
            return False
        tag, start, length = head
        is_first = at == 0
        at = start + length
        if tag not in _OF_PUBLIC_KEYS or (is_first and tag != _PUBLIC_KEY) or at > len(content):
            return False
    return at > 0


def _read_head(content: bytes, at: int) -> tuple[int, int, int] | None:
    """(tag, where the body begins, its length) of a packet; None where there is none."""
    first, rest = content[at], content[at + 1 : at + 6]
    if not first & 0x80 or not rest:
        return None
    if first & 0x40:  # the new form
        tag, octet = first & 0x3F, rest[0]
        if octet < 192:
            return tag, at + 2, octet
        if octet < 224 and len(rest) >= 2:
            return tag, at + 3, ((octet - 192) << 8) + rest[1] + 192
        if octet == 255 and len(rest) == 5:
            return tag, at + 6, int.from_bytes(rest[1:5])
        return None
    width = {0: 1, 1: 2, 2: 4}.get(first & 3)
    if width is None or len(rest) < width:
        return None
    return first >> 2 & 0xF, at + 1 + width, int.from_bytes(rest[:width])
