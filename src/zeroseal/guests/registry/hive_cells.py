"""The lists, values and data of a hive in memory, below what an editor offers to others."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.errors import DamagedError
from zeroseal.guests.registry import layout
from zeroseal.guests.registry.cells import Cells
from zeroseal.guests.registry.hive import Hive, decode_name, hash_name, sort_key
from zeroseal.guests.registry.layout import KeyCell, SecurityCell, ValueCell
from zeroseal.messages import registry as messages


class HiveCells:
    """A hive taken apart into its cells; see ``HiveEditor`` for what is done with them."""

    def __init__(self, source: bytes | Hive, now: int, where: str = "the hive") -> None:
        opened = Hive(source, where) if isinstance(source, bytes) else source
        raw = opened.content
        self._raw, self._where = raw, where
        self._now = layout.filetime(now)
        self._base = opened.base
        self._cells = Cells(raw[layout.BASE_BYTES : layout.BASE_BYTES + opened.size], where)
        self._indexed = layout.NONE  # the key whose values are known by name, to set many of them
        self._index: dict[bytes, int] = {}
        self._names: dict[int, str] = {}  # of keys, as far as they were asked for

    # -- cells

    def _key(self, offset: int) -> KeyCell:
        return KeyCell.parse(self._cells.content(offset)[: KeyCell.SIZE])

    def _name_of(self, offset: int) -> str:
        known = self._names.get(offset)
        if known is None:
            known = self._names[offset] = self._read_name(offset)
        return known

    def _read_name(self, offset: int) -> str:
        content = self._cells.content(offset)
        cell = KeyCell.parse(content[: KeyCell.SIZE])
        raw = content[KeyCell.SIZE : KeyCell.SIZE + cell.name_bytes]
        return decode_name(raw, bool(cell.flags & layout.KEY_COMPRESSED))

    def _write_key(self, offset: int, cell: KeyCell) -> None:
        self._cells.set_content(offset, cell.build())

    def _touch(self, offset: int, cell: KeyCell) -> None:
        cell.written = self._now
        self._write_key(offset, cell)

    def _value(self, offset: int) -> tuple[ValueCell, str]:
        content = self._cells.content(offset)
        cell = ValueCell.parse(content[: ValueCell.SIZE])
        raw = content[ValueCell.SIZE : ValueCell.SIZE + cell.name_bytes]
        return cell, decode_name(raw, bool(cell.flags & layout.VALUE_COMPRESSED))

    def _security(self, offset: int) -> SecurityCell:
        return SecurityCell.parse(self._cells.content(offset)[: SecurityCell.SIZE])

    def _change_references(self, offset: int, by: int) -> None:
        cell = self._security(offset)
        cell.references += by
        if cell.references > 0:
            self._cells.set_content(offset, cell.build())
            return
        for place, side in ((cell.back, "forward"), (cell.forward, "back")):
            beside = self._security(place)
            setattr(beside, side, cell.forward if side == "forward" else cell.back)
            self._cells.set_content(place, beside.build())
        self._cells.take_back(offset)

    # -- lists of subkeys

    def _subkeys(self, cell: KeyCell, but: int = layout.NONE) -> list[tuple[str, int]]:
        """(name, key) of those below a key; ``but`` names one whose cell is gone."""
        if not cell.subkeys:
            return []
        places = self._listed(cell.subkey_list)
        return [(self._name_of(place), place) for place in places if place != but]

    def _listed(self, offset: int, depth: int = 0) -> Iterator[int]:
        raw = self._cells.content(offset)
        width = 8 if raw[:2] in (b"lf", b"lh") else 4
        end = 4 + int.from_bytes(raw[2:4], "little") * width
        if raw[:2] not in (b"lf", b"lh", b"li", b"ri")[: 4 - depth] or end > len(raw):
            raise self._damaged(messages.KEY_LIST_INVALID)
        for place in range(4, end, width):
            inner = int.from_bytes(raw[place : place + 4], "little")
            if raw[:2] == b"ri":
                yield from self._listed(inner, depth + 1)
            else:
                yield inner

    def _find_subkey(self, parent: int, name: str) -> int | None:
        cell, wanted = self._key(parent), sort_key(name)
        offsets = list(self._listed(cell.subkey_list)) if cell.subkeys else []
        low, high = 0, len(offsets)
        while low < high:
            middle = (low + high) // 2
            own = sort_key(self._name_of(offsets[middle]))
            if own == wanted:
                return offsets[middle]
            low, high = (middle + 1, high) if own < wanted else (low, middle)
        return None

    def _set_subkeys(self, cell: KeyCell, names: list[tuple[str, int]]) -> None:
        if cell.subkeys:
            self._drop_lists(cell.subkey_list)
        names.sort(key=lambda item: sort_key(item[0]))
        cell.subkeys, cell.subkey_list = len(names), layout.NONE
        leaves = [
            self._cells.give(self._leaf(names[start : start + layout.MOST_IN_LEAF]))
            for start in range(0, len(names), layout.MOST_IN_LEAF)
        ]
        if len(leaves) == 1:
            cell.subkey_list = leaves[0]
        elif leaves:
            body = b"".join(place.to_bytes(4, "little") for place in leaves)
            cell.subkey_list = self._cells.give(b"ri" + len(leaves).to_bytes(2, "little") + body)

    def _leaf(self, names: list[tuple[str, int]]) -> bytes:
        is_hashed = self._base.minor >= 5
        body = (b"lh" if is_hashed else b"lf") + len(names).to_bytes(2, "little")
        for name, place in names:
            if is_hashed:
                mark = hash_name(name).to_bytes(4, "little")
            else:
                mark = name[:4].encode("latin-1", "replace").ljust(4, b"\0")
            body += place.to_bytes(4, "little") + mark
        return body

    def _drop_lists(self, offset: int) -> None:
        raw = self._cells.content(offset)
        if raw[:2] == b"ri":
            for place in range(4, 4 + int.from_bytes(raw[2:4], "little") * 4, 4):
                self._cells.take_back(int.from_bytes(raw[place : place + 4], "little"))
        self._cells.take_back(offset)

    def _damaged(self, what: str) -> DamagedError:
        return DamagedError(messages.DAMAGED.format(where=self._where, what=what))

    def _drop_key(self, key: int, depth: int = 0) -> int:
        if depth > layout.MOST_DEPTH:
            raise self._damaged(messages.KEYS_CONTAIN_EACH_OTHER)
        self._indexed = layout.NONE
        self._names.pop(key, None)
        cell, count = self._key(key), 1
        for _name, child in self._subkeys(cell):
            count += self._drop_key(child, depth + 1)
        if cell.subkeys:
            self._drop_lists(cell.subkey_list)
        for offset in self._value_offsets(cell):
            self._drop_value(offset)
        if cell.values:
            self._cells.take_back(cell.value_list)
        if cell.class_bytes and cell.class_name != layout.NONE:
            self._cells.take_back(cell.class_name)
        self._change_references(cell.security, -1)
        self._cells.take_back(key)
        return count

    # -- lists of values

    def _value_offsets(self, cell: KeyCell) -> list[int]:
        if not cell.values:
            return []
        raw = self._cells.content(cell.value_list)
        return [int.from_bytes(raw[at : at + 4], "little") for at in range(0, cell.values * 4, 4)]

    def _find_value(self, key: int, cell: KeyCell, name: str) -> int | None:
        if self._indexed != key:
            places = self._value_offsets(cell)
            self._index = {sort_key(self._value(place)[1]): place for place in reversed(places)}
            self._indexed = key
        return self._index.get(sort_key(name))

    def _add_to_values(self, cell: KeyCell, offset: int) -> None:
        place, raw = cell.values * 4, offset.to_bytes(4, "little")
        if not cell.values:
            cell.value_list = self._cells.give(raw)
        elif place + 4 <= self._cells.length(cell.value_list) - 4:
            start = cell.value_list + 4 + place
            self._cells.body[start : start + 4] = raw
        else:
            content = self._cells.content(cell.value_list)[:place] + raw
            self._cells.take_back(cell.value_list)
            cell.value_list = self._cells.give(content, room=len(content) * 3 // 2)
        cell.values += 1

    def _set_values(self, cell: KeyCell, offsets: list[int]) -> None:
        body = b"".join(place.to_bytes(4, "little") for place in offsets)
        if offsets:
            cell.value_list = self._cells.put(cell.value_list, body)
        elif cell.values:
            self._cells.take_back(cell.value_list)
            cell.value_list = layout.NONE
        cell.values = len(offsets)

    def _drop_value(self, offset: int) -> None:
        self._drop_data(self._value(offset)[0])
        self._cells.take_back(offset)

    # -- data

    def _put_data(self, value: ValueCell, data: bytes) -> None:
        if len(data) <= 4:
            value.size = len(data) | layout.RESIDENT
            value.data = int.from_bytes(data.ljust(4, b"\0"), "little")
            return
        value.size = len(data)
        is_big = len(data) > layout.SEGMENT_BYTES and self._base.minor >= layout.BIG_FROM_MINOR
        if not is_big:
            value.data = self._cells.give(data)
            return
        step = layout.SEGMENT_BYTES
        places = [
            self._cells.give(data[start : start + step], room=step)
            for start in range(0, len(data), step)
        ]
        listed = self._cells.give(b"".join(place.to_bytes(4, "little") for place in places))
        head = b"db" + len(places).to_bytes(2, "little") + listed.to_bytes(4, "little")
        value.data = self._cells.give(head)

    def _data_of(self, value: ValueCell) -> bytes:
        size = value.size & ~layout.RESIDENT
        if value.size & layout.RESIDENT:
            return value.data.to_bytes(4, "little")[:size]
        if size <= layout.SEGMENT_BYTES or self._base.minor < layout.BIG_FROM_MINOR:
            return self._cells.content(value.data)[:size] if size else b""
        segments = [self._cells.content(place) for place in self._segments(value.data)[1]]
        return b"".join(piece[: layout.SEGMENT_BYTES] for piece in segments)[:size]

    def _segments(self, offset: int) -> tuple[int, list[int]]:
        """(list, segments) of a large value."""
        raw = self._cells.content(offset)
        count, listed = int.from_bytes(raw[2:4], "little"), int.from_bytes(raw[4:8], "little")
        places = self._cells.content(listed)
        found = [int.from_bytes(places[at : at + 4], "little") for at in range(0, count * 4, 4)]
        return listed, found

    def _drop_data(self, value: ValueCell) -> None:
        size = value.size & ~layout.RESIDENT
        if value.size & layout.RESIDENT or not size:
            return
        if size > layout.SEGMENT_BYTES and self._base.minor >= layout.BIG_FROM_MINOR:
            listed, segments = self._segments(value.data)
            for place in segments:
                self._cells.take_back(place)
            self._cells.take_back(listed)
        self._cells.take_back(value.data)


def encode_name(name: str) -> tuple[bytes, bool]:
    """(bytes, whether compressed) of a name: one byte a letter where all letters have one."""
    try:
        return name.encode("latin-1"), True
    except UnicodeEncodeError:
        return name.encode("utf-16-le", "surrogatepass"), False
