"""What lies behind the content of cells in use: a cell may be longer than what it holds.

Windows does not clear a cell that it takes again, so the end of one holds what was there before.
Every cell that can be reached from the root is looked at, with few calls: a hive has a million.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from struct import unpack_from

from zeroseal.guests.registry import layout
from zeroseal.messages import registry as messages

_KEY_NAME_AT, _VALUE_NAME_AT, _RIGHTS_AT = 0x50, 0x18, 0x18  # with the cell's length in front
_MOST_CELLS = 1 << 24


class SlackError(Exception):
    """A cell does not hold what another says."""


def iter_slack(body: bytes | bytearray, root: int, minor: int) -> Iterator[tuple[int, int]]:
    """Yields (start, end) of what lies behind contents and is not zero.

    Args:
        body: all bins.
        root: the topmost key.
        minor: of the hive's version 1.

    Raises:
        SlackError: the hive contradicts itself.
    """
    try:
        for at, used in _iter_cells(body, root, minor):
            (length,) = unpack_from("<i", body, at)
            start, end = at + used, at - length
            if length >= 0 or end > len(body):
                raise SlackError(messages.CELL_AT_NOT_IN_USE.format(at=at))
            if start < end and body.count(0, start, end) < end - start:
                yield start, end
    except struct.error as error:
        raise SlackError(messages.CELL_EXTENDS_OUTSIDE_HIVE) from error


def _iter_cells(body: bytes | bytearray, root: int, minor: int) -> Iterator[tuple[int, int]]:
    """Yields (cell, bytes in use with its length) of all that can be reached."""
    pending, rights, count = [root], set(), 0
    while pending:
        at = pending.pop()
        count += 1
        if count > _MOST_CELLS or body[at + 4 : at + 6] != b"nk":
            raise SlackError(messages.NO_VALID_KEY.format(offset=at))
        subkeys, _volatile, keys, _other, values, listed, security, class_at = unpack_from(
            "<8I", body, at + 0x18
        )
        name_bytes, class_bytes = unpack_from("<HH", body, at + 0x4C)
        yield at, _KEY_NAME_AT + name_bytes
        if class_bytes and class_at != layout.NONE:
            yield class_at, 4 + class_bytes
        if security not in rights:
            rights.add(security)
            yield security, _RIGHTS_AT + unpack_from("<I", body, security + 0x14)[0]
        if subkeys:
            yield from _lists(body, keys, pending, 0)
        if values:
            yield listed, 4 + 4 * values
            for place in unpack_from(f"<{values}I", body, listed + 4):
                yield from _value(body, place, minor)


def _lists(
    body: bytes | bytearray, at: int, pending: list[int], depth: int
) -> Iterator[tuple[int, int]]:
    """The cells of a list of keys; the keys themselves are added to ``pending``."""
    kind = bytes(body[at + 4 : at + 6])
    (count,) = unpack_from("<H", body, at + 6)
    width = 2 if kind in (b"lf", b"lh") else 1
    if kind not in (b"lf", b"lh", b"li", b"ri") or depth > 2:
        raise SlackError(messages.NO_VALID_KEY_LIST.format(offset=at))
    yield at, 8 + 4 * width * count
    places = unpack_from(f"<{width * count}I", body, at + 8)[::width]
    if kind == b"ri":
        for place in places:
            yield from _lists(body, place, pending, depth + 1)
    else:
        pending.extend(places)


def _value(body: bytes | bytearray, at: int, minor: int) -> Iterator[tuple[int, int]]:
    name_bytes, size, place = unpack_from("<HII", body, at + 6)
    yield at, _VALUE_NAME_AT + name_bytes
    if size & layout.RESIDENT or not size:
        return
    if size <= layout.SEGMENT_BYTES or minor < layout.BIG_FROM_MINOR:
        yield place, 4 + size
        return
    count, listed = unpack_from("<HI", body, place + 6)
    yield place, 12
    yield listed, 4 + 4 * count
    for segment in unpack_from(f"<{count}I", body, listed + 4):
        yield segment, 4 + min(size, layout.SEGMENT_BYTES)
        size -= min(size, layout.SEGMENT_BYTES)
