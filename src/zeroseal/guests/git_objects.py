"""What a version history of git holds: the objects of a pack, and those that lie by themselves.

Source: git's ``Documentation/gitformat-pack.txt``. A pack is a head (``PACK``, version, count) and
objects: a kind and a length in groups of seven bits, for a delta what it is made over, and the
content packed by zlib; a checksum ends it. A delta copies parts of another object and adds bytes.
"""

from __future__ import annotations

import zlib
from collections.abc import Iterator

from zeroseal.messages import guests as messages

_MAGIC = b"PACK"
_HEAD_BYTES, _END_BYTES, _ID_BYTES = 12, 20, 20
_BY_OFFSET, _BY_ID = 6, 7
_KINDS = {1: b"commit", 2: b"tree", 3: b"blob", 4: b"tag"}
_MOST_BYTES = 64 << 20  # of one object
_MOST_KEPT = 128 << 20  # of objects that deltas may be made over
_MOST_OBJECTS = 1 << 22


def is_object(path: str) -> bool:
    """Whether a file of a guest is a pack or an object of git, by its path."""
    folder, _slash, name = path.rpartition("/")
    if name.endswith(".pack"):
        return folder.endswith("/objects/pack")
    above = folder.rpartition("/")
    is_hex = all(letter in "0123456789abcdef" for letter in name + above[2])
    return above[0].endswith("/objects") and len(above[2]) == 2 and len(name) >= 38 and is_hex


def iter_objects(raw: bytes) -> Iterator[bytes]:
    """Yields the contents of the objects in a pack, or of one that lies by itself.

    Raises:
        ValueError: it is neither, or an object is larger than 64 MiB.
        zlib.error: an object does not inflate.
    """
    if not raw.startswith(_MAGIC):
        yield _inflate(raw, 0, _MOST_BYTES)[0]
        return
    count = int.from_bytes(raw[8:_HEAD_BYTES], "big")
    if count > _MOST_OBJECTS:
        raise ValueError(messages.IMPOSSIBLE_OBJECT_COUNT.format(count=count))
    known: dict[int, bytes] = {}
    kept, place = 0, _HEAD_BYTES
    for _number in range(count):
        start = place
        kind, size, place = _head_at(raw, place)
        base: bytes | None = None
        if kind == _BY_OFFSET:
            distance, place = _distance_at(raw, place)
            base = known.get(start - distance)
        elif kind == _BY_ID:
            place += _ID_BYTES
        content, place = _inflate(raw, place, min(size + 1, _MOST_BYTES))
        if base is not None:
            content = _apply(base, content)
        yield content  # of a delta over what is not kept here, what it adds
        if kept + len(content) <= _MOST_KEPT:
            known[start] = content
            kept += len(content)


def _head_at(raw: bytes, place: int) -> tuple[int, int, int]:
    """(kind, size, where the head ends)."""
    byte = _byte(raw, place)
    kind, size, shift = byte >> 4 & 7, byte & 15, 4
    while byte & 0x80:
        place += 1
        byte = _byte(raw, place)
        size |= (byte & 0x7F) << shift
        shift += 7
        if shift > 64:
            raise ValueError(messages.SIZE_OF_OBJECT_INVALID)
    if kind not in (*_KINDS, _BY_OFFSET, _BY_ID):
        raise ValueError(messages.OBJECT_UNKNOWN_TYPE.format(kind=kind))
    return kind, size, place + 1


def _distance_at(raw: bytes, place: int) -> tuple[int, int]:
    byte = _byte(raw, place)
    value = byte & 0x7F
    while byte & 0x80:
        place += 1
        byte = _byte(raw, place)
        value = ((value + 1) << 7) | (byte & 0x7F)
        if value > 1 << 40:
            raise ValueError(messages.BASE_OF_DELTA_INVALID)
    return value, place + 1


def _inflate(raw: bytes, place: int, most: int) -> tuple[bytes, int]:
    """(content, where the packed bytes end)."""
    inflater = zlib.decompressobj()
    content = inflater.decompress(memoryview(raw)[place:], most)
    if not inflater.eof:
        content += inflater.decompress(inflater.unconsumed_tail, 1)
    if not inflater.eof:
        raise ValueError(messages.OBJECT_LONGER_THAN_RECORDED)
    return content, len(raw) - len(inflater.unused_data)


def _apply(base: bytes, delta: bytes) -> bytes:
    """What a delta makes of the object that it is made over."""
    place = 0
    for _size in range(2):  # of the base and of the result
        while _byte(delta, place) & 0x80:
            place += 1
        place += 1
    made = bytearray()
    while place < len(delta):
        operation = delta[place]
        place += 1
        if operation & 0x80:
            numbers = [0] * 7
            for bit in range(7):
                if operation >> bit & 1:
                    numbers[bit] = _byte(delta, place)
                    place += 1
            offset = int.from_bytes(bytes(numbers[:4]), "little")
            length = int.from_bytes(bytes(numbers[4:]), "little") or 0x10000
            made += base[offset : offset + length]
        elif operation:
            made += delta[place : place + operation]
            place += operation
        else:
            raise ValueError(messages.DELTA_UNKNOWN_OPERATION)
        if len(made) > _MOST_BYTES:
            raise ValueError(messages.OBJECT_LARGER_THAN_64_MIB)
    return bytes(made)


def _byte(raw: bytes, place: int) -> int:
    if place >= len(raw):
        raise ValueError(messages.TRUNCATED)
    return raw[place]
