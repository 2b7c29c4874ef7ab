"""Names in the security policy: a text with its length, room and place before it.

Two lengths of 16 bits, the place of the text (32 bits), then the text in UTF-16. The form follows
public parsers; it was not seen in data that Windows wrote.
"""

from __future__ import annotations

POLICY_NAME = "SECURITY\\Policy\\PolAcDmN"  # the computer's, as the domain of its accounts
_HEAD_BYTES = 8


def policy_text(data: bytes) -> str:
    """What a policy's value says; empty where it is none."""
    length, place = int.from_bytes(data[:2], "little"), int.from_bytes(data[4:8], "little")
    if not _HEAD_BYTES <= place <= len(data) - length:
        place = _HEAD_BYTES
    return data[place : place + length].decode("utf-16-le", "replace")


def with_policy_text(data: bytes, new: str) -> bytes:
    """A policy's value with another text."""
    old = policy_text(data).encode("utf-16-le", "replace")
    place = data.find(old, _HEAD_BYTES) if old else -1
    if place < 0:
        return data
    text = new.encode("utf-16-le")
    room = len(text) + int.from_bytes(data[2:4], "little") - len(old)
    head = len(text).to_bytes(2, "little") + room.to_bytes(2, "little") + data[4:place]
    return head + text + data[place + len(old) :]
