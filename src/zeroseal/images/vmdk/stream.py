"""Writing a stream-optimized VMDK, from front to back, in the published strict layout.

Header, descriptor, then for each grain table: its grains, a marker, the table. At the end the grain
directory behind its marker, the footer behind its own, and the end-of-stream marker. Nothing is
ever written twice, so that the stream can be hashed on its way into an archive.
"""

from __future__ import annotations

import secrets
import struct
from array import array

from zeroseal.blocks.tables import build_table
from zeroseal.errors import UnsupportedError
from zeroseal.images.compression import SMALL, packing_in_order
from zeroseal.images.container_file import ContainerFile
from zeroseal.images.vmdk import layout
from zeroseal.images.vmdk.descriptor import build_descriptor
from zeroseal.images.vmdk.layout import Marker, SparseHeader
from zeroseal.images.vmdk.write import DESCRIPTOR_SECTORS, MAX_SECTORS
from zeroseal.messages import images as messages

_SECTOR = layout.SECTOR_BYTES
_GRAIN_BYTES = layout.GRAIN_SECTORS * _SECTOR
_VERSION = 3


class StreamWriter:
    """Takes the disk's data in ascending order, in whole grains; only the last may be short."""

    granule_bytes = _GRAIN_BYTES

    def __init__(
        self, file: ContainerFile, size_bytes: int, name: str, compression: str = SMALL
    ) -> None:
        self._file = file
        self._position = 0
        self._sectors = -(-size_bytes // _SECTOR)
        if self._sectors > MAX_SECTORS:
            raise UnsupportedError(messages.STREAM_VMDK_TOO_LARGE)
        self._packing = packing_in_order(compression)
        grains = -(-self._sectors // layout.GRAIN_SECTORS)
        self._directory = array("I", bytes(4 * -(-grains // layout.TABLE_ENTRIES)))
        self._table_no = 0
        self._table = array("I", bytes(4 * layout.TABLE_ENTRIES))
        self._header = SparseHeader.blank(
            magic=layout.MAGIC,
            version=_VERSION,
            flags=layout.FLAG_NEWLINES | layout.FLAG_COMPRESSED | layout.FLAG_MARKERS,
            capacity=self._sectors,
            grain_sectors=layout.GRAIN_SECTORS,
            descriptor_offset=1,
            descriptor_sectors=DESCRIPTOR_SECTORS,
            table_entries=layout.TABLE_ENTRIES,
            directory_offset=layout.DIRECTORY_AT_END,
            overhead_sectors=layout.GRAIN_SECTORS,
            newlines=layout.NEWLINES,
            compression=layout.DEFLATE,
        )
        text = build_descriptor("streamOptimized", self._sectors, name, secrets.token_hex(4))
        front = self._header.build() + text
        self._put(front.ljust(layout.GRAIN_SECTORS * _SECTOR, b"\0"))

    def write(self, offset_bytes: int, data: bytes | memoryview) -> None:
        """Takes data; offsets are multiples of a grain."""
        for start in range(0, len(data), _GRAIN_BYTES):
            grain = bytes(data[start : start + _GRAIN_BYTES]).ljust(_GRAIN_BYTES, b"\0")
            for offset, _grain, packed in self._packing.add((offset_bytes + start, grain)):
                self._put_grain(offset, packed)

    def finish(self) -> None:
        """Writes what is left: grains, tables, directory, footer."""
        for offset, _grain, packed in self._packing.finish():
            self._put_grain(offset, packed)
        self._packing.close()
        self._put_table()
        raw = build_table(self._directory, "<")
        sectors = -(-len(raw) // _SECTOR)
        self._put(Marker.blank(value=sectors, kind=layout.MARKER_DIRECTORY).build())
        self._header.directory_offset = self._position // _SECTOR
        self._put(raw.ljust(sectors * _SECTOR, b"\0"))
        self._put(Marker.blank(value=1, kind=layout.MARKER_FOOTER).build())
        self._put(self._header.build())
        self._put(Marker.blank(kind=layout.MARKER_END).build())

    def _put_grain(self, offset: int, packed: bytes) -> None:
        grain_no = offset // _GRAIN_BYTES
        table_no, index = divmod(grain_no, layout.TABLE_ENTRIES)
        if table_no != self._table_no:
            self._put_table()
            self._table_no = table_no
        self._table[index] = self._position // _SECTOR
        marked = struct.pack("<QI", grain_no * layout.GRAIN_SECTORS, len(packed)) + packed
        self._put(marked.ljust(-(-len(marked) // _SECTOR) * _SECTOR, b"\0"))

    def _put_table(self) -> None:
        if not any(self._table):
            return
        raw = build_table(self._table, "<")
        self._put(Marker.blank(value=len(raw) // _SECTOR, kind=layout.MARKER_TABLE).build())
        self._directory[self._table_no] = self._position // _SECTOR
        self._put(raw)
        self._table = array("I", bytes(4 * layout.TABLE_ENTRIES))

    def _put(self, data: bytes) -> None:
        self._file.write(self._position, data)
        self._position += len(data)
