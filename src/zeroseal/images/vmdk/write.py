"""Writing VMDK: sparse disks to be changed, stream-optimized disks in one go."""

from __future__ import annotations

import re
import secrets
from array import array

from zeroseal.blocks.tables import build_table, read_table
from zeroseal.errors import RefusedError, UnsupportedError
from zeroseal.images.block_map import WritableBlockMap
from zeroseal.images.container_file import ContainerFile
from zeroseal.images.image import WritableImage
from zeroseal.images.vmdk import layout
from zeroseal.images.vmdk.descriptor import build_descriptor
from zeroseal.images.vmdk.layout import SparseHeader
from zeroseal.images.vmdk.read import read_embedded
from zeroseal.images.vmdk.sparse import SparseExtent, read_sparse_header
from zeroseal.messages import images as messages

_SECTOR = layout.SECTOR_BYTES
_DESCRIPTOR_OFFSET, DESCRIPTOR_SECTORS = 1, 20
_TABLE_SECTORS = layout.TABLE_ENTRIES * 4 // _SECTOR
MAX_SECTORS = (1 << 32) - (1 << 22)  # grain offsets have 32 bits of sectors


class WritableVmdk(WritableBlockMap, SparseExtent, WritableImage):
    """A single sparse file that can be changed.

    Raises:
        RefusedError: it has a parent, is compressed, or is one of several extents.
    """

    format_name = "vmdk"
    variant = "sparse"

    def __init__(self, file: ContainerFile) -> None:
        super().__init__(file, read_sparse_header(file))
        self.path = file.path
        descriptor = read_embedded(file, self)
        if descriptor.parent_id != layout.NO_PARENT or len(descriptor.extents) != 1:
            raise RefusedError(messages.VMDK_WITH_PARENT_NOT_CHANGED.format(path=file.path))
        if self.is_compressed:
            raise RefusedError(messages.STREAM_VMDK_NOT_CHANGED.format(path=file.path))
        self._end = -(-file.size_bytes // self.block_bytes) * self.header.grain_sectors
        self._redundant: array[int] = array("I")
        if self.header.flags & layout.FLAG_REDUNDANT:
            offset = self.header.redundant_offset * _SECTOR
            self._redundant = read_table(file, offset, len(self._directory), "I", "<")
        self._changed_tables: set[int] = set()
        self._directory_changed = False

    @property
    def file(self) -> ContainerFile:  # noqa: D102 - as in Image
        return self._file

    @classmethod
    def create(cls, file: ContainerFile, size_bytes: int, name: str) -> WritableVmdk:
        """Makes a sparse disk of zeros in an empty file, which will be called ``name``."""
        sectors = _sectors_of(size_bytes)
        tables = -(-sectors // (layout.GRAIN_SECTORS * layout.TABLE_ENTRIES))
        directory_sectors = -(-tables * 4 // _SECTOR)
        redundant = _DESCRIPTOR_OFFSET + DESCRIPTOR_SECTORS
        directory = redundant + directory_sectors + tables * _TABLE_SECTORS
        end = directory + directory_sectors + tables * _TABLE_SECTORS
        overhead = -(-end // layout.GRAIN_SECTORS) * layout.GRAIN_SECTORS
        header = SparseHeader.blank(
            magic=layout.MAGIC,
            version=1,
            flags=layout.FLAG_NEWLINES | layout.FLAG_REDUNDANT,
            capacity=sectors,
            grain_sectors=layout.GRAIN_SECTORS,
            descriptor_offset=_DESCRIPTOR_OFFSET,
            descriptor_sectors=DESCRIPTOR_SECTORS,
            table_entries=layout.TABLE_ENTRIES,
            redundant_offset=redundant,
            directory_offset=directory,
            overhead_sectors=overhead,
            newlines=layout.NEWLINES,
        )
        text = build_descriptor("monolithicSparse", sectors, name, secrets.token_hex(4))
        file.write(0, header.build() + text)
        for start in (redundant, directory):
            first = start + directory_sectors
            entries = array("I", [first + number * _TABLE_SECTORS for number in range(tables)])
            file.write(start * _SECTOR, build_table(entries, "<"))
        file.resize(overhead * _SECTOR)
        return cls(file)

    def allocate(self, block_no: int) -> int:  # noqa: D102 - as in WritableBlockMap
        table_no, index = divmod(block_no, self.header.table_entries)
        table = self._get_table(table_no)
        if table is None:
            table = array("I", bytes(self.header.table_entries * 4))
            self._tables[table_no] = table
            self._directory[table_no] = self._take(_TABLE_SECTORS)
            if self._redundant:
                self._redundant[table_no] = self._take(_TABLE_SECTORS)
            self._directory_changed = True
        table[index] = self._take(self.header.grain_sectors)
        self._changed_tables.add(table_no)
        return table[index] * _SECTOR

    def release(self, block_no: int, place: int) -> None:  # noqa: D102
        table_no, index = divmod(block_no, self.header.table_entries)
        table = self._get_table(table_no)
        assert table is not None  # the block had a place
        self._file.zero(place, min(self.block_bytes, self._file.size_bytes - place))
        table[index] = 0
        self._changed_tables.add(table_no)

    def flush(self) -> None:  # noqa: D102 - as in WritableImage
        for table_no in sorted(self._changed_tables):
            raw = build_table(self._tables[table_no], "<")
            self._file.write(self._directory[table_no] * _SECTOR, raw)
            if self._redundant:
                self._file.write(self._redundant[table_no] * _SECTOR, raw)
        self._changed_tables.clear()
        if self._directory_changed:
            for offset, directory in (
                (self.header.directory_offset, self._directory),
                (self.header.redundant_offset, self._redundant),
            ):
                if directory:
                    self._file.write(offset * _SECTOR, build_table(directory, "<"))
            self._directory_changed = False
        if self._changed:
            self._renew_content_id()
            self._changed = False
        self._file.flush()

    def close(self) -> None:  # noqa: D102
        self._file.close()

    def _evict(self) -> None:
        """Keeps every table: changed ones are only written by ``flush``."""

    def _take(self, sectors: int) -> int:
        first = self._end
        self._end += -(-sectors // self.header.grain_sectors) * self.header.grain_sectors
        if self._end >= 1 << 32:
            raise UnsupportedError(
                messages.VMDK_WOULD_GROW_TOO_LARGE.format(path=self.path), format="vmdk"
            )
        self._file.resize(self._end * _SECTOR)
        return first

    def _renew_content_id(self) -> None:
        """Children made over the old contents must not read the new."""
        offset = self.header.descriptor_offset * _SECTOR
        size = self.header.descriptor_sectors * _SECTOR
        raw = self._file.read(offset, size)
        # eight digits, or fewer: some writers leave out leading zeros
        text = re.sub(rb"^CID=[0-9a-fA-F]+", b"CID=" + _new_id(), raw, flags=re.M)
        if len(text.rstrip(b"\0")) <= size:
            self._file.write(offset, text[:size].ljust(size, b"\0"))


def _new_id() -> bytes:
    """A content ID, but not the one that stands for "no parent" in children."""
    found = secrets.token_hex(4)
    return found.replace("f", "0").encode() if found == layout.NO_PARENT else found.encode()


def _sectors_of(size_bytes: int) -> int:
    sectors = -(-size_bytes // _SECTOR)
    if sectors > MAX_SECTORS:
        raise UnsupportedError(messages.SPARSE_VMDK_TOO_LARGE)
    return sectors
