"""A sparse extent: grains found through a directory of tables; stored plainly or compressed."""

from __future__ import annotations

import struct
import zlib
from array import array
from collections import OrderedDict
from collections.abc import Iterator

from zeroseal.blocks.store import Extent
from zeroseal.blocks.tables import read_table
from zeroseal.errors import DamagedError, UnsupportedError
from zeroseal.images.block_map import ABSENT, ZERO, BlockMap, Stretch
from zeroseal.images.container_file import ContainerFile
from zeroseal.images.vmdk import layout
from zeroseal.images.vmdk.layout import Marker, SparseHeader
from zeroseal.messages import images as messages

_SECTOR = layout.SECTOR_BYTES
_CACHED_TABLES, _CACHED_GRAINS = 512, 64
_KNOWN_FLAGS = (
    layout.FLAG_NEWLINES
    | layout.FLAG_REDUNDANT
    | layout.FLAG_ZERO_GRAINS
    | layout.FLAG_COMPRESSED
    | layout.FLAG_MARKERS
)


def read_sparse_header(file: ContainerFile) -> SparseHeader:
    """Reads and bounds the header; for a stream, the footer at the end stands in for it.

    Raises:
        DamagedError, UnsupportedError: it makes no sense, or is of a version we do not know.
    """
    header = SparseHeader.parse(file.read(0, _SECTOR))
    if header.directory_offset == layout.DIRECTORY_AT_END:
        header = _read_footer(file)
    if header.version not in (1, 2, 3):
        raise UnsupportedError(
            messages.VMDK_VERSION_NOT_SUPPORTED.format(path=file.path, version=header.version),
            format="vmdk",
        )
    if header.flags & ~_KNOWN_FLAGS:
        raise UnsupportedError(
            messages.VMDK_FLAGS_NOT_SUPPORTED.format(path=file.path, flags=header.flags),
            format="vmdk",
        )
    if header.newlines != layout.NEWLINES and header.flags & layout.FLAG_NEWLINES:
        raise DamagedError(messages.TRANSFERRED_AS_TEXT.format(path=file.path), format="vmdk")
    grain = header.grain_sectors
    problem = ""
    if grain & (grain - 1) or not 8 <= grain <= 1 << 16:
        problem = f"grains of {grain} sectors"
    elif not 0 < header.table_entries <= layout.TABLE_ENTRIES:
        problem = f"tables of {header.table_entries} grains"
    elif header.capacity >= 1 << 42:
        problem = f"{header.capacity} sectors"
    elif header.flags & layout.FLAG_COMPRESSED and header.compression != layout.DEFLATE:
        problem = f"compression {header.compression}"
    if problem:
        raise DamagedError(
            messages.DAMAGED_VMDK_HEADER.format(path=file.path, problem=problem), format="vmdk"
        )
    return header


def _read_footer(file: ContainerFile) -> SparseHeader:
    """The end of a stream: footer marker, footer, end-of-stream marker."""
    tail = file.read(max(0, file.size_bytes - 3 * _SECTOR), min(3 * _SECTOR, file.size_bytes))
    if len(tail) == 3 * _SECTOR:
        marker = Marker.parse(tail[:_SECTOR])
        footer = SparseHeader.parse(tail[_SECTOR : 2 * _SECTOR])
        if marker.kind == layout.MARKER_FOOTER and footer.magic == layout.MAGIC:
            return footer
    raise DamagedError(
        messages.STREAM_OPTIMIZED_VMDK_WITHOUT_END.format(path=file.path),
        format="vmdk",
    )


class SparseExtent(BlockMap):
    """One sparse extent, opened for reading."""

    def __init__(self, file: ContainerFile, header: SparseHeader) -> None:
        self._file = file
        self.header = header
        self.size_bytes = header.capacity * _SECTOR
        self.block_bytes = header.grain_sectors * _SECTOR
        self.is_compressed = bool(header.flags & layout.FLAG_COMPRESSED)
        grains = -(-header.capacity // header.grain_sectors)
        tables = -(-grains // header.table_entries)
        offset = header.directory_offset * _SECTOR
        self._directory: array[int] = read_table(file, offset, tables, "I", "<")
        self._tables: OrderedDict[int, array[int]] = OrderedDict()
        self._inflated: OrderedDict[int, bytes] = OrderedDict()

    def iter_runs(self, first_block: int, end_block: int) -> Iterator[tuple[int, int]]:  # noqa: D102
        entries = self.header.table_entries
        block_no = first_block
        while block_no < end_block:
            table_no, index = divmod(block_no, entries)
            stop = min(end_block, (table_no + 1) * entries)
            table = self._get_table(table_no)
            if table is None:
                yield stop - block_no, ABSENT
            else:
                yield from self._runs_of(table, index, index + stop - block_no)
            block_no = stop

    def _runs_of(self, table: array[int], index: int, end: int) -> Iterator[tuple[int, int]]:
        while index < end:
            entry, count = table[index], 1
            has_place = entry > layout.ZEROED_GRAIN or not self._has_zero_grains(entry)
            step = self.header.grain_sectors if has_place and entry else 0
            if not (step and self.is_compressed):
                while index + count < end and table[index + count] == entry + count * step:
                    count += 1
            if not entry:
                yield count, ABSENT
            else:
                yield count, entry * _SECTOR if has_place else ZERO
            index += count

    def _has_zero_grains(self, entry: int) -> bool:
        return entry == layout.ZEROED_GRAIN and bool(self.header.flags & layout.FLAG_ZERO_GRAINS)

    def read_stretch(self, stretch: Stretch) -> bytes:  # noqa: D102
        if stretch.place < 0 or not self.is_compressed:
            return super().read_stretch(stretch)
        start = stretch.offset_bytes % self.block_bytes
        grain_no = stretch.offset_bytes // self.block_bytes
        return self._inflate(grain_no, stretch.place - start)[start : start + stretch.length]

    def extents_of(self, stretch: Stretch) -> Iterator[Extent]:  # noqa: D102
        if stretch.place >= 0 and self.is_compressed:
            yield Extent(stretch.offset_bytes, stretch.length, is_zero=False)
        else:
            yield from super().extents_of(stretch)

    def _get_table(self, table_no: int) -> array[int] | None:
        offset = self._directory[table_no]
        if not offset:
            return None
        table = self._tables.get(table_no)
        if table is None:
            entries = self.header.table_entries
            table = read_table(self._file, offset * _SECTOR, entries, "I", "<")
            self._tables[table_no] = table
            self._evict()
        return table

    def _evict(self) -> None:
        if len(self._tables) > _CACHED_TABLES:
            self._tables.popitem(last=False)

    def _inflate(self, grain_no: int, place: int) -> bytes:
        cached = self._inflated.get(place)
        if cached is not None:
            return cached
        marker = self._file.read(place, layout.GRAIN_MARKER_BYTES)
        first_sector, size = struct.unpack("<QI", marker)
        path = self._file.path
        if first_sector != grain_no * self.header.grain_sectors or size > 2 * self.block_bytes:
            raise DamagedError(
                messages.GRAIN_OF_ANOTHER_ADDRESS.format(path=path, place=place), format="vmdk"
            )
        packed = self._file.read(place + layout.GRAIN_MARKER_BYTES, size)
        try:
            content = zlib.decompressobj().decompress(packed, self.block_bytes)
        except zlib.error as error:
            raise DamagedError(
                messages.GRAIN_DAMAGED.format(path=path, place=place), format="vmdk", offset=place
            ) from error
        wanted = min(self.block_bytes, self.size_bytes - grain_no * self.block_bytes)
        if len(content) < wanted:
            raise DamagedError(
                messages.GRAIN_TOO_SHORT.format(path=path, place=place), format="vmdk"
            )
        self._inflated[place] = content
        if len(self._inflated) > _CACHED_GRAINS:
            self._inflated.popitem(last=False)
        return content
