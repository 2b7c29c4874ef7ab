"""Writing qcow2: new images, and changes to existing ones.

Data goes to the file at once; tables are kept in memory and written by ``flush`` in the order that
keeps a reader right at any moment: reference counts, L2 tables, L1 table, header.
"""

from __future__ import annotations

import struct
from array import array

from zeroseal.blocks.tables import build_table
from zeroseal.errors import RefusedError
from zeroseal.images.container_file import ContainerFile
from zeroseal.images.image import Image, WritableImage
from zeroseal.images.qcow2 import layout
from zeroseal.images.qcow2.bitmaps import bitmap_clusters
from zeroseal.images.qcow2.layout import Header
from zeroseal.images.qcow2.read import Qcow2Image
from zeroseal.images.qcow2.refcounts import RefcountTable
from zeroseal.messages import images as messages

DEFAULT_CLUSTER_BITS = 16


class WritableQcow2(Qcow2Image, WritableImage):
    """A qcow2 image that can be changed; dirty bitmaps are dropped at the first change.

    Raises:
        RefusedError: the image was not closed cleanly, or has an external data file.
    """

    def __init__(self, file: ContainerFile, backing: Image | None = None) -> None:
        super().__init__(file, backing)
        if self.header.incompatible_features & layout.INCOMPATIBLE_DIRTY:
            raise RefusedError(messages.NOT_CLOSED_CLEANLY.format(path=file.path))
        if self.header.incompatible_features & layout.INCOMPATIBLE_DATA_FILE:
            raise RefusedError(messages.EXTERNAL_DATA_FILE_NOT_CHANGED.format(path=file.path))
        self.refcounts = RefcountTable(file, self.header)
        self._changed_l2: set[int] = set()
        self._l1_changed = False
        self._header_changed = False
        self._compressed_end = 0  # where the next compressed cluster may go on, 0 for nowhere

    @classmethod
    def create(
        cls,
        file: ContainerFile,
        size_bytes: int,
        cluster_bits: int = DEFAULT_CLUSTER_BITS,
        backing_name: str = "",
        backing_format: str = "",
        compression: int = layout.ZLIB,
    ) -> WritableQcow2:
        """Makes a version 3 image in an empty file: empty, or an overlay over a backing file.

        The backing file is only named here; open the image again to read through to it. The
        compression is of clusters that ``write_compressed`` will store.
        """
        cluster = 1 << cluster_bits
        l1_entries = max(1, -(-size_bytes // (cluster * cluster // 8)))
        l1_clusters = -(-l1_entries * 8 // cluster)
        data_clusters = -(-size_bytes // cluster)
        counted = data_clusters + data_clusters // 8 + 64 + l1_clusters
        count_blocks = -(-counted // (cluster // 2))
        table_clusters = -(-count_blocks * 8 // cluster)
        first_block = 1 + l1_clusters + table_clusters
        header = Header.blank(
            magic=layout.MAGIC,
            version=3,
            cluster_bits=cluster_bits,
            size_bytes=size_bytes,
            l1_entries=l1_entries,
            l1_table_offset=cluster,
            refcount_table_offset=(1 + l1_clusters) * cluster,
            refcount_table_clusters=table_clusters,
            refcount_order=4,
            header_bytes=layout.V3_HEADER_BYTES,
        )
        counts = array("H", [1] * (first_block + 1)).tobytes()
        block = array("H", counts + bytes(cluster - len(counts)))
        file.write(0, _header_area(header, backing_name, backing_format, compression))
        file.write(header.refcount_table_offset, (first_block * cluster).to_bytes(8, "big"))
        file.write(first_block * cluster, build_table(block, ">"))
        return cls(file)

    def write(self, offset_bytes: int, data: bytes | memoryview) -> None:  # noqa: D102 - as in Store
        self.check_range(offset_bytes, len(data))
        self._begin_change()
        cluster = self.cluster_bytes
        end = offset_bytes + len(data)
        first_whole, end_whole = -(-offset_bytes // cluster), end // cluster
        if first_whole > end_whole:  # inside one cluster
            self._write_part(offset_bytes, data)
            return
        head = first_whole * cluster - offset_bytes
        if head:
            self._write_part(offset_bytes, data[:head])
        if first_whole < end_whole:
            whole = (end_whole - first_whole) * cluster
            self._write_whole(first_whole, memoryview(data)[head : head + whole])
        if end_whole * cluster < end:
            self._write_part(end_whole * cluster, data[end_whole * cluster - offset_bytes :])

    def write_compressed(self, offset_bytes: int, packed: bytes) -> None:
        """Stores one whole cluster as its stream: raw deflate (window up to 4 KiB), or zstd."""
        self._begin_change()
        cluster = self.cluster_bytes
        l1_index, l2_index = divmod(offset_bytes // cluster, self._entries_per_l2)
        table = self._get_l2_for_change(l1_index)
        offset = self._place_compressed(len(packed))
        self._file.write(offset, packed)
        self._release(table[l2_index])
        sectors = (offset + len(packed) - 1) // 512 - offset // 512
        offset_bits = 62 - (self.header.cluster_bits - 8)
        table[l2_index] = layout.ENTRY_COMPRESSED | sectors << offset_bits | offset
        self._set_bitmap(l1_index, l2_index, 0)

    def zero(self, offset_bytes: int, length: int) -> None:
        """Frees whole clusters, zeroing their bytes in the file; writes zeros for parts."""
        self.check_range(offset_bytes, length)
        self._begin_change()
        cluster = self.cluster_bytes
        for extent in list(self.iter_extents(offset_bytes, length)):
            if extent.is_zero:
                continue
            end = extent.offset_bytes + extent.length
            position = extent.offset_bytes
            while position < end:
                stop = min(end, (position // cluster + 1) * cluster)
                if position % cluster == 0 and (stop % cluster == 0 or stop == self.size_bytes):
                    self._zero_cluster(position // cluster)
                else:
                    self._write_part(position, bytes(stop - position))
                position = stop

    def flush(self) -> None:
        """Writes all tables; the image is whole on the disk of the host afterwards."""
        end = self.refcounts.end_cluster * self.cluster_bytes
        if self._file.size_bytes < end:
            self._file.resize(end)
        self.refcounts.flush()
        for index in sorted(self._changed_l2):
            self._file.write(self.l1[index] & layout.ENTRY_OFFSET_MASK, self._build_l2(index))
        self._changed_l2.clear()
        if self._l1_changed:
            self._file.write(self.header.l1_table_offset, build_table(self.l1, ">"))
            self._l1_changed = False
        if self._header_changed:
            size = layout.V2_HEADER_BYTES if self.header.version == 2 else layout.V3_HEADER_BYTES
            self._file.write(0, self.header.build()[:size])
            self._header_changed = False
        self._file.flush()

    def replace_l1(self, l1: array[int]) -> None:
        """Takes another L1 table of the same length, read from the file's own tables."""
        self.l1 = l1
        self._l1_changed = True
        self._l2_tables.clear()
        self._bitmaps.clear()
        self._inflated.clear()
        self.flush()

    def header_changed(self) -> None:
        """Has the header written with the next ``flush``."""
        self._header_changed = True

    def _build_l2(self, l1_index: int) -> bytes:
        table = self._l2_tables[l1_index]
        if self.has_subclusters:
            words = array("Q", bytes(16 * len(table)))
            words[0::2], words[1::2] = table, self._bitmaps[l1_index]
            table = words
        return build_table(table, ">")

    def _evict(self) -> None:
        """Keeps every L2 table: changed ones are only written by ``flush``."""

    def _begin_change(self) -> None:
        if layout.EXTENSION_BITMAPS in self.extensions:
            self._drop_bitmaps()
        if self.header.autoclear_features:
            self.header.autoclear_features = 0
            self._header_changed = True

    def _drop_bitmaps(self) -> None:
        """Persistent dirty bitmaps would be wrong after a change that they do not see."""
        raw = self.extensions.pop(layout.EXTENSION_BITMAPS)
        for cluster_no in bitmap_clusters(self._file, raw, self.cluster_bytes):
            self.count_cluster(cluster_no, -1)
        area = self._file.read(self.header.header_bytes, self._header_room())
        kept = b"".join(
            struct.pack(">II", kind, len(data)) + data.ljust(-(-len(data) // 8) * 8, b"\0")
            for kind, data in self.extensions.items()
        )
        self._file.write(self.header.header_bytes, kept.ljust(len(area), b"\0"))

    def _header_room(self) -> int:
        """How many bytes the header extensions may take."""
        end = self.header.backing_file_offset or self.cluster_bytes
        return min(end, self._file.size_bytes) - self.header.header_bytes

    def _get_l2_for_change(self, l1_index: int) -> array[int]:
        table = self._get_l2(l1_index)
        if table is None:
            table = array("Q", bytes(8 * self._entries_per_l2))
            self._l2_tables[l1_index] = table
            self._bitmaps[l1_index] = array("Q", table)
            self._point_l1(l1_index)
        elif not self.l1[l1_index] & layout.ENTRY_COPIED:
            self.refcounts.add(self._cluster_of(self.l1[l1_index]), -1)
            self._point_l1(l1_index)
        self._changed_l2.add(l1_index)
        return table

    def _point_l1(self, l1_index: int) -> None:
        self.l1[l1_index] = self.allocate(1) | layout.ENTRY_COPIED
        self._l1_changed = True

    def allocate(self, count: int) -> int:
        """Takes neighbouring clusters, each counted once; returns the first's offset."""
        table_offset = self.header.refcount_table_offset
        offset = self.refcounts.allocate(count)
        self._header_changed |= table_offset != self.header.refcount_table_offset
        return offset

    def _cluster_of(self, entry: int) -> int:
        return (entry & layout.ENTRY_OFFSET_MASK) // self.cluster_bytes

    def _is_own(self, entry: int) -> bool:
        return (
            bool(entry & layout.ENTRY_COPIED)
            and not entry & layout.ENTRY_COMPRESSED
            and self._is_stored(entry)
        )

    def _write_part(self, offset: int, data: bytes | memoryview) -> None:
        """Writes inside one cluster."""
        cluster_no, start = divmod(offset, self.cluster_bytes)
        l1_index, l2_index = divmod(cluster_no, self._entries_per_l2)
        table = self._get_l2(l1_index)
        if (
            table is not None
            and self._is_own(table[l2_index])
            and self._is_allocated(l1_index, l2_index)
        ):
            place = table[l2_index] & layout.ENTRY_OFFSET_MASK
            if place + self.cluster_bytes > self._file.size_bytes:
                self._file.resize(place + self.cluster_bytes)
            self._file.write(place + start, data)
            return
        cluster_start = cluster_no * self.cluster_bytes
        stored = min(self.cluster_bytes, self.size_bytes - cluster_start)
        content = bytearray(self.read(cluster_start, stored).ljust(self.cluster_bytes, b"\0"))
        content[start : start + len(data)] = data
        self._write_whole(cluster_no, memoryview(content))

    def _write_whole(self, cluster_no: int, data: memoryview) -> None:
        """Writes whole clusters, new ones side by side where the old cannot be kept."""
        cluster = self.cluster_bytes
        while data:
            l1_index, l2_index = divmod(cluster_no, self._entries_per_l2)
            table = self._get_l2_for_change(l1_index)
            most = min(self._entries_per_l2 - l2_index, len(data) // cluster)
            own = self._is_own(table[l2_index])
            self._set_bitmap(l1_index, l2_index, layout.ALL_ALLOCATED)
            count = 1
            if not own:
                while count < most and not self._is_own(table[l2_index + count]):
                    self._set_bitmap(l1_index, l2_index + count, layout.ALL_ALLOCATED)
                    count += 1
                self._replace_entries(table, l2_index, count)
            place = table[l2_index] & layout.ENTRY_OFFSET_MASK
            self._file.write(place, data[: count * cluster])
            data = data[count * cluster :]
            cluster_no += count

    def _replace_entries(self, table: array[int], l2_index: int, count: int) -> None:
        place = self.allocate(count)
        for number in range(count):
            self._release(table[l2_index + number])
            table[l2_index + number] = (place + number * self.cluster_bytes) | layout.ENTRY_COPIED

    def _zero_cluster(self, cluster_no: int) -> None:
        if self.backing and self.header.version == 2:
            self._write_whole(cluster_no, memoryview(bytes(self.cluster_bytes)))
            return
        l1_index, l2_index = divmod(cluster_no, self._entries_per_l2)
        table = self._get_l2_for_change(l1_index)
        self._release(table[l2_index])
        if self.has_subclusters:
            table[l2_index] = 0
            self._set_bitmap(l1_index, l2_index, layout.ALL_ZERO if self.backing else 0)
        else:
            table[l2_index] = layout.ENTRY_ZERO if self.backing else 0

    def _is_allocated(self, l1_index: int, l2_index: int) -> bool:
        """Whether all subclusters of a cluster are stored; without subclusters, always."""
        if not self.has_subclusters:
            return True
        return self._bitmaps[l1_index][l2_index] == layout.ALL_ALLOCATED

    def _set_bitmap(self, l1_index: int, l2_index: int, bits: int) -> None:
        if self.has_subclusters:
            self._bitmaps[l1_index][l2_index] = bits

    def _release(self, entry: int) -> None:
        """Gives up what an L2 entry points to; bytes that nothing uses any more are zeroed."""
        for cluster_no in self.clusters_of(entry):
            self.count_cluster(cluster_no, -1)

    def clusters_of(self, entry: int) -> range:
        """The numbers of the clusters that an L2 entry uses."""
        if entry & layout.ENTRY_COMPRESSED:
            offset, length = self.compressed_span(entry)
            first = offset // self.cluster_bytes
            return range(first, (offset + length - 1) // self.cluster_bytes + 1)
        if entry & layout.ENTRY_OFFSET_MASK:
            return range(self._cluster_of(entry), self._cluster_of(entry) + 1)
        return range(0)

    def count_cluster(self, cluster_no: int, difference: int) -> None:
        """Counts one more or one less use of a cluster; one that nobody uses any more is zeroed."""
        if self.refcounts.add(cluster_no, difference) == 0:
            start = cluster_no * self.cluster_bytes
            stored = min(self.cluster_bytes, self._file.size_bytes - start)
            if stored > 0:
                self._file.zero(start, stored)
            self._inflated.clear()

    def _place_compressed(self, length: int) -> int:
        """Finds room for a stream: behind the last one, in clusters counted once a stream."""
        cluster = self.cluster_bytes
        offset = self._compressed_end
        room = -offset % cluster
        at_end = (offset + room) // cluster == self.refcounts.end_cluster
        if not offset or not room or (length > room and not at_end):
            offset, room = self.allocate(1), cluster
            length_beyond = length - room
        else:
            self.refcounts.add(offset // cluster, 1)
            length_beyond = length - room
        if length_beyond > 0:
            follow = self.allocate(1)
            if follow != offset + room:  # a table's cluster came between
                self.refcounts.add(offset // cluster, -1)
                offset = follow
        self._compressed_end = offset + length
        return offset


def _header_area(header: Header, backing_name: str, backing_format: str, compression: int) -> bytes:
    """The header with its extensions and, behind them, the backing file's name."""
    if compression != layout.ZLIB:
        header.incompatible_features |= layout.INCOMPATIBLE_COMPRESSION
        header.header_bytes = layout.V3_HEADER_BYTES + 8
        return header.build() + bytes([compression]).ljust(8, b"\0")
    if not backing_name:
        return header.build()
    kind = backing_format.encode("ascii")
    extensions = struct.pack(">II", layout.EXTENSION_BACKING_FORMAT, len(kind))
    extensions += kind.ljust((len(kind) + 7) // 8 * 8, b"\0")
    extensions += struct.pack(">II", layout.EXTENSION_END, 0)
    name = backing_name.encode("utf-8", "surrogateescape")
    header.backing_file_offset = layout.V3_HEADER_BYTES + len(extensions)
    header.backing_file_size = len(name)
    return header.build() + extensions + name
