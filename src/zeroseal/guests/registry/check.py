"""The consistency checker of hives, written apart from the code that edits them.

Each cell is in use and reached exactly once, or free; bins and cells tile the file; lists are
sorted and their hashes right; counts, parents, longest names and reference counts fit.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from itertools import pairwise

from zeroseal.errors import ImageError, RefusedError
from zeroseal.filesystems.tree import Problem
from zeroseal.guests.registry import layout
from zeroseal.guests.registry.hive import Hive, Key, hash_name, sort_key
from zeroseal.guests.registry.layout import BinHeader, ValueCell
from zeroseal.messages import registry as messages

_MOST_PROBLEMS = 50


def check_hive(raw: bytes, where: str = "the hive") -> list[Problem]:
    """Checks a whole hive; returns what is wrong, at most fifty problems.

    Raises:
        UnsupportedError: a version or layered keys that we do not know.
    """
    found: list[Problem] = []
    try:
        hive = Hive(raw, where)
        for problem in _Checker(hive).run():
            found.append(problem)
            if len(found) >= _MOST_PROBLEMS:
                break
    except (ImageError, RefusedError) as error:
        found.append(Problem(where, error.message))
    return found


class _Checker:
    def __init__(self, hive: Hive) -> None:
        self._hive = hive
        self._used: dict[int, int] = {}
        self._reached: Counter[int] = Counter()
        self._security: Counter[int] = Counter()

    def run(self) -> Iterator[Problem]:
        yield from self._check_tiling()
        root = self._hive.root
        if not root.cell.flags & layout.KEY_ROOT:
            yield Problem("the root", messages.NOT_MARKED_AS_ROOT_KEY)
        pending, depth = [(root, root.name, 0)], 0
        while pending:
            key, path, depth = pending.pop()
            if depth > layout.MOST_DEPTH or self._reached[key.offset]:
                yield Problem(path, messages.INSIDE_ITSELF_OR_IN_TWO_KEYS)
                continue
            self._reached[key.offset] += 1
            self._security[key.cell.security] += 1
            yield from self._check_values(key, path)
            children = list(self._hive.subkeys(key))
            yield from self._check_subkeys(key, path, children)
            pending += [(child, f"{path}\\{child.name}", depth + 1) for child in children]
        yield from self._check_security()
        yield from self._check_reached()

    def _check_tiling(self) -> Iterator[Problem]:
        hive, place = self._hive, 0
        while place < hive.size:
            header = BinHeader.parse(hive.read(place, BinHeader.SIZE))
            length = header.length
            if header.magic != layout.BIN_MAGIC or header.offset != place:
                raise hive.damaged(messages.BIN_AT_NO_VALID_HEADER.format(place=place))
            if not length or length % layout.PAGE_BYTES or place + length > hive.size:
                raise hive.damaged(messages.BIN_AT_IMPOSSIBLE_LENGTH.format(place=place))
            cell, end = place + BinHeader.SIZE, place + length
            while cell < end:
                size = int.from_bytes(hive.read(cell, 4), "little", signed=True)
                if abs(size) < 8 or size % 8 or cell + abs(size) > end:
                    raise hive.damaged(messages.CELL_AT_IMPOSSIBLE_LENGTH.format(cell=cell))
                if size < 0:
                    self._used[cell] = -size
                cell += abs(size)
            place = end
        yield from ()

    def _check_subkeys(self, key: Key, path: str, children: list[Key]) -> Iterator[Problem]:
        if not key.cell.subkeys:
            return
        names = [sort_key(child.name) for child in children]
        if any(one >= two for one, two in pairwise(names)):
            yield Problem(path, messages.KEYS_BELOW_OUT_OF_ORDER)
        if any(child.cell.parent != key.offset for child in children):
            yield Problem(path, messages.KEY_BELOW_ANOTHER_PARENT)
        longest = max(2 * len(child.name) for child in children)
        if key.cell.longest_subkey & 0xFFFF < longest:
            yield Problem(path, messages.LONGER_KEY_NAME_BELOW)
        yield from self._check_lists(key.cell.subkey_list, path, 0)

    def _check_lists(self, offset: int, path: str, depth: int) -> Iterator[Problem]:
        self._reached[offset] += 1
        raw = self._hive.cell(offset)
        kind, count = raw[:2], int.from_bytes(raw[2:4], "little")
        width = 8 if kind in (b"lf", b"lh") else 4
        for place in range(4, 4 + count * width, width):
            inner = int.from_bytes(raw[place : place + 4], "little")
            mark = raw[place + 4 : place + 8]
            if kind == b"ri" and not depth:
                yield from self._check_lists(inner, path, 1)
            elif kind == b"lh":
                name = self._hive.key_at(inner).name
                if int.from_bytes(mark, "little") != hash_name(name):
                    yield Problem(path, messages.NAME_HASH_WRONG.format(name=name))
            elif kind == b"lf":
                name = self._hive.key_at(inner).name
                hint = name[:4].encode("latin-1", "replace").ljust(4, b"\0")
                if mark.lower() != hint.lower() and name.isascii():
                    yield Problem(path, messages.NAME_HINT_WRONG.format(name=name))

    def _check_values(self, key: Key, path: str) -> Iterator[Problem]:
        offsets = self._hive.value_offsets(key)
        if offsets:
            self._reached[key.cell.value_list] += 1
        if key.cell.class_bytes and key.cell.class_name != layout.NONE:
            self._reached[key.cell.class_name] += 1
        names = set()
        for offset in offsets:
            self._reached[offset] += 1
            cell, name = self._hive.value_at(offset)
            data = self._hive.data_of(cell)
            self._reach_data(cell)
            if sort_key(name) in names:
                yield Problem(path, messages.VALUE_OCCURS_TWICE.format(name=name))
            names.add(sort_key(name))
            if 2 * len(name) > key.cell.longest_value_name:
                yield Problem(path, messages.LONGER_VALUE_NAME)
            if len(data) > key.cell.longest_value:
                yield Problem(path, messages.LONGER_VALUE)

    def _reach_data(self, cell: ValueCell) -> None:
        size = cell.size & ~layout.RESIDENT
        if cell.size & layout.RESIDENT or not size:
            return
        self._reached[cell.data] += 1
        if size > layout.SEGMENT_BYTES and self._hive.base.minor >= layout.BIG_FROM_MINOR:
            raw = self._hive.cell(cell.data, 8)
            self._reached[int.from_bytes(raw[4:8], "little")] += 1
            for segment in self._hive.segments(cell.data):
                self._reached[segment] += 1

    def _check_security(self) -> Iterator[Problem]:
        if not self._security:
            return
        first = next(iter(self._security))
        place, back, ring = first, -1, []
        while True:
            cell, _descriptor = self._hive.security_at(place)
            if back >= 0 and cell.back != back:
                yield Problem("security", messages.LIST_OF_SECURITY_DESCRIPTORS_NOT_CLOSED)
            ring.append(place)
            self._reached[place] += 1
            if cell.references != self._security[place]:
                what = f"a descriptor counts {cell.references} keys, and has "
                yield Problem("security", what + f"{self._security[place]}")
            place, back = cell.forward, place
            if place == first or len(ring) > len(self._used):
                break
        if set(self._security) - set(ring):
            yield Problem("security", messages.SECURITY_DESCRIPTOR_NOT_IN_LIST)

    def _check_reached(self) -> Iterator[Problem]:
        for offset, count in self._reached.items():
            if offset not in self._used:
                yield Problem(
                    messages.CELL_NAME.format(offset=offset), messages.IN_USE_BUT_MARKED_FREE
                )
            elif count > 1:
                yield Problem(
                    messages.CELL_NAME.format(offset=offset),
                    messages.CELL_USED_TIMES.format(count=count),
                )
        for offset in self._used.keys() - self._reached.keys():
            yield Problem(messages.CELL_NAME.format(offset=offset), messages.CELL_WITHOUT_OWNER)
