"""Changing a hive in memory: values, keys, names, security; the result is a whole new file.

What is freed is zeroed. Sequence numbers are raised and equal, the checksum is put in, so that the
hive is clean; its transaction logs must be emptied by whoever writes it back (``logs.empty_log``).
"""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.guests.registry import layout
from zeroseal.guests.registry.hive import Hive, sort_key
from zeroseal.guests.registry.hive_cells import encode_name
from zeroseal.guests.registry.layout import BaseBlock, KeyCell, SecurityCell, ValueCell
from zeroseal.guests.registry.replace import HiveReplacer
from zeroseal.guests.registry.slack import SlackError, iter_slack
from zeroseal.messages import registry as messages

_MOST_NAME = 255
_MOST_VALUE_NAME = 16_383


class HiveEditor(HiveReplacer):
    """A hive that can be changed.

    Args:
        source: the whole hive, clean, or the hive that was opened.
        now: the moment that changed keys are given, seconds since 1970.
        where: its name, for messages.

    Raises:
        DamagedError, UnsupportedError, NeedsRecoveryError: as ``Hive``.
    """

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

    def get_value(self, key: int, name: str) -> tuple[int, bytes] | None:
        """(type, data) of a value; None where there is none."""
        offset = self._find_value(key, self._key(key), name)
        if offset is None:
            return None
        cell, _name = self._value(offset)
        return cell.kind, self._data_of(cell)

    def subkey_names(self, key: int) -> list[str]:
        """The names of the keys right below one."""
        return [name for name, _place in self._subkeys(self._key(key))]

    # -- values

    def set_value(self, key: int, name: str, kind: int, data: bytes) -> None:
        """Sets a value, or adds it; the default one is called ``""``.

        Raises:
            ValueError: a name that cannot be one.
        """
        if len(name) > _MOST_VALUE_NAME or "\0" in name:
            raise ValueError(messages.NOT_VALID_NAME_FOR_VALUE.format(name=name[:20]))
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
            raise ValueError(messages.ROOT_CANNOT_BE_REMOVED)
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
            raise ValueError(messages.ROOT_CANNOT_BE_RENAMED)
        taken = self._find_subkey(cell.parent, name)
        if taken not in (None, key):
            raise ValueError(messages.KEY_ALREADY_EXISTS.format(name=name))
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
            raise ValueError(messages.SHARED_DESCRIPTOR_LENGTH)
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
        """Zeroes free cells and the ends of others, which may hold what was removed before.

        Raises:
            DamagedError: the hive contradicts itself.
        """
        self._cells.zero_free()
        body = self._cells.body
        try:
            for start, end in list(iter_slack(body, self.root, self._base.minor)):
                body[start:end] = bytes(end - start)
        except SlackError as error:
            raise self._damaged(str(error)) from error


def _check_name(name: str) -> None:
    if not name or len(name) > _MOST_NAME or "\\" in name or "\0" in name:
        raise ValueError(messages.NOT_VALID_NAME_FOR_KEY.format(name=name[:20]))


def _longest(field: int, name: str) -> int:
    return field & ~0xFFFF | max(field & 0xFFFF, 2 * len(name))
