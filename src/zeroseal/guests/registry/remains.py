"""What removed keys and values left in a hive: in free cells, and at the ends of others."""

from __future__ import annotations

import struct
from collections.abc import Iterator

from zeroseal.guests.registry import layout
from zeroseal.guests.registry.hive import Hive
from zeroseal.guests.registry.layout import BinHeader
from zeroseal.guests.registry.slack import SlackError, iter_slack
from zeroseal.messages import registry as messages

_SMALLEST = 8


def count_stale(hive: Hive) -> int:
    """How many bytes in free cells, and behind the content of others, are not zero.

    Raises:
        DamagedError: bins or cells do not fill the hive, or contradict each other.
    """
    free = sum(len(content) - content.count(0) for content in iter_free(hive))
    body = hive.read(0, hive.size)
    try:
        slack = iter_slack(body, hive.base.root, hive.base.minor)
        return free + sum(end - start - body.count(0, start, end) for start, end in slack)
    except SlackError as error:
        raise hive.damaged(str(error)) from error


def iter_free(hive: Hive) -> Iterator[bytes]:
    """Yields the contents of the free cells."""
    place = 0
    while place < hive.size:
        head = BinHeader.parse(hive.read(place, BinHeader.SIZE))
        if head.magic != layout.BIN_MAGIC or not head.length or head.length % layout.PAGE_BYTES:
            raise hive.damaged(messages.BIN_NO_VALID_HEADER)
        yield from _free_in(hive, hive.read(place, head.length))
        place += head.length


def _free_in(hive: Hive, raw: bytes) -> Iterator[bytes]:
    at, end = layout.BIN_HEADER_BYTES, len(raw)
    while at < end:
        (size,) = struct.unpack_from("<i", raw, at)
        length = abs(size)
        if length < _SMALLEST or at + length > end:
            raise hive.damaged(messages.CELL_INVALID)
        if size > 0:
            yield raw[at + 4 : at + length]
        at += length
