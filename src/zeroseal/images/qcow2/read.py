"""Reading qcow2: header, tables, clusters, and the backing file beneath."""

from __future__ import annotations

import struct
from array import array
from collections import OrderedDict
from collections.abc import Iterator
from pathlib import Path

from zeroseal.blocks.store import Extent
from zeroseal.blocks.tables import read_table
from zeroseal.errors import DamagedError, TruncatedError, UnsupportedError, UsageError
from zeroseal.images.container_file import ContainerFile
from zeroseal.images.image import Image
from zeroseal.images.qcow2 import layout
from zeroseal.images.qcow2.compression import UnpackError, unpack
from zeroseal.images.qcow2.layout import Header
from zeroseal.images.qcow2.snapshot_table import read_snapshots
from zeroseal.messages import images as messages

_CACHED_L2_TABLES = 512
_CACHED_CLUSTERS = 64
_MAX_HEADER_AREA = 1 << 16


def read_header(file: ContainerFile) -> Header:
    """Reads and bounds the header.

    Raises:
        DamagedError: a field contradicts the format.
        UnsupportedError: the image needs a feature that we do not have.
    """
    try:
        start = file.read(0, layout.V2_HEADER_BYTES)
        version = struct.unpack_from(">I", start, 4)[0]
        if version >= 3:
            start = file.read(0, layout.V3_HEADER_BYTES)
    except TruncatedError as error:
        raise TruncatedError(messages.ENDS_INSIDE_QCOW2_HEADER.format(path=file.path)) from error
    header = Header.parse(start.ljust(layout.V3_HEADER_BYTES, b"\0"))
    if version == 2:
        header.refcount_order, header.header_bytes = 4, layout.V2_HEADER_BYTES
    _check_supported(file.path, header)
    _check_bounds(file, header)
    return header


def _check_supported(path: Path, header: Header) -> None:
    if header.version not in (2, 3):
        raise UnsupportedError(
            messages.QCOW2_VERSION_NOT_SUPPORTED.format(path=path, version=header.version)
        )
    if header.encryption:
        raise UnsupportedError(messages.ENCRYPTED_QCOW2_IMAGE.format(path=path))
    if header.incompatible_features & layout.INCOMPATIBLE_CORRUPT:
        raise UnsupportedError(messages.MARKED_CORRUPT.format(path=path), format="qcow2")
    unknown = header.incompatible_features & ~layout.INCOMPATIBLE_KNOWN
    if unknown:
        raise UnsupportedError(messages.QCOW2_FEATURES_UNKNOWN.format(path=path, unknown=unknown))


def _check_bounds(file: ContainerFile, header: Header) -> None:
    problem = None
    cluster = 1 << min(header.cluster_bits, 63)
    if not layout.MIN_CLUSTER_BITS <= header.cluster_bits <= layout.MAX_CLUSTER_BITS:
        problem = f"cluster size 2^{header.cluster_bits}"
    elif header.refcount_order > 6:
        problem = f"reference count size 2^{header.refcount_order} bits"
    elif header.l1_entries * 8 > layout.MAX_L1_BYTES:
        problem = f"{header.l1_entries} L1 entries"
    elif header.l1_entries * (cluster // _entry_bytes(header)) * cluster < header.size_bytes:
        problem = f"an L1 table too short for {header.size_bytes} bytes"
    elif header.refcount_table_clusters * cluster > layout.MAX_REFCOUNT_TABLE_BYTES:
        problem = f"a reference count table of {header.refcount_table_clusters} clusters"
    elif header.backing_file_size > 1023:
        problem = f"a backing file name of {header.backing_file_size} bytes"
    if problem:
        raise DamagedError(
            messages.DAMAGED_QCOW2_HEADER.format(path=file.path, problem=problem), format="qcow2"
        )
    table_end = header.l1_table_offset + header.l1_entries * 8
    if table_end > file.size_bytes:
        raise TruncatedError(
            messages.QCOW2_ENDS_IN_L1_TABLE.format(
                path=file.path, table_end=table_end, size_bytes=file.size_bytes
            ),
            format="qcow2",
            expected=table_end,
            got=file.size_bytes,
        )


def read_extensions(file: ContainerFile, header: Header) -> dict[int, bytes]:
    """Reads the header extensions: type to data."""
    area_end = min(1 << header.cluster_bits, _MAX_HEADER_AREA, file.size_bytes)
    if header.backing_file_offset:
        area_end = min(area_end, header.backing_file_offset)
    found: dict[int, bytes] = {}
    position = header.header_bytes
    while position + 8 <= area_end:
        kind, length = struct.unpack(">II", file.read(position, 8))
        if kind == layout.EXTENSION_END:
            break
        if position + 8 + length > area_end:
            raise DamagedError(
                messages.QCOW2_HEADER_EXTENSION_OUTSIDE_BOUNDS.format(path=file.path)
            )
        found[kind] = file.read(position + 8, length)
        position += 8 + (length + 7) // 8 * 8
    return found


def _entry_bytes(header: Header) -> int:
    return 16 if header.incompatible_features & layout.INCOMPATIBLE_EXTENDED_L2 else 8


class Qcow2Image(Image):
    """A qcow2 image opened for reading.

    Attributes:
        backing: what holds the clusters that the image does not store itself; set by the opener.
        data_file: the external data file, where there is one; set by the opener.
    """

    format_name = "qcow2"

    def __init__(self, file: ContainerFile, backing: Image | None = None) -> None:
        self._file = file
        self.path = file.path
        self.header = read_header(file)
        self.extensions = read_extensions(file, self.header)
        self.backing = backing
        self.data_file: ContainerFile | None = None
        self.size_bytes = self.header.size_bytes
        self.cluster_bytes = 1 << self.header.cluster_bits
        self.has_subclusters = _entry_bytes(self.header) == 16
        self._entries_per_l2 = self.cluster_bytes // _entry_bytes(self.header)
        self._compression = layout.ZLIB
        if self.header.incompatible_features & layout.INCOMPATIBLE_COMPRESSION:
            self._compression = file.read(layout.COMPRESSION_TYPE_OFFSET, 1)[0]
            if self._compression not in (layout.ZLIB, layout.ZSTD):
                raise UnsupportedError(
                    messages.COMPRESSION_TYPE_NOT_SUPPORTED.format(
                        path=file.path, compression=self._compression
                    )
                )
        self.l1 = self._read_l1(self.header.l1_table_offset, self.header.l1_entries)
        self._l2_tables: OrderedDict[int, array[int]] = OrderedDict()
        self._bitmaps: dict[int, array[int]] = {}  # of subclusters, beside the L2 tables
        self._inflated: OrderedDict[int, bytes] = OrderedDict()

    def _read_l1(self, offset: int, entries: int) -> array[int]:
        return read_table(self._file, offset, entries, "Q", ">")

    @property
    def backing_name(self) -> str:
        """The backing file's name as the header gives it; may be empty."""
        if not self.header.backing_file_offset:
            return ""
        raw = self._file.read(self.header.backing_file_offset, self.header.backing_file_size)
        return raw.decode("utf-8", "surrogateescape")

    @property
    def backing_format(self) -> str:
        """The backing file's format as the header gives it; may be empty."""
        raw = self.extensions.get(layout.EXTENSION_BACKING_FORMAT, b"")
        return raw.decode("ascii", "replace")

    @property
    def data_file_name(self) -> str:
        """The external data file's name; empty where there is none.

        Raises:
            DamagedError: there is one, but its name is missing.
        """
        if not self.header.incompatible_features & layout.INCOMPATIBLE_DATA_FILE:
            return ""
        name = self.extensions.get(layout.EXTENSION_DATA_FILE, b"").decode("utf-8", "replace")
        if not name:
            raise DamagedError(
                messages.EXTERNAL_DATA_FILE_UNNAMED.format(path=self.path), format="qcow2"
            )
        return name

    @property
    def variant(self) -> str:  # type: ignore[override]  # noqa: D102 - as in Image
        words = [f"version {self.header.version}"]
        words += ["external data file"] * (self.data_file is not None)
        words += ["subclusters"] * self.has_subclusters
        words += ["zstd"] * (self._compression == layout.ZSTD)
        return ", ".join(words)

    @property
    def snapshots(self) -> list[str]:  # noqa: D102
        return [item.name for item in read_snapshots(self._file, self.header)]

    @property
    def bitmap_count(self) -> int:
        """How many persistent dirty bitmaps the image keeps."""
        raw = self.extensions.get(layout.EXTENSION_BITMAPS, b"")
        return layout.BitmapsExtension.parse(raw).count if len(raw) == 24 else 0

    @property
    def remarks(self) -> list[str]:  # noqa: D102
        found = []
        if self.header.incompatible_features & layout.INCOMPATIBLE_DIRTY:
            found.append(
                "The image was not closed cleanly, so its reference counts may be out of date."
            )
        if self.bitmap_count:
            found.append(
                f"The image has {self.bitmap_count} dirty bitmap(s), which are not copied "
                "to a new file and are dropped by a change in place."
            )
        return found

    @property
    def files(self) -> list[ContainerFile]:  # noqa: D102
        return [self._file, *([self.data_file] if self.data_file else [])]

    def at_snapshot(self, name: str) -> None:
        """Shows the disk as one of its snapshots, by name or id, from now on.

        Raises:
            UsageError: there is none of that name.
        """
        found = read_snapshots(self._file, self.header)
        for item in found:
            if name in (item.name, item.id):
                self.l1 = self._read_l1(item.l1_table_offset, item.l1_entries)
                self.size_bytes = item.size_bytes or self.header.size_bytes
                self._l2_tables.clear()
                self._bitmaps.clear()
                return
        text = ", ".join(item.name for item in found) or "no snapshots"
        raise UsageError(messages.NO_SNAPSHOT.format(path=self.path, name=name, snapshots=text))

    @property
    def file(self) -> ContainerFile:  # noqa: D102 - as in Image
        return self._file

    @property
    def chain(self) -> list[Path]:  # noqa: D102
        return [self.path, *(self.backing.chain if self.backing else [])]

    @property
    def has_parent(self) -> bool:  # noqa: D102
        return self.backing is not None

    def read(self, offset_bytes: int, length: int) -> bytes:  # noqa: D102
        self.check_range(offset_bytes, length)
        pieces = [
            self._read_piece(entry, start, count)
            for entry, start, count in self._iter_pieces(offset_bytes, length)
        ]
        return pieces[0] if len(pieces) == 1 else b"".join(pieces)

    def iter_extents(self, offset_bytes: int, length: int) -> Iterator[Extent]:  # noqa: D102
        self.check_range(offset_bytes, length)
        pending: Extent | None = None
        for entry, start, count in self._iter_pieces(offset_bytes, length):
            for extent in self._extents_of_piece(entry, start, count):
                if pending and pending.is_zero == extent.is_zero:
                    pending = pending._replace(length=pending.length + extent.length)
                    continue
                if pending:
                    yield pending
                pending = extent
        if pending:
            yield pending

    def close(self) -> None:  # noqa: D102
        for file in self.files:
            file.close()
        if self.backing:
            self.backing.close()

    def _get_l2(self, l1_index: int) -> array[int] | None:
        offset = self.l1[l1_index] & layout.ENTRY_OFFSET_MASK if l1_index < len(self.l1) else 0
        if not offset:
            return None
        table = self._l2_tables.get(l1_index)
        if table is None:
            if offset % self.cluster_bytes:
                raise DamagedError(
                    messages.L1_ENTRY_POINTS_INSIDE_CLUSTER.format(
                        path=self.path, l1_index=l1_index
                    )
                )
            self._in_file(offset, "L2 table")
            table = read_table(self._file, offset, self.cluster_bytes // 8, "Q", ">")
            if self.has_subclusters:
                table, self._bitmaps[l1_index] = table[0::2], table[1::2]
            self._l2_tables[l1_index] = table
            self._evict()
        return table

    def _evict(self) -> None:
        if len(self._l2_tables) > _CACHED_L2_TABLES:
            self._l2_tables.popitem(last=False)  # another thread may still look at its bitmaps

    def _in_file(self, offset: int, what: str) -> int:
        if offset >= self._file.size_bytes:
            raise TruncatedError(
                messages.QCOW2_ENDS_BEFORE_DATA.format(
                    path=self.path, what=what, offset=offset, size_bytes=self._file.size_bytes
                ),
                format="qcow2",
                offset=offset,
                got=self._file.size_bytes,
            )
        return offset

    def _iter_pieces(self, offset: int, length: int) -> Iterator[tuple[int, int, int]]:
        """Yields (L2 entry, start, length): runs of clusters whose entries follow one another."""
        end = offset + length
        while offset < end:
            cluster_no = offset // self.cluster_bytes
            l1_index, l2_index = divmod(cluster_no, self._entries_per_l2)
            table = self._get_l2(l1_index)
            if table is None:
                stop = min(end, (l1_index + 1) * self._entries_per_l2 * self.cluster_bytes)
                yield 0, offset, stop - offset
                offset = stop
                continue
            entry = table[l2_index]
            if self.has_subclusters and not entry & layout.ENTRY_COMPRESSED:
                stop = min(end, (cluster_no + 1) * self.cluster_bytes)
                yield from self._split(entry, self._bitmaps[l1_index][l2_index], offset, stop)
            else:
                stop = self._run_end(table, l2_index, cluster_no, end)
                yield entry, offset, stop - offset
            offset = stop

    def _split(
        self, entry: int, bits: int, offset: int, end: int
    ) -> Iterator[tuple[int, int, int]]:
        """Cuts a piece of one cluster where its subclusters differ."""
        size = self.cluster_bytes // layout.SUBCLUSTERS
        kinds = {(1, 0): entry, (0, 1): layout.ENTRY_ZERO, (0, 0): 0}
        while offset < end:
            number = offset % self.cluster_bytes // size
            state = (bits >> number & 1, bits >> (number + 32) & 1)
            if state not in kinds:
                raise DamagedError(
                    messages.ENTRY_FOR_BYTE_INCONSISTENT.format(path=self.path, offset=offset)
                )
            stop = min(end, (offset // size + 1) * size)
            while stop < end:
                number = stop % self.cluster_bytes // size
                if (bits >> number & 1, bits >> (number + 32) & 1) != state:
                    break
                stop = min(end, stop + size)
            yield kinds[state], offset, stop - offset
            offset = stop

    def _run_end(self, table: array[int], l2_index: int, cluster_no: int, end: int) -> int:
        entry, count = table[l2_index], 1
        if not entry & layout.ENTRY_COMPRESSED:
            step = self.cluster_bytes if self._is_stored(entry) else 0
            expected = entry + step
            last = min(self._entries_per_l2 - l2_index, -(-end // self.cluster_bytes) - cluster_no)
            while count < last and table[l2_index + count] == expected:
                expected += step
                count += 1
        return min(end, (cluster_no + count) * self.cluster_bytes)

    def _is_stored(self, entry: int) -> bool:
        """Whether a standard entry points to stored data."""
        if self.header.version >= 3 and entry & layout.ENTRY_ZERO:
            return False
        if self.data_file is not None:  # there, offset 0 is a place like any other
            return bool(entry & (layout.ENTRY_OFFSET_MASK | layout.ENTRY_COPIED))
        return bool(entry & layout.ENTRY_OFFSET_MASK)

    def _read_piece(self, entry: int, start: int, length: int) -> bytes:
        in_cluster = start % self.cluster_bytes
        if entry & layout.ENTRY_COMPRESSED:
            return self._inflate(entry)[in_cluster : in_cluster + length]
        if self._is_stored(entry):
            if self.data_file is not None:
                offset = (entry & layout.ENTRY_OFFSET_MASK) + in_cluster
                stored = max(0, min(length, self.data_file.size_bytes - offset))
                return self.data_file.read(offset, stored).ljust(length, b"\0")
            offset = self._in_file(entry & layout.ENTRY_OFFSET_MASK, "data cluster")
            if offset % self.cluster_bytes:
                raise DamagedError(
                    messages.ENTRY_FOR_BYTE_NOT_ALIGNED.format(path=self.path, start=start)
                )
            stored = self._file.size_bytes - offset - in_cluster
            if stored < length:  # the last cluster of the file may be cut short
                if length - stored >= self.cluster_bytes:
                    self._in_file(offset + in_cluster + length, "data cluster")
                return self._file.read(offset + in_cluster, max(stored, 0)).ljust(length, b"\0")
            return self._file.read(offset + in_cluster, length)
        if not entry and self.backing and start < self.backing.size_bytes:
            stored = min(length, self.backing.size_bytes - start)
            return self.backing.read(start, stored).ljust(length, b"\0")
        return bytes(length)

    def _extents_of_piece(self, entry: int, start: int, length: int) -> Iterator[Extent]:
        if entry & layout.ENTRY_COMPRESSED or self._is_stored(entry):
            yield Extent(start, length, is_zero=False)
        elif not entry and self.backing and start < self.backing.size_bytes:
            stored = min(length, self.backing.size_bytes - start)
            yield from self.backing.iter_extents(start, stored)
            if stored < length:
                yield Extent(start + stored, length - stored, is_zero=True)
        else:
            yield Extent(start, length, is_zero=True)

    def _inflate(self, entry: int) -> bytes:
        cached = self._inflated.get(entry)
        if cached is not None:
            return cached
        offset, stored = self.compressed_span(entry)
        stored = min(stored, self._file.size_bytes - offset)
        if stored <= 0:
            self._in_file(offset, "compressed cluster")
        try:
            content = unpack(self._compression, self._file.read(offset, stored), self.cluster_bytes)
        except UnpackError as error:
            raise DamagedError(
                messages.COMPRESSED_CLUSTER_DAMAGED.format(path=self.path, offset=offset),
                format="qcow2",
                offset=offset,
            ) from error
        if len(content) != self.cluster_bytes:
            raise DamagedError(
                messages.COMPRESSED_CLUSTER_TOO_SHORT.format(path=self.path, offset=offset),
                format="qcow2",
                offset=offset,
            )
        self._inflated[entry] = content
        if len(self._inflated) > _CACHED_CLUSTERS:
            self._inflated.popitem(last=False)
        return content

    def compressed_span(self, entry: int) -> tuple[int, int]:
        """Where a compressed entry's bytes lie: (offset, length) in the file.

        The length counts whole 512-byte sectors; the stream may end before it.
        """
        offset_bits = 62 - (self.header.cluster_bits - 8)
        offset = entry & ((1 << offset_bits) - 1)
        sectors = ((entry & ~(layout.ENTRY_COMPRESSED | layout.ENTRY_COPIED)) >> offset_bits) + 1
        return offset, sectors * 512 - (offset & 511)
