"""Changing a hive in memory: values, keys, names, security; the result is a whole new file.

What is freed is zeroed. Sequence numbers are raised and equal, the checksum is put in, so that the
hive is clean; its transaction logs must be emptied by whoever writes it back (``logs.empty_log``).
"""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.errors import DamagedError
from zeroseal.guests.registry import layout
from zeroseal.guests.registry.cells import Cells
from zeroseal.guests.registry.hive import Hive, decode_name, hash_name, sort_key
from zeroseal.guests.registry.layout import BaseBlock, KeyCell, SecurityCell, ValueCell

_MOST_NAME = 255
_MOST_VALUE_NAME = 16_383


class HiveEditor:
    """A hive that can be changed.

    Args:
        raw: the whole hive, clean.
        now: the moment that changed keys are given, seconds since 1970.
        where: its name, for messages.

    Raises:
        DamagedError, UnsupportedError, NeedsRecoveryError: as ``Hive``.
    """

    def __init__(self, raw: bytes, now: int, where: str = "the hive") -> None:
        opened = Hive(raw, where)
        self._raw, self._where = raw, where
        self._now = layout.filetime(now)
        self._base = opened.base
        self._cells = Cells(raw[layout.BASE_BYTES : layout.BASE_BYTES + opened.size], where)
        self._indexed = layout.NONE  # the key whose values are known by name, to set many of them
        self._index: dict[bytes, int] = {}
        self._names: dict[int, str] = {}  # of keys, as far as they were asked for

    # -- reading what is not written yet

    def read(self) -> Hive:
        """The hive as it is now."""
        return Hive(self.build(), self._where)

    def build(self) -> bytes:
        """The whole hive as a file."""
        base = BaseBlock.parse(self._base.build())
        base.data_bytes = len(self._cells.body)
        base.sequence = base.done_sequence = (self._base.done_sequence + 1) & 0xFFFFFFFF
        base.written = self._now
        base.checksum = layout.checksum_of(base.build())
        rest = self._raw[BaseBlock.SIZE : layout.BASE_BYTES]
        return base.build() + rest + bytes(self._cells.body)

    @property
    def root(self) -> int:
        """The topmost key."""
        return self._base.root

    def find_key(self, path: str) -> int | None:
        """A key by its path, parts divided by backslashes; None where there is none."""
        key = self.root
        for part in [piece for piece in path.split("\\") if piece]:
            found = self._find_subkey(key, part)
            if found is None:
                return None
            key = found
        return key

    def values(self, key: int) -> Iterator[tuple[str, int]]:
        """Yields (name, type) of a key's values."""
        for offset in self._value_offsets(self._key(key)):
            cell, name = self._value(offset)
            yield name, cell.kind

    # -- values

    def set_value(self, key: int, name: str, kind: int, data: bytes) -> None:
        """Sets a value, or adds it; the default one is called ``""``.

        Raises:
            ValueError: a name that cannot be one.
        """
        if len(name) > _MOST_VALUE_NAME or "\0" in name:
            raise ValueError(f"{name[:20]!r} cannot be a value's name")
        cell = self._key(key)
        offset = self._find_value(key, cell, name)
        if offset is None:
            encoded, is_compressed = encode_name(name)
            value = ValueCell.blank(
                magic=b"vk",
                name_bytes=len(encoded),
                flags=layout.VALUE_COMPRESSED if is_compressed else 0,
            )
            offset = self._cells.give(value.build() + encoded)
            self._add_to_values(cell, offset)
            self._index[sort_key(name)] = offset
        else:
            value = self._value(offset)[0]
            self._drop_data(value)
        value.kind = kind
        self._put_data(value, data)
        self._cells.set_content(offset, value.build())
        cell.longest_value_name = max(cell.longest_value_name, 2 * len(name))
        cell.longest_value = max(cell.longest_value, len(data))
        self._touch(key, cell)

    def delete_value(self, key: int, name: str) -> bool:
        """Removes a value; returns whether it was there."""
        cell = self._key(key)
        offset = self._find_value(key, cell, name)
        if offset is None:
            return False
        offsets = self._value_offsets(cell)
        offsets.remove(offset)
        self._drop_value(offset)
        self._set_values(cell, offsets)
        del self._index[sort_key(name)]
        self._touch(key, cell)
        return True

    def delete_values(self, key: int) -> None:
        """Removes all values of a key."""
        cell = self._key(key)
        for offset in self._value_offsets(cell):
            self._drop_value(offset)
        self._set_values(cell, [])
        self._indexed = layout.NONE
        self._touch(key, cell)

    # -- keys

    def add_key(self, parent: int, name: str, class_name: str = "") -> int:
        """Adds a key below another, with its security; one that is there is returned.

        Raises:
            ValueError: a name that cannot be one.
        """
        _check_name(name)
        found = self._find_subkey(parent, name)
        if found is not None:
            return found
        above = self._key(parent)
        encoded, is_compressed = encode_name(name)
        wide = class_name.encode("utf-16-le", "surrogatepass")
        cell = KeyCell.blank(
            magic=b"nk",
            flags=layout.KEY_COMPRESSED if is_compressed else 0,
            written=self._now,
            parent=parent,
            subkey_list=layout.NONE,
            volatile_list=layout.NONE,
            value_list=layout.NONE,
            security=above.security,
            class_name=self._cells.give(wide) if wide else layout.NONE,
            class_bytes=len(wide),
            name_bytes=len(encoded),
        )
        offset = self._cells.give(cell.build() + encoded)
        self._change_references(above.security, +1)
        names = [*self._subkeys(above), (name, offset)]
        self._set_subkeys(above, names)
        above.longest_subkey = _longest(above.longest_subkey, name)
        above.longest_class = max(above.longest_class, len(wide))
        self._touch(parent, above)
        return offset

    def delete_key(self, key: int) -> int:
        """Removes a key with all below it; returns how many went.

        Raises:
            ValueError: it is the root.
        """
        cell = self._key(key)
        if key == self.root:
            raise ValueError("the root of a hive cannot be removed")
        above = self._key(cell.parent)
        kept = [(name, place) for name, place in self._subkeys(above) if place != key]
        self._set_subkeys(above, kept)
        self._touch(cell.parent, above)
        return self._drop_key(key)

    def rename_key(self, key: int, name: str) -> int:
        """Gives a key another name; returns its cell, which may be another then.

        Raises:
            ValueError: a name that cannot be one, or is taken.
        """
        _check_name(name)
        cell = self._key(key)
        if key == self.root:
            raise ValueError("the root of a hive keeps its name here")
        taken = self._find_subkey(cell.parent, name)
        if taken not in (None, key):
            raise ValueError(f"there is a key {name!r} already")
        encoded, is_compressed = encode_name(name)
        cell.name_bytes = len(encoded)
        cell.flags = cell.flags & ~layout.KEY_COMPRESSED
        cell.flags |= layout.KEY_COMPRESSED if is_compressed else 0
        moved = self._cells.put(key, cell.build() + encoded)
        self._indexed = layout.NONE
        self._names.pop(key, None)
        if moved != key:
            for _name, child in self._subkeys(cell):
                below = self._key(child)
                below.parent = moved
                self._write_key(child, below)
        above = self._key(cell.parent)
        names = [(own, place) for own, place in self._subkeys(above, but=key) if place != key]
        self._set_subkeys(above, [*names, (name, moved)])
        longest = max((2 * len(own) for own, _place in names), default=0)
        above.longest_subkey = above.longest_subkey & ~0xFFFF | max(longest, 2 * len(name))
        self._touch(cell.parent, above)
        return moved

    # -- security

    def security_of(self, key: int) -> bytes:
        """A key's security descriptor."""
        content = self._cells.content(self._key(key).security)
        cell = SecurityCell.parse(content[: SecurityCell.SIZE])
        return content[SecurityCell.SIZE : SecurityCell.SIZE + cell.size]

    def security_cells(self) -> list[int]:
        """All security cells, each once, by their ring."""
        first = self._key(self.root).security
        found, place = [first], self._security(first).forward
        while place != first and len(found) < 1 << 20:
            found.append(place)
            place = self._security(place).forward
        return found

    def replace_security(self, offset: int, descriptor: bytes) -> None:
        """Gives a security cell another descriptor, for all keys that share it.

        Raises:
            ValueError: it has another length; keys point to the cell, which cannot be moved.
        """
        cell = self._security(offset)
        if cell.size != len(descriptor):
            raise ValueError("a shared descriptor is replaced by one of the same length")
        self._cells.set_content(offset, cell.build() + descriptor)

    def set_security(self, key: int, descriptor: bytes) -> None:
        """Gives one key a descriptor; one that another key has already is shared."""
        cell = self._key(key)
        for offset in self.security_cells():
            content = self._cells.content(offset)
            own = SecurityCell.parse(content[: SecurityCell.SIZE])
            if content[SecurityCell.SIZE : SecurityCell.SIZE + own.size] == descriptor:
                if offset != cell.security:
                    self._change_references(offset, +1)
                    self._change_references(cell.security, -1)
                    cell.security = offset
                    self._touch(key, cell)
                return
        before, old = cell.security, self._security(cell.security)
        made = SecurityCell.blank(
            magic=b"sk", forward=old.forward, back=before, references=1, size=len(descriptor)
        )
        offset = self._cells.give(made.build() + descriptor)
        following = self._security(old.forward)
        following.back = offset
        self._cells.set_content(old.forward, following.build())
        old = self._security(before)
        old.forward = offset
        self._cells.set_content(before, old.build())
        cell.security = offset
        self._touch(key, cell)
        self._change_references(before, -1)

    def zero_free(self) -> None:
        """Zeroes free cells, which may hold what was removed before."""
        self._cells.zero_free()

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
            raise self._damaged("a list of keys is none")
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
        return DamagedError(f"{self._where} is no sound registry hive: {what}")

    def _drop_key(self, key: int, depth: int = 0) -> int:
        if depth > layout.MOST_DEPTH:
            raise self._damaged("its keys lie in each other")
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

    def _drop_data(self, value: ValueCell) -> None:
        size = value.size & ~layout.RESIDENT
        if value.size & layout.RESIDENT or not size:
            return
        if size > layout.SEGMENT_BYTES and self._base.minor >= layout.BIG_FROM_MINOR:
            raw = self._cells.content(value.data)
            count = int.from_bytes(raw[2:4], "little")
            listed = int.from_bytes(raw[4:8], "little")
            places = self._cells.content(listed)
            for at in range(0, count * 4, 4):
                self._cells.take_back(int.from_bytes(places[at : at + 4], "little"))
            self._cells.take_back(listed)
        self._cells.take_back(value.data)


def encode_name(name: str) -> tuple[bytes, bool]:
    """(bytes, whether compressed) of a name: one byte a letter where all letters have one."""
    try:
        return name.encode("latin-1"), True
    except UnicodeEncodeError:
        return name.encode("utf-16-le", "surrogatepass"), False


def _check_name(name: str) -> None:
    if not name or len(name) > _MOST_NAME or "\\" in name or "\0" in name:
        raise ValueError(f"{name[:20]!r} cannot be a key's name")


def _longest(field: int, name: str) -> int:
    return field & ~0xFFFF | max(field & 0xFFFF, 2 * len(name))
