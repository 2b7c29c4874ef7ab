"""Changing the checksums of data: one for each sector, in runs, by logical address."""

from __future__ import annotations

from zeroseal.blocks.ranges import RangeSet
from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.layout import Key
from zeroseal.filesystems.btrfs.node_build import leaf_room
from zeroseal.filesystems.btrfs.trees_edit import TreeEditor

_TREE, _OBJECT, _KIND = layout.CHECKSUM_TREE, layout.CHECKSUMS, layout.EXTENT_CHECKSUM


class SumEditor:
    """The checksums of a volume's data, to be changed. Those of data that goes wait for ``flush``.

    Args:
        trees: of the volume.
    """

    def __init__(self, trees: TreeEditor) -> None:
        self._trees, self._volume = trees, trees.volume
        self._gone = RangeSet()
        self._sector = self._volume.superblock.sector_bytes
        self._size = self._volume.checksum_bytes
        self._most_sums = leaf_room(self._volume) // 4 // self._size

    def make(self, content: bytes) -> bytes:
        """The checksums of some sectors, one behind the other."""
        step = self._sector
        return b"".join(
            self._volume.checksum(content[at : at + step]) for at in range(0, len(content), step)
        )

    def add(self, address: int, sums: bytes) -> None:
        """Notes the checksums of data that begins at an address and has none."""
        end = address + len(sums) // self._size * self._sector
        if any(self._gone.within(address, end)):
            self.flush()
        step = self._most_sums * self._size
        for at in range(0, len(sums), step):
            key = Key(_OBJECT, _KIND, address + at // self._size * self._sector)
            self._trees.put(_TREE, key, sums[at : at + step])

    def replace(self, address: int, sums: bytes) -> None:
        """Gives data other checksums, as far as it has some."""
        end = address + len(sums) // self._size * self._sector
        for key, data in self._touching(address, end):
            made = bytearray(data)
            for index in range(len(data) // self._size):
                place = key.offset + index * self._sector
                if address <= place < end:
                    at = (place - address) // self._sector * self._size
                    made[index * self._size : (index + 1) * self._size] = sums[at : at + self._size]
            self._trees.put(_TREE, key, bytes(made))

    def drop(self, address: int, length: int) -> None:
        """Data goes; so do its checksums, if it has any."""
        self._gone.add(address, address + length)

    def flush(self) -> None:
        """Drops the checksums of all data that went."""
        gone, self._gone = self._gone, RangeSet()
        for start, end in gone:
            for key, data in self._touching(start, end):
                self._cut(key, data, start, end)

    # -- inside

    def _touching(self, start: int, end: int) -> list[tuple[Key, bytes]]:
        """The items with a checksum of something from an address to another."""
        reach = leaf_room(self._volume) // self._size * self._sector
        first = Key(_OBJECT, _KIND, max(0, start - reach))
        items = self._volume.items(self._trees.root(_TREE), first, Key(_OBJECT, _KIND, end - 1))
        return [
            (key, data)
            for key, data in items
            if key.offset + len(data) // self._size * self._sector > start
        ]

    def _cut(self, key: Key, data: bytes, start: int, end: int) -> None:
        """Takes the checksums of a range out of an item."""
        before = max(0, start - key.offset) // self._sector * self._size
        after = max(0, end - key.offset) // self._sector * self._size
        if before:
            self._trees.put(_TREE, key, data[:before])
        else:
            self._trees.drop(_TREE, key)
        if after < len(data):
            self._trees.put(_TREE, key._replace(offset=end), data[after:])
