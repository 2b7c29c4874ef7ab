"""Writing VHDX: new disks, and changes to existing ones.

Changes do not go through the log of the format: ``images/in_place.py`` makes them happen whole or
not at all, whatever the format. The log is left empty, and its old contents zeroed.
"""

from __future__ import annotations

import struct
import uuid

from zeroseal.blocks.tables import build_table
from zeroseal.errors import RefusedError, UnsupportedError
from zeroseal.images.block_map import WritableBlockMap
from zeroseal.images.container_file import ContainerFile
from zeroseal.images.image import WritableImage
from zeroseal.images.vhdx import layout
from zeroseal.images.vhdx.layout import (
    MIB,
    Header,
    MetadataEntry,
    MetadataTable,
    RegionEntry,
    RegionTable,
    with_checksum,
)
from zeroseal.images.vhdx.read import VhdxImage
from zeroseal.messages import images as messages

_LOG_OFFSET, _METADATA_OFFSET, _TABLE_OFFSET = MIB, 2 * MIB, 3 * MIB
_ITEMS_OFFSET = 64 << 10
BLOCK_BYTES = MIB
_LARGE_DISK, _LARGE_BLOCK = 1 << 40, 32 * MIB


class WritableVhdx(WritableBlockMap, VhdxImage, WritableImage):
    """A VHDX that can be changed.

    Raises:
        RefusedError: it is a differencing disk.
    """

    def __init__(self, file: ContainerFile) -> None:
        super().__init__(file)
        if self.metadata.has_parent:
            raise RefusedError(messages.VHDX_DIFFERENCING_NOT_CHANGED.format(path=file.path))
        self._end = -(-self._file.size_bytes // MIB) * MIB
        self._changed = bool(self.replayed)

    @classmethod
    def create(
        cls, file: ContainerFile, size_bytes: int, fixed: bool = False, sector_bytes: int = 512
    ) -> WritableVhdx:
        """Makes a disk of zeros in an empty file; a fixed one has every block in place."""
        if size_bytes > layout.MAX_DISK_BYTES:
            raise UnsupportedError(messages.VHDX_TOO_LARGE, format="vhdx")
        block_bytes = BLOCK_BYTES if size_bytes < _LARGE_DISK else _LARGE_BLOCK
        blocks = -(-size_bytes // block_bytes)
        ratio = (1 << 23) * sector_bytes // block_bytes
        table_bytes = -(-(blocks + (blocks - 1) // ratio) * 8 // MIB) * MIB
        data_offset = _TABLE_OFFSET + table_bytes
        file.write(0, layout.FILE_SIGNATURE + "Zero Seal".encode("utf-16-le"))
        regions = _build_regions(table_bytes)
        for offset in layout.REGION_OFFSETS:
            file.write(offset, regions)
        file.write(_METADATA_OFFSET, _build_metadata(size_bytes, block_bytes, fixed, sector_bytes))
        header = Header.blank(
            signature=b"head",
            file_write_id=uuid.uuid4().bytes_le,
            data_write_id=uuid.uuid4().bytes_le,
            version=layout.VERSION,
            log_bytes=MIB,
            log_offset=_LOG_OFFSET,
        )
        _write_headers(file, header)
        file.resize(data_offset + (blocks * block_bytes if fixed else 0))
        if fixed:
            table = [
                entry
                for block_no in range(blocks)
                for entry in (
                    [0] * (block_no > 0 and block_no % ratio == 0)
                    + [data_offset + block_no * block_bytes | layout.FULL]
                )
            ]
            file.write(_TABLE_OFFSET, struct.pack(f"<{len(table)}Q", *table))
        return cls(file)

    def allocate(self, block_no: int) -> int:  # noqa: D102 - as in WritableBlockMap
        place, self._end = self._end, self._end + self.block_bytes
        self._file.resize(self._end)
        self._table[self._index_of(block_no)] = place | layout.FULL
        return place

    def release(self, block_no: int, place: int) -> None:  # noqa: D102
        self._file.zero(place, min(self.block_bytes, self._file.size_bytes - place))
        if not self.metadata.is_fixed:
            self._table[self._index_of(block_no)] = layout.ZEROED

    def flush(self) -> None:
        """Writes the block table and both headers; the log is emptied."""
        if self._changed:
            offset = self.regions[layout.BAT_REGION].offset
            self._file.write(offset, build_table(self._table, "<"))
            self._file.zero(self.header.log_offset, self.header.log_bytes)
            self.header.log_id = bytes(16)
            self.header.file_write_id = uuid.uuid4().bytes_le
            self.header.data_write_id = uuid.uuid4().bytes_le
            _write_headers(self._file, self.header)
            self._changed = False
            self.replayed = 0
        self._file.flush()


def _write_headers(file: ContainerFile, header: Header) -> None:
    for offset in layout.HEADER_OFFSETS:
        header.sequence += 1
        file.write(offset, with_checksum(header.build()))


def _build_regions(table_bytes: int) -> bytes:
    entries = [
        RegionEntry.blank(
            kind=layout.BAT_REGION, offset=_TABLE_OFFSET, length=table_bytes, required=1
        ),
        RegionEntry.blank(
            kind=layout.METADATA_REGION, offset=_METADATA_OFFSET, length=MIB, required=1
        ),
    ]
    raw = RegionTable.blank(signature=b"regi", entries=len(entries)).build()
    raw += b"".join(entry.build() for entry in entries)
    return with_checksum(raw.ljust(layout.REGION_TABLE_BYTES, b"\0"))


def _build_metadata(size_bytes: int, block_bytes: int, fixed: bool, sector_bytes: int) -> bytes:
    disk = layout.METADATA_VIRTUAL_DISK | layout.METADATA_REQUIRED
    items = [
        (
            layout.FILE_PARAMETERS,
            struct.pack("<II", block_bytes, layout.PARAMETER_FIXED if fixed else 0),
            layout.METADATA_REQUIRED,
        ),
        (layout.DISK_SIZE, struct.pack("<Q", size_bytes), disk),
        (layout.DISK_ID, uuid.uuid4().bytes_le, disk),
        (layout.LOGICAL_SECTOR, struct.pack("<I", sector_bytes), disk),
        (layout.PHYSICAL_SECTOR, struct.pack("<I", 4096), disk),
    ]
    raw = MetadataTable.blank(signature=b"metadata", entries=len(items)).build()
    contents = b""
    for kind, content, flags in items:
        offset = _ITEMS_OFFSET + len(contents)
        entry = MetadataEntry.blank(kind=kind, offset=offset, length=len(content), flags=flags)
        raw += entry.build()
        contents += content
    return (raw.ljust(_ITEMS_OFFSET, b"\0") + contents).ljust(MIB, b"\0")
