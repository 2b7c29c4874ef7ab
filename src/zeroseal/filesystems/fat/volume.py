"""One FAT volume: its geometry and its table, checked as they are read."""

from __future__ import annotations

from array import array
from collections.abc import Iterator

from zeroseal.blocks.store import Store
from zeroseal.blocks.tables import parse_table
from zeroseal.errors import DamagedError, NeedsRecoveryError, UnsupportedError
from zeroseal.filesystems.fat import layout
from zeroseal.filesystems.fat.layout import BootSector
from zeroseal.messages import fat as messages

_MAX_CLUSTERS = 1 << 24


class FatVolume:
    """An opened FAT volume; the table lies in memory, one number a cluster.

    Raises:
        DamagedError: the boot sector or the tables contradict themselves.
        NeedsRecoveryError: it was not unmounted cleanly.
        UnsupportedError: it is larger than we handle.
    """

    def __init__(self, store: Store, where: str = "the volume") -> None:
        self.store, self.where = store, where
        self.boot = BootSector.parse(store.read(0, BootSector.SIZE))
        self._read_geometry()
        self.table = self._read_table(0)
        self._check_state()

    def damaged(self, what: str) -> DamagedError:
        """The error for a structure that contradicts the format."""
        return DamagedError(messages.DAMAGED.format(where=self.where, what=what))

    @property
    def end_mark(self) -> int:
        """From this number on an entry of the table ends a chain."""
        return {12: 0xFF8, 16: 0xFFF8, 32: 0x0FFFFFF8}[self.bits]

    def cluster_offset(self, cluster: int) -> int:
        """Where a cluster lies, in bytes."""
        return self.data_offset + (cluster - 2) * self.cluster_bytes

    def chain(self, first: int) -> list[int]:
        """The clusters of a chain, in order; none for 0.

        Raises:
            DamagedError: it leaves the volume, meets a free or bad cluster, or itself.
        """
        found: list[int] = []
        cluster = first
        while cluster and cluster < self.end_mark:
            if not 2 <= cluster < self.cluster_count + 2 or len(found) > self.cluster_count:
                raise self.damaged(messages.CLUSTER_CHAIN_INVALID.format(first=first))
            found.append(cluster)
            cluster = self.table[cluster]
            if cluster == 0:
                raise self.damaged(messages.CLUSTER_CHAIN_REACHES_FREE_CLUSTER.format(first=first))
        return found

    def table_offset(self, number: int) -> int:
        """Where a copy of the table lies, in bytes."""
        return self.boot.reserved_sectors * self.boot.sector_bytes + number * self.table_bytes

    def read_table_copy(self, number: int) -> bytes:
        """A copy of the table as it lies there."""
        return self.store.read(self.table_offset(number), self.table_bytes)

    def iter_free(self) -> Iterator[tuple[int, int]]:
        """Yields (offset, length) of all free clusters, and of what lies behind the last one."""
        start = 0
        for cluster in range(2, self.cluster_count + 3):
            is_free = cluster < self.cluster_count + 2 and self.table[cluster] == 0
            if is_free and not start:
                start = cluster
            elif not is_free and start:
                yield self.cluster_offset(start), (cluster - start) * self.cluster_bytes
                start = 0
        end = self.cluster_offset(self.cluster_count + 2)
        if end < self.store.size_bytes:
            yield end, self.store.size_bytes - end

    def _read_geometry(self) -> None:
        boot = self.boot
        sound = (
            boot.signature == b"\x55\xaa"
            and boot.sector_bytes in (512, 1024, 2048, 4096)
            and boot.cluster_sectors in (1, 2, 4, 8, 16, 32, 64, 128)
            and boot.reserved_sectors > 0
            and boot.table_count in (1, 2)
            and (boot.table_sectors_16 or boot.table_sectors_32)
        )
        if not sound:
            raise self.damaged(messages.BOOT_SECTOR_DESCRIBES_IMPOSSIBLE_GEOMETRY)
        sector = boot.sector_bytes
        self.table_bytes = (boot.table_sectors_16 or boot.table_sectors_32) * sector
        self.root_offset = self.table_offset(boot.table_count)
        self.root_bytes = -(-boot.root_entries * layout.ENTRY_BYTES // sector) * sector
        self.data_offset = self.root_offset + self.root_bytes
        self.cluster_bytes = boot.cluster_sectors * sector
        total = (boot.total_sectors_16 or boot.total_sectors_32) * sector
        self.cluster_count = (total - self.data_offset) // self.cluster_bytes
        if total > self.store.size_bytes or self.cluster_count < 1:
            raise self.damaged(messages.LARGER_THAN_PARTITION_OR_EMPTY)
        if self.cluster_count > _MAX_CLUSTERS:
            raise UnsupportedError(
                messages.FAT_VOLUME_WITH_TOO_MANY_CLUSTERS.format(where=self.where)
            )
        self.bits = 12 if self.cluster_count < layout.MAX_FAT12 else 16
        if self.cluster_count >= layout.MAX_FAT16 or not boot.table_sectors_16:
            self.bits = 32
        if self.bits == 32 and (boot.version_32 or boot.root_entries or boot.flags_32 & 0x80):
            raise UnsupportedError(messages.FAT32_VARIANT_NOT_SUPPORTED.format(where=self.where))
        if self.table_bytes * 8 // self.bits < self.cluster_count + 2:
            raise self.damaged(messages.ALLOCATION_TABLE_TOO_SHORT)

    def _read_table(self, number: int) -> array[int]:
        raw = self.read_table_copy(number)
        count = self.cluster_count + 2
        if self.bits == 16:
            return array("I", parse_table(raw[: count * 2], "H", "<"))
        if self.bits == 32:
            wide = parse_table(raw[: count * 4], "I", "<")
            return array("I", [value & 0x0FFFFFFF for value in wide])
        table = array("I")
        for cluster in range(count):
            pair = int.from_bytes(raw[cluster * 3 // 2 : cluster * 3 // 2 + 2], "little")
            table.append(pair >> 4 if cluster & 1 else pair & 0xFFF)
        return table

    def _check_state(self) -> None:
        state_at = layout.STATE_OFFSET_32 if self.bits == 32 else layout.STATE_OFFSET_16
        is_dirty = bool(self.store.read(state_at, 1)[0] & layout.STATE_DIRTY)
        if self.bits == 16:
            is_dirty |= not self.table[1] & 0x8000
        elif self.bits == 32:
            is_dirty |= not self.table[1] & 0x08000000
        if is_dirty:
            raise NeedsRecoveryError(messages.NOT_UNMOUNTED_CLEANLY.format(where=self.where))
