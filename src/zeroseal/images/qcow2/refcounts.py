"""How often each cluster of a qcow2 file is used: the reference count table and its blocks.

Counts are kept in memory as they are touched and written by ``flush``.
"""

from __future__ import annotations

from array import array

from zeroseal.blocks.tables import build_table, parse_table, read_table
from zeroseal.errors import DamagedError, UnsupportedError
from zeroseal.images.container_file import ContainerFile
from zeroseal.images.qcow2.layout import ENTRY_OFFSET_MASK, Header
from zeroseal.messages import images as messages

_TYPE_CODES = {0: "B", 1: "B", 2: "B", 3: "B", 4: "H", 5: "I", 6: "Q"}


class RefcountTable:
    """Reference counts of one file; new clusters are always taken from the file's end."""

    def __init__(self, file: ContainerFile, header: Header) -> None:
        self._file = file
        self._header = header
        self._code = _TYPE_CODES[header.refcount_order]
        self._most = (1 << (1 << header.refcount_order)) - 1
        self._cluster_bytes = 1 << header.cluster_bits
        self._counts_per_block = self._cluster_bytes * 8 >> header.refcount_order
        entries = header.refcount_table_clusters * self._cluster_bytes // 8
        self._table = read_table(file, header.refcount_table_offset, entries, "Q", ">")
        self._blocks: dict[int, array[int]] = {}
        self._changed: set[int] = set()
        self._table_changed = False
        self.end_cluster = -(-file.size_bytes // self._cluster_bytes)

    def allocate(self, count: int) -> int:
        """Takes ``count`` neighbouring clusters, each counted once; returns the first's offset."""
        first = self.end_cluster
        self.end_cluster += count
        for cluster_no in range(first, first + count):
            self._get_block_for_change(cluster_no)[cluster_no % self._counts_per_block] = 1
        return first * self._cluster_bytes

    def add(self, cluster_no: int, difference: int) -> int:
        """Changes one count; returns the new one.

        Raises:
            DamagedError: the count would become negative.
            UnsupportedError: it would become larger than the image can count.
        """
        block = self._get_block_for_change(cluster_no)
        value = block[cluster_no % self._counts_per_block] + difference
        if value < 0:
            raise DamagedError(
                messages.CLUSTER_IN_USE_BUT_COUNTED_FREE.format(
                    path=self._file.path, cluster_no=cluster_no
                ),
                format="qcow2",
            )
        if value > self._most:
            raise UnsupportedError(
                messages.CLUSTER_USED_TOO_OFTEN.format(path=self._file.path, most=self._most),
                format="qcow2",
            )
        block[cluster_no % self._counts_per_block] = value
        return value

    def count_of(self, cluster_no: int) -> int:
        """How often a cluster is used."""
        index = cluster_no // self._counts_per_block
        if index not in self._blocks and (
            index >= len(self._table) or not self._table[index] & ENTRY_OFFSET_MASK
        ):
            return 0
        if index not in self._blocks:
            self._blocks[index] = self._read_block(self._table[index] & ENTRY_OFFSET_MASK)
        return self._blocks[index][cluster_no % self._counts_per_block]

    def flush(self) -> None:
        """Writes the changed blocks, then the table."""
        for index in sorted(self._changed):
            self._file.write(
                self._table[index] & ENTRY_OFFSET_MASK, self._build_block(self._blocks[index])
            )
        self._changed.clear()
        if self._table_changed:
            self._file.write(self._header.refcount_table_offset, build_table(self._table, ">"))
            self._table_changed = False

    def _get_block_for_change(self, cluster_no: int) -> array[int]:
        index = cluster_no // self._counts_per_block
        block = self._blocks.get(index)
        if block is None:
            if index >= len(self._table):
                self._grow_table(index)
            offset = self._table[index] & ENTRY_OFFSET_MASK
            block = self._read_block(offset) if offset else self._add_block(index)
            self._blocks[index] = block
        self._changed.add(index)
        return block

    def _read_block(self, offset: int) -> array[int]:
        raw = self._file.read(offset, self._cluster_bytes)
        bits = 1 << self._header.refcount_order
        if bits >= 8:
            return parse_table(raw, self._code, ">")
        shifts = range(0, 8, bits)
        return array("B", [byte >> shift & self._most for byte in raw for shift in shifts])

    def _build_block(self, block: array[int]) -> bytes:
        bits = 1 << self._header.refcount_order
        if bits >= 8:
            return build_table(block, ">")
        raw = bytearray(self._cluster_bytes)
        for index, value in enumerate(block):
            raw[index * bits // 8] |= value << index * bits % 8
        return bytes(raw)

    def _add_block(self, index: int) -> array[int]:
        """Makes the missing block; the cluster it lies in may be counted by itself."""
        block = array(self._code, [0]) * self._counts_per_block
        self._blocks[index] = block
        own_cluster = self.end_cluster
        self.end_cluster += 1
        self._table[index] = own_cluster * self._cluster_bytes
        self._table_changed = True
        self._get_block_for_change(own_cluster)[own_cluster % self._counts_per_block] = 1
        return block

    def _grow_table(self, index: int) -> None:
        entries_per_cluster = self._cluster_bytes // 8
        clusters = (index + index // 2) // entries_per_cluster + 1
        old_first = self._header.refcount_table_offset // self._cluster_bytes
        old_clusters = self._header.refcount_table_clusters
        self._table.extend([0] * (clusters * entries_per_cluster - len(self._table)))
        self._header.refcount_table_clusters = clusters
        self._header.refcount_table_offset = self.allocate(clusters)
        for cluster_no in range(old_first, old_first + old_clusters):
            self.add(cluster_no, -1)
        self._table_changed = True
