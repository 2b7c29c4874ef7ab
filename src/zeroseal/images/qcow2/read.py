"""Reading qcow2: header, tables, clusters, and the backing file beneath."""

from __future__ import annotations

import struct
import sys
import zlib
from array import array
from collections import OrderedDict
from collections.abc import Iterator
from pathlib import Path

from zeroseal.blocks.store import Extent
from zeroseal.errors import DamagedError, TruncatedError, UnsupportedError
from zeroseal.images.host_file import HostFile
from zeroseal.images.image import Image
from zeroseal.images.qcow2 import layout
from zeroseal.images.qcow2.layout import Header

_CACHED_L2_TABLES = 512
_CACHED_CLUSTERS = 64
_MAX_HEADER_AREA = 1 << 16


def read_table(file: HostFile, offset_bytes: int, entries: int) -> array[int]:
    """Reads big-endian 64-bit table entries."""
    table = array("Q", file.read(offset_bytes, entries * 8))
    if sys.byteorder == "little":
        table.byteswap()
    return table


def read_header(file: HostFile) -> Header:
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
        raise TruncatedError(f"{file.path} ends inside its qcow2 header") from error
    header = Header.parse(start.ljust(layout.V3_HEADER_BYTES, b"\0"))
    if version == 2:
        header.refcount_order, header.header_bytes = 4, layout.V2_HEADER_BYTES
    _check_supported(file.path, header)
    _check_bounds(file, header)
    return header


def _check_supported(path: Path, header: Header) -> None:
    if header.version not in (2, 3):
        raise UnsupportedError(f"{path} is qcow2 version {header.version}; 2 and 3 are supported")
    if header.encryption:
        raise UnsupportedError(f"{path} is an encrypted qcow2 image: decrypt a copy first")
    for bit, reason in layout.INCOMPATIBLE_NAMES.items():
        if header.incompatible_features & bit:
            raise UnsupportedError(f"{path} cannot be read: {reason}", format="qcow2")
    unknown = header.incompatible_features & ~(
        layout.INCOMPATIBLE_DIRTY | sum(layout.INCOMPATIBLE_NAMES)
    )
    if unknown:
        raise UnsupportedError(
            f"{path} needs qcow2 features that are unknown here (bits {unknown:#x}): "
            "convert a copy with qemu-img convert"
        )


def _check_bounds(file: HostFile, header: Header) -> None:
    problem = None
    cluster = 1 << min(header.cluster_bits, 63)
    if not layout.MIN_CLUSTER_BITS <= header.cluster_bits <= layout.MAX_CLUSTER_BITS:
        problem = f"cluster size 2^{header.cluster_bits}"
    elif header.refcount_order > 6:
        problem = f"reference count size 2^{header.refcount_order} bits"
    elif header.l1_entries * 8 > layout.MAX_L1_BYTES:
        problem = f"{header.l1_entries} L1 entries"
    elif header.l1_entries * (cluster // 8) * cluster < header.size_bytes:
        problem = f"an L1 table too short for {header.size_bytes} bytes"
    elif header.refcount_table_clusters * cluster > layout.MAX_REFCOUNT_TABLE_BYTES:
        problem = f"a reference count table of {header.refcount_table_clusters} clusters"
    elif header.backing_file_size > 1023:
        problem = f"a backing file name of {header.backing_file_size} bytes"
    if problem:
        raise DamagedError(f"{file.path} has a damaged qcow2 header: {problem}", format="qcow2")
    table_end = header.l1_table_offset + header.l1_entries * 8
    if table_end > file.size_bytes:
        raise TruncatedError(
            f"{file.path} is a truncated qcow2 image: its L1 table ends at byte {table_end}, the "
            f"file at {file.size_bytes}; copy it again from where it came from",
            format="qcow2",
            expected=table_end,
            got=file.size_bytes,
        )


def read_extensions(file: HostFile, header: Header) -> dict[int, bytes]:
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
            raise DamagedError(f"{file.path} has a qcow2 header extension that runs out of bounds")
        found[kind] = file.read(position + 8, length)
        position += 8 + (length + 7) // 8 * 8
    return found


class Qcow2Image(Image):
    """A qcow2 image opened for reading; ``backing`` holds what it does not store itself."""

    format_name = "qcow2"

    def __init__(self, file: HostFile, backing: Image | None = None) -> None:
        self._file = file
        self.path = file.path
        self.header = read_header(file)
        self.backing = backing
        self.size_bytes = self.header.size_bytes
        self._cluster_bytes = 1 << self.header.cluster_bits
        self._entries_per_l2 = self._cluster_bytes // 8
        self._l1 = read_table(file, self.header.l1_table_offset, self.header.l1_entries)
        self._l2_tables: OrderedDict[int, array[int]] = OrderedDict()
        self._inflated: OrderedDict[int, bytes] = OrderedDict()

    @property
    def file(self) -> HostFile:  # noqa: D102 - as in Image
        return self._file

    @property
    def chain(self) -> list[Path]:  # noqa: D102
        return [self.path, *(self.backing.chain if self.backing else [])]

    @property
    def snapshot_count(self) -> int:  # noqa: D102
        return self.header.snapshot_count

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
        self._file.close()
        if self.backing:
            self.backing.close()

    def _get_l2(self, l1_index: int) -> array[int] | None:
        offset = self._l1[l1_index] & layout.ENTRY_OFFSET_MASK
        if not offset:
            return None
        table = self._l2_tables.get(l1_index)
        if table is None:
            if offset % self._cluster_bytes:
                raise DamagedError(f"{self.path}: L1 entry {l1_index} points inside a cluster")
            table = read_table(self._file, self._in_file(offset, "L2 table"), self._entries_per_l2)
            self._l2_tables[l1_index] = table
            self._evict()
        return table

    def _evict(self) -> None:
        if len(self._l2_tables) > _CACHED_L2_TABLES:
            self._l2_tables.popitem(last=False)

    def _in_file(self, offset: int, what: str) -> int:
        if offset >= self._file.size_bytes:
            raise TruncatedError(
                f"{self.path} is a truncated qcow2 image: a {what} should lie at byte {offset}, "
                f"the file ends at {self._file.size_bytes}; copy it again from where it came from",
                format="qcow2",
                offset=offset,
                got=self._file.size_bytes,
            )
        return offset

    def _iter_pieces(self, offset: int, length: int) -> Iterator[tuple[int, int, int]]:
        """Yields (L2 entry, start, length): runs of clusters whose entries follow one another."""
        end = offset + length
        while offset < end:
            cluster_no = offset // self._cluster_bytes
            l1_index, l2_index = divmod(cluster_no, self._entries_per_l2)
            table = self._get_l2(l1_index)
            if table is None:
                stop = min(end, (l1_index + 1) * self._entries_per_l2 * self._cluster_bytes)
                yield 0, offset, stop - offset
                offset = stop
                continue
            entry = table[l2_index]
            stop = self._run_end(table, l2_index, cluster_no, end)
            yield entry, offset, stop - offset
            offset = stop

    def _run_end(self, table: array[int], l2_index: int, cluster_no: int, end: int) -> int:
        entry, count = table[l2_index], 1
        if not entry & layout.ENTRY_COMPRESSED:
            step = self._cluster_bytes if self._is_stored(entry) else 0
            expected = entry + step
            last = min(self._entries_per_l2 - l2_index, -(-end // self._cluster_bytes) - cluster_no)
            while count < last and table[l2_index + count] == expected:
                expected += step
                count += 1
        return min(end, (cluster_no + count) * self._cluster_bytes)

    def _is_stored(self, entry: int) -> bool:
        """Whether a standard entry points to stored data."""
        if self.header.version >= 3 and entry & layout.ENTRY_ZERO:
            return False
        return bool(entry & layout.ENTRY_OFFSET_MASK)

    def _read_piece(self, entry: int, start: int, length: int) -> bytes:
        in_cluster = start % self._cluster_bytes
        if entry & layout.ENTRY_COMPRESSED:
            return self._inflate(entry)[in_cluster : in_cluster + length]
        if self._is_stored(entry):
            offset = self._in_file(entry & layout.ENTRY_OFFSET_MASK, "data cluster")
            if offset % self._cluster_bytes:
                raise DamagedError(f"{self.path}: the entry for byte {start} is not aligned")
            stored = self._file.size_bytes - offset - in_cluster
            if stored < length:  # the last cluster of the file may be cut short
                if length - stored >= self._cluster_bytes:
                    self._in_file(offset + in_cluster + length, "data cluster")
                return self._file.read(offset + in_cluster, max(stored, 0)).ljust(length, b"\0")
            return self._file.read(offset + in_cluster, length)
        if not entry and self.backing and start < self.backing.size_bytes:
            stored = min(length, self.backing.size_bytes - start)
            return self.backing.read(start, stored).ljust(length, b"\0")
        return bytes(length)

    def _extents_of_piece(self, entry: int, start: int, length: int) -> Iterator[Extent]:
        if entry & layout.ENTRY_COMPRESSED or self._is_stored(entry):
            yield Extent(start, length, False)
        elif not entry and self.backing and start < self.backing.size_bytes:
            stored = min(length, self.backing.size_bytes - start)
            yield from self.backing.iter_extents(start, stored)
            if stored < length:
                yield Extent(start + stored, length - stored, True)
        else:
            yield Extent(start, length, True)

    def _inflate(self, entry: int) -> bytes:
        cached = self._inflated.get(entry)
        if cached is not None:
            return cached
        offset, stored = self.compressed_span(entry)
        stored = min(stored, self._file.size_bytes - offset)
        if stored <= 0:
            self._in_file(offset, "compressed cluster")
        try:
            inflater = zlib.decompressobj(-15)
            content = inflater.decompress(self._file.read(offset, stored), self._cluster_bytes)
        except zlib.error as error:
            raise DamagedError(
                f"{self.path}: the compressed cluster at byte {offset} does not inflate",
                format="qcow2",
                offset=offset,
            ) from error
        if len(content) != self._cluster_bytes:
            raise DamagedError(
                f"{self.path}: the compressed cluster at byte {offset} is too short",
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
