"""Registry hives: a full walk against python-registry's, and a look-up in a large hive.

Usage: ``python benchmarks/registry.py``. Both hives are made here: 70,000 values in 7,000 keys, and
one of 100 MB.
"""

from __future__ import annotations

import random
import statistics
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from Registry import Registry

from seal_against_copy import timed
from zeroseal.blocks.store import Extent, Store
from zeroseal.guests.registry.create import new_hive
from zeroseal.guests.registry.edit import HiveEditor
from zeroseal.guests.registry.hive import Hive


class CountedFile(Store):
    """A file, and how many bytes of it were read."""

    def __init__(self, path: Path) -> None:
        self._file = path.open("rb")
        self.size_bytes, self.read_bytes = path.stat().st_size, 0

    def read(self, offset_bytes: int, length: int) -> bytes:
        """See ``Store``."""
        self.read_bytes += length
        self._file.seek(offset_bytes)
        return self._file.read(length)

    def write(self, offset_bytes: int, data: bytes | memoryview) -> None:
        """See ``Store``; nothing is written here."""
        raise NotImplementedError

    def zero(self, offset_bytes: int, length: int) -> None:
        """See ``Store``; nothing is written here."""
        raise NotImplementedError

    def iter_extents(self, offset_bytes: int, length: int) -> Iterator[Extent]:
        """See ``Store``."""
        yield Extent(offset_bytes, length, is_zero=False)


def make(keys: int, values: int, size: int) -> bytes:
    """A hive with so many keys, so many values in each, of so many bytes."""
    dice = random.Random(1)
    editor = HiveEditor(new_hive("ROOT", 0), 0)
    for number in range(keys):
        if number % 100 == 0:
            group = editor.add_key(editor.root, f"group {number // 100:04d}")
        key = editor.add_key(group, f"key {number:05d}")
        for index in range(values):
            editor.set_value(key, f"value {index}", 3, dice.randbytes(size))
    return editor.build()


def walk_ours(path: Path) -> int:
    """Reads every value there is."""
    hive = Hive(path.read_bytes())
    return sum(len(value.data) for _path, key in hive.walk() for value in hive.values(key))


def walk_theirs(path: Path) -> int:
    """Reads every value there is, by python-registry."""

    def read(key: Any) -> int:
        own = sum(len(value.raw_data()) for value in key.values())
        return own + sum(read(child) for child in key.subkeys())

    return read(Registry.Registry(str(path)).root())


def main() -> None:
    """Prints the ratios."""
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 5
    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / "hive"
        path.write_bytes(make(7000, 10, 40))
        if walk_ours(path) != walk_theirs(path):
            raise SystemExit("the two walks read different things")
        ours, theirs = [], []
        for _round in range(rounds):
            ours.append(timed(lambda: walk_ours(path)))
            theirs.append(timed(lambda: walk_theirs(path)))
        ratio = statistics.median(theirs) / statistics.median(ours)
        print(f"walk of 70,000 values: python-registry's time / ours  {ratio:.2f}")
        path.write_bytes(make(2500, 10, 4000))
        store = CountedFile(path)
        hive = Hive(store)
        key = hive.find_key("group 0011\\key 01150")
        if key is None or hive.find_value(key, "value 7") is None:
            raise SystemExit("the value is not there")
        share = store.read_bytes / store.size_bytes
        print(f"one value of a hive of {store.size_bytes >> 20} MiB: {share:.2%} of it is read")


if __name__ == "__main__":
    main()
