"""Reading a hive: keys, values, classes and security descriptors, each only when asked for."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache
from typing import NamedTuple

from zeroseal.blocks.store import MemoryStore, Store
from zeroseal.errors import DamagedError, NeedsRecoveryError, UnsupportedError
from zeroseal.guests.registry import layout
from zeroseal.guests.registry.layout import BaseBlock, KeyCell, SecurityCell, ValueCell
from zeroseal.messages import registry as messages

_PIECE_BYTES = 1 << 16
_MOST_PIECES = 512
_MOST_LIST = 1 << 22
_LENGTH, _VALUE = struct.Struct("<i"), struct.Struct("<2sHIIIH")  # as ``ValueCell`` has it


class Value(NamedTuple):
    """A value: its name (empty for the default one), its type as a number, and its bytes."""

    name: str
    kind: int
    data: bytes


@dataclass(frozen=True)
class Key:
    """A key; ``offset`` is its cell's, and what other keys know it by."""

    offset: int
    cell: KeyCell
    name: str


class Hive:
    """An opened hive.

    Args:
        source: its bytes, or a store that holds them.
        where: its name, for messages.
        ignore_state: whether it may be dirty; for the code that replays its logs.

    Raises:
        DamagedError: it is no hive, or contradicts itself.
        UnsupportedError: another version, or layered keys.
        NeedsRecoveryError: it is dirty: its transaction logs must be replayed first.
    """

    def __init__(
        self, source: bytes | Store, where: str = "the hive", ignore_state: bool = False
    ) -> None:
        self.where = where
        self._store = MemoryStore(source) if isinstance(source, bytes) else source
        self._pieces: dict[int, bytes] = {}
        if self._store.size_bytes < layout.BASE_BYTES:
            raise self.damaged(messages.TOO_SHORT)
        raw = self._store.read(0, BaseBlock.SIZE)
        self.base = BaseBlock.parse(raw)
        if self.base.magic != layout.BASE_MAGIC or self.base.kind != layout.PRIMARY:
            raise self.damaged(messages.HEADER_MISSING)
        if self.base.major != 1 or self.base.minor not in layout.MINOR_VERSIONS:
            raise UnsupportedError(
                messages.VERSION_NOT_SUPPORTED.format(
                    where=where, major=self.base.major, minor=self.base.minor
                )
            )
        if not ignore_state and not self.is_clean(raw):
            raise NeedsRecoveryError(messages.NOT_WRITTEN_COMPLETELY.format(where=where))
        self.size = self.base.data_bytes
        if self.size > self._store.size_bytes - layout.BASE_BYTES or self.size % layout.PAGE_BYTES:
            raise self.damaged(messages.TRUNCATED)

    @property
    def content(self) -> bytes:
        """All of its bytes."""
        return self._store.read(0, self._store.size_bytes)

    def is_clean(self, raw: bytes) -> bool:
        """Whether the base block says that the last write was whole."""
        same = self.base.sequence == self.base.done_sequence
        return same and self.base.checksum == layout.checksum_of(raw)

    def damaged(self, what: str) -> DamagedError:
        """The error for a structure that contradicts the format."""
        return DamagedError(messages.DAMAGED.format(where=self.where, what=what))

    # -- bytes

    def read(self, offset: int, length: int) -> bytes:
        """Bytes by their offset from the first bin.

        Raises:
            DamagedError: they lie outside.
        """
        if offset < 0 or length < 0 or offset + length > self.size:
            raise self.damaged(messages.BYTES_AT_REFERENCED_DO_NOT_EXIST.format(offset=offset))
        piece, start = divmod(offset, _PIECE_BYTES)
        if start + length <= _PIECE_BYTES:
            return self._piece(piece)[start : start + length]
        return self._store.read(layout.BASE_BYTES + offset, length)

    def _piece(self, number: int) -> bytes:
        found = self._pieces.get(number)
        if found is None:
            if len(self._pieces) >= _MOST_PIECES:
                self._pieces.clear()
            start = number * _PIECE_BYTES
            found = self._store.read(
                layout.BASE_BYTES + start, min(_PIECE_BYTES, self.size - start)
            )
            self._pieces[number] = found
        return found

    def cell(self, offset: int, least: int = 4) -> bytes:
        """The content of a cell in use, behind its length.

        Raises:
            DamagedError: there is none, or it is shorter than ``least``.
        """
        number, start = divmod(offset, _PIECE_BYTES)
        if not 0 <= offset <= self.size - 4:
            raise self.damaged(messages.BYTES_AT_REFERENCED_DO_NOT_EXIST.format(offset=offset))
        piece = self._pieces.get(number) or self._piece(number)
        if start + 4 > len(piece):
            size = -int.from_bytes(self.read(offset, 4), "little", signed=True)
        else:
            size = -_LENGTH.unpack_from(piece, start)[0]
        if size < 8 or size % layout.CELL_ALIGNMENT or size - 4 < least:
            raise self.damaged(messages.CELL_AT_INVALID_OR_TOO_SHORT.format(offset=offset))
        if start + size <= len(piece):
            return piece[start + 4 : start + size]
        return self.read(offset + 4, size - 4)

    # -- keys

    @property
    def root(self) -> Key:
        """The topmost key."""
        return self.key_at(self.base.root)

    def key_at(self, offset: int) -> Key:
        """A key by its cell.

        Raises:
            DamagedError: it is none.
            UnsupportedError: it belongs to a layered hive.
        """
        raw = self.cell(offset, layout.KEY_BYTES)
        cell = KeyCell.parse(raw[: KeyCell.SIZE])
        if cell.magic != b"nk" or KeyCell.SIZE + cell.name_bytes > len(raw):
            raise self.damaged(messages.NO_VALID_KEY.format(offset=offset))
        if cell.access >> 8 & layout.LAYERED_SEMANTICS:
            raise UnsupportedError(messages.LAYERED_KEYS_NOT_SUPPORTED.format(where=self.where))
        name = raw[KeyCell.SIZE : KeyCell.SIZE + cell.name_bytes]
        return Key(offset, cell, decode_name(name, bool(cell.flags & layout.KEY_COMPRESSED)))

    def subkeys(self, key: Key) -> Iterator[Key]:
        """Yields the keys below one, in the order of the disk."""
        for offset in self.subkey_offsets(key):
            yield self.key_at(offset)

    def subkey_offsets(self, key: Key) -> list[int]:
        """The cells of the keys below one.

        Raises:
            DamagedError: the lists contradict themselves.
        """
        if not key.cell.subkeys:
            return []
        found = list(self._list_offsets(key.cell.subkey_list, 0))
        if len(found) != key.cell.subkeys:
            raise self.damaged(messages.SUBKEY_COUNT_WRONG.format(name=key.name))
        return found

    def _list_offsets(self, offset: int, depth: int) -> Iterator[int]:
        raw = self.cell(offset)
        kind, count = raw[:2], int.from_bytes(raw[2:4], "little")
        width = 8 if kind in (b"lf", b"lh") else 4
        if kind not in (b"lf", b"lh", b"li", b"ri") or 4 + count * width > len(raw):
            raise self.damaged(messages.NO_VALID_KEY_LIST.format(offset=offset))
        for place in range(4, 4 + count * width, width):
            inner = int.from_bytes(raw[place : place + 4], "little")
            if kind != b"ri":
                yield inner
            elif depth:
                raise self.damaged(messages.KEY_LIST_NESTED_TOO_DEEPLY.format(offset=offset))
            else:
                yield from self._list_offsets(inner, depth + 1)

    def find_key(self, path: str, below: Key | None = None) -> Key | None:
        """A key by its path from the root, parts divided by backslashes; None where there is none.

        Case does not matter. Lists are sorted, so that few keys are looked at.
        """
        key = below or self.root
        for part in [piece for piece in path.split("\\") if piece]:
            found = self._find_subkey(key, part)
            if found is None:
                return None
            key = found
        return key

    def _find_subkey(self, key: Key, name: str) -> Key | None:
        offsets, wanted = self.subkey_offsets(key), sort_key(name)
        low, high = 0, len(offsets)
        while low < high:
            middle = (low + high) // 2
            found = self.key_at(offsets[middle])
            own = sort_key(found.name)
            if own == wanted:
                return found
            low, high = (middle + 1, high) if own < wanted else (low, middle)
        return None

    def class_of(self, key: Key) -> str:
        """A key's class name; empty where it has none."""
        if not key.cell.class_bytes or key.cell.class_name == layout.NONE:
            return ""
        raw = self.cell(key.cell.class_name, key.cell.class_bytes)
        return decode_name(raw[: key.cell.class_bytes], is_compressed=False)

    def security_of(self, key: Key) -> bytes:
        """A key's security descriptor."""
        return self.security_at(key.cell.security)[1]

    def security_at(self, offset: int) -> tuple[SecurityCell, bytes]:
        """(cell, descriptor) of a security cell.

        Raises:
            DamagedError: it is none.
        """
        raw = self.cell(offset, layout.SECURITY_BYTES)
        cell = SecurityCell.parse(raw[: SecurityCell.SIZE])
        if cell.magic != b"sk" or SecurityCell.SIZE + cell.size > len(raw):
            raise self.damaged(messages.NO_VALID_SECURITY_CELL.format(offset=offset))
        return cell, raw[SecurityCell.SIZE : SecurityCell.SIZE + cell.size]

    # -- values

    def values(self, key: Key) -> Iterator[Value]:
        """Yields a key's values, in the order of the disk."""
        for offset in self.value_offsets(key):
            # what ``value_at`` and ``data_of`` do, without a record for each: there are very many
            raw = self.cell(offset, layout.VALUE_BYTES)
            magic, name_bytes, size, place, kind, flags = _VALUE.unpack_from(raw)
            name = raw[ValueCell.SIZE : ValueCell.SIZE + name_bytes]
            if magic != b"vk" or len(name) < name_bytes:
                raise self.damaged(messages.NO_VALID_VALUE.format(offset=offset))
            is_compressed = bool(flags & layout.VALUE_COMPRESSED)
            yield Value(decode_name(name, is_compressed), kind, self._data(size, place))

    def value_offsets(self, key: Key) -> list[int]:
        """The cells of a key's values.

        Raises:
            DamagedError: the list does not fit its cell.
        """
        count = key.cell.values
        if not count:
            return []
        if count > _MOST_LIST:
            raise self.damaged(messages.IMPOSSIBLE_VALUE_COUNT.format(name=key.name, count=count))
        raw = self.cell(key.cell.value_list, count * 4)
        return list(struct.unpack_from(f"<{count}I", raw))

    def value_at(self, offset: int) -> tuple[ValueCell, str]:
        """(cell, name) of a value.

        Raises:
            DamagedError: it is none.
        """
        raw = self.cell(offset, layout.VALUE_BYTES)
        cell = ValueCell.parse(raw[: ValueCell.SIZE])
        if cell.magic != b"vk" or ValueCell.SIZE + cell.name_bytes > len(raw):
            raise self.damaged(messages.NO_VALID_VALUE.format(offset=offset))
        name = raw[ValueCell.SIZE : ValueCell.SIZE + cell.name_bytes]
        return cell, decode_name(name, bool(cell.flags & layout.VALUE_COMPRESSED))

    def data_of(self, cell: ValueCell) -> bytes:
        """What a value holds.

        Raises:
            DamagedError: its cells are too short.
        """
        return self._data(cell.size, cell.data)

    def _data(self, marked_size: int, place: int) -> bytes:
        size = marked_size & ~layout.RESIDENT
        if marked_size & layout.RESIDENT:
            if size > 4:
                raise self.damaged(messages.EMBEDDED_VALUE_TOO_LONG)
            return place.to_bytes(4, "little")[:size]
        if not size:
            return b""
        if size <= layout.SEGMENT_BYTES or self.base.minor < layout.BIG_FROM_MINOR:
            return self.cell(place, size)[:size]
        return self._big_data(place, size)

    def _big_data(self, offset: int, size: int) -> bytes:
        pieces = [self.cell(place) for place in self.segments(offset)]
        found = b"".join(piece[: layout.SEGMENT_BYTES] for piece in pieces)
        if len(found) < size:
            raise self.damaged(messages.LARGE_VALUE_AT_TRUNCATED.format(offset=offset))
        return found[:size]

    def segments(self, offset: int) -> list[int]:
        """The cells of the segments of a large value."""
        raw = self.cell(offset, 8)
        count, place = int.from_bytes(raw[2:4], "little"), int.from_bytes(raw[4:8], "little")
        if raw[:2] != b"db" or not count:
            raise self.damaged(messages.NO_VALID_LARGE_VALUE.format(offset=offset))
        listed = self.cell(place, count * 4)
        return [int.from_bytes(listed[at : at + 4], "little") for at in range(0, count * 4, 4)]

    def find_value(self, key: Key, name: str) -> Value | None:
        """A value by its name, whatever its case; the default one is called ``""``."""
        wanted = sort_key(name)
        for offset in self.value_offsets(key):
            cell, own = self.value_at(offset)
            if sort_key(own) == wanted:
                return Value(own, cell.kind, self.data_of(cell))
        return None

    def walk(self, top: Key | None = None) -> Iterator[tuple[str, Key]]:
        """Yields (path, key) of a key and all below it.

        Raises:
            DamagedError: keys lie in each other.
        """
        pending, seen = [("", top or self.root, 0)], set()
        while pending:
            path, key, depth = pending.pop()
            if key.offset in seen or depth > layout.MOST_DEPTH:
                raise self.damaged(messages.KEYS_CONTAIN_EACH_OTHER)
            seen.add(key.offset)
            yield path, key
            below = [
                (f"{path}\\{child.name}" if path else child.name, child, depth + 1)
                for child in self.subkeys(key)
            ]
            pending += reversed(below)


def decode_name(raw: bytes, is_compressed: bool) -> str:
    """A name from its bytes.

    Raises:
        DamagedError: it is UTF-16, and has an odd number of bytes.
    """
    if is_compressed:
        return raw.decode("latin-1")
    if len(raw) % 2:
        raise DamagedError(messages.NAME_ENDS_IN_CHARACTER)
    return raw.decode("utf-16-le", "surrogatepass")


def upper(text: str) -> str:
    """A name in upper case, letter by letter: none becomes two."""
    return "".join(big if len(big := letter.upper()) == 1 else letter for letter in text)


@lru_cache(maxsize=1 << 16)
def sort_key(name: str) -> bytes:
    """What names are sorted and compared by: UTF-16 units in upper case, high byte first."""
    return upper(name).encode("utf-16-be", "surrogatepass")


@lru_cache(maxsize=1 << 16)
def hash_name(name: str) -> int:
    """The hash value of a name in an ``lh`` list."""
    value = 0
    raw = sort_key(name)
    for at in range(0, len(raw), 2):
        value = (value * 37 + (raw[at] << 8 | raw[at + 1])) & 0xFFFFFFFF
    return value
