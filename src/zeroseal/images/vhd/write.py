"""Writing VHD: new disks, and changes to fixed and dynamic ones."""

from __future__ import annotations

import uuid

from zeroseal.blocks.tables import build_table
from zeroseal.errors import RefusedError, UnsupportedError
from zeroseal.images.block_map import WritableBlockMap
from zeroseal.images.container_file import ContainerFile
from zeroseal.images.image import WritableImage
from zeroseal.images.vhd import layout
from zeroseal.images.vhd.layout import DynamicHeader, Footer, sealed_bytes
from zeroseal.images.vhd.read import DynamicVhd, FixedVhd, read_dynamic_header, read_footer
from zeroseal.messages import images as messages

_SECTOR = layout.SECTOR_BYTES


class WritableFixedVhd(FixedVhd, WritableImage):
    """A fixed disk that can be changed."""

    def __init__(self, file: ContainerFile) -> None:
        super().__init__(file, read_footer(file))

    @classmethod
    def create(cls, file: ContainerFile, size_bytes: int) -> WritableFixedVhd:
        """Makes a fixed disk of zeros in an empty file."""
        _check_size(size_bytes)
        file.resize(size_bytes + _SECTOR)
        footer = _new_footer(size_bytes, layout.FIXED, layout.NOWHERE)
        file.write(size_bytes, sealed_bytes(footer))
        return cls(file)

    def write(self, offset_bytes: int, data: bytes | memoryview) -> None:  # noqa: D102
        self.check_range(offset_bytes, len(data))
        self._file.write(offset_bytes, data)

    def zero(self, offset_bytes: int, length: int) -> None:  # noqa: D102
        self.check_range(offset_bytes, length)
        self._file.zero(offset_bytes, length)

    def flush(self) -> None:  # noqa: D102
        self._file.flush()


class WritableVhd(WritableBlockMap, DynamicVhd, WritableImage):
    """A dynamic disk that can be changed; new blocks come where the footer was.

    Raises:
        RefusedError: it is a differencing disk.
    """

    def __init__(self, file: ContainerFile) -> None:
        footer = read_footer(file)
        if footer.disk_type != layout.DYNAMIC:
            raise RefusedError(messages.VHD_DIFFERENCING_NOT_CHANGED.format(path=file.path))
        super().__init__(file, footer, read_dynamic_header(file, footer), None)
        self._end = max(
            [self.header.table_offset + self.header.table_entries * 4, footer.header_offset + 1024]
            + [
                entry * _SECTOR + self._block_room
                for entry in self._table
                if entry != layout.UNALLOCATED
            ]
        )
        self._end = -(-self._end // _SECTOR) * _SECTOR

    @property
    def _block_room(self) -> int:
        return self._bitmap_bytes + self.block_bytes

    @classmethod
    def create(cls, file: ContainerFile, size_bytes: int) -> WritableVhd:
        """Makes an empty dynamic disk in an empty file."""
        _check_size(size_bytes)
        blocks = -(-size_bytes // layout.BLOCK_BYTES)
        table_offset = _SECTOR + DynamicHeader.SIZE
        table_bytes = -(-blocks * 4 // _SECTOR) * _SECTOR
        header = DynamicHeader.blank(
            cookie=layout.HEADER_COOKIE,
            data_offset=layout.NOWHERE,
            table_offset=table_offset,
            version=layout.VERSION,
            table_entries=blocks,
            block_bytes=layout.BLOCK_BYTES,
        )
        footer = sealed_bytes(_new_footer(size_bytes, layout.DYNAMIC, _SECTOR))
        file.write(0, footer + sealed_bytes(header) + b"\xff" * table_bytes + footer)
        return cls(file)

    def allocate(self, block_no: int) -> int:  # noqa: D102 - as in WritableBlockMap
        start = self._end
        self._file.zero(start, _SECTOR)  # the old footer
        self._file.write(start, b"\xff" * self._bitmap_bytes)
        self._end += self._block_room
        self._file.resize(self._end + _SECTOR)
        self._table[block_no] = start // _SECTOR
        return start + self._bitmap_bytes

    def release(self, block_no: int, place: int) -> None:  # noqa: D102
        self._file.zero(place - self._bitmap_bytes, self._block_room)
        self._table[block_no] = layout.UNALLOCATED

    def flush(self) -> None:  # noqa: D102 - as in WritableImage
        if self._changed:
            self._file.write(self.header.table_offset, build_table(self._table, ">"))
            self._file.resize(self._end + _SECTOR)
            self._file.write(self._end, sealed_bytes(self.footer))
            self._changed = False
        self._file.flush()


def _new_footer(size_bytes: int, disk_type: int, header_offset: int) -> Footer:
    cylinders, heads, sectors = layout.geometry_of(size_bytes)
    return Footer.blank(
        cookie=layout.FOOTER_COOKIE,
        features=layout.FEATURES_RESERVED,
        version=layout.VERSION,
        header_offset=header_offset,
        creator_application=layout.CREATOR_APPLICATION,
        creator_version=0x000A0000,
        creator_host=b"Wi2k",
        original_size_bytes=size_bytes,
        size_bytes=size_bytes,
        cylinders=cylinders,
        heads=heads,
        sectors_per_track=sectors,
        disk_type=disk_type,
        unique_id=uuid.uuid4().bytes,
    )


def _check_size(size_bytes: int) -> None:
    if size_bytes > layout.MAX_DISK_BYTES:
        raise UnsupportedError(
            messages.VHD_TOO_LARGE.format(max_disk_bytes=layout.MAX_DISK_BYTES >> 30),
            format="vhd",
        )
