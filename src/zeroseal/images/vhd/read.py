"""Reading VHD."""

from __future__ import annotations

import uuid
from collections.abc import Iterator
from pathlib import Path

from zeroseal.blocks.store import Extent
from zeroseal.blocks.tables import read_table
from zeroseal.errors import DamagedError, RefusedError, UnsupportedError
from zeroseal.images.block_map import ABSENT, BlockMap, Stretch, split_by_sectors
from zeroseal.images.container_file import ContainerFile
from zeroseal.images.image import Image
from zeroseal.images.parents import ParentOpener, find_parent
from zeroseal.images.vhd import layout
from zeroseal.images.vhd.layout import DynamicHeader, Footer, ParentLocator
from zeroseal.messages import images as messages

_SECTOR = layout.SECTOR_BYTES


def open_vhd(file: ContainerFile, open_parent: ParentOpener) -> Image:
    """Opens a VHD, whatever its type.

    Raises:
        DamagedError, UnsupportedError: it cannot be read.
        MissingError, RefusedError: its parent is not there, or is another.
    """
    footer = read_footer(file)
    if footer.disk_type == layout.FIXED:
        return FixedVhd(file, footer)
    header = read_dynamic_header(file, footer)
    parent = None
    if footer.disk_type == layout.DIFFERENCING:
        parent = open_parent(find_parent(file.path, parent_names(file, header), "VHD"), None)
        _check_parent(file.path, header, parent)
    return DynamicVhd(file, footer, header, parent)


def read_footer(file: ContainerFile) -> Footer:
    """Reads and bounds the footer; where it is damaged, a dynamic disk's copy at the start.

    Raises:
        DamagedError, UnsupportedError: neither makes sense.
    """
    for offset in (file.size_bytes - _SECTOR, 0):
        raw = file.read(offset, _SECTOR)
        footer = Footer.parse(raw)
        if footer.cookie == layout.FOOTER_COOKIE and footer.checksum == layout.checksum_of(raw, 64):
            break
    else:
        raise DamagedError(messages.VHD_FOOTER_FAILS_CHECKSUM.format(path=file.path), format="vhd")
    if footer.version >> 16 != 1 or footer.disk_type not in (
        layout.FIXED,
        layout.DYNAMIC,
        layout.DIFFERENCING,
    ):
        raise UnsupportedError(
            messages.VHD_OF_UNKNOWN_TYPE.format(
                path=file.path, version=footer.version, disk_type=footer.disk_type
            ),
            format="vhd",
        )
    if footer.saved_state:
        raise UnsupportedError(
            messages.BELONGS_TO_MACHINE_WITH_SAVED_STATE.format(path=file.path),
            format="vhd",
        )
    if not 0 < footer.size_bytes <= layout.MAX_DISK_BYTES or footer.size_bytes % _SECTOR:
        raise DamagedError(
            messages.IMPOSSIBLE_DISK_SIZE.format(path=file.path, size_bytes=footer.size_bytes),
            format="vhd",
        )
    return footer


def read_dynamic_header(file: ContainerFile, footer: Footer) -> DynamicHeader:
    """Reads and bounds the header of a dynamic or differencing disk.

    Raises:
        DamagedError: it contradicts the format.
    """
    raw = file.read(footer.header_offset, DynamicHeader.SIZE)
    header = DynamicHeader.parse(raw)
    if header.cookie != layout.HEADER_COOKIE or header.checksum != layout.checksum_of(raw, 36):
        raise DamagedError(
            messages.DAMAGED_DYNAMIC_DISK_HEADER.format(path=file.path), format="vhd"
        )
    block = header.block_bytes
    if block & (block - 1) or not 4096 <= block <= 256 << 20:
        raise DamagedError(
            messages.IMPOSSIBLE_BLOCK_SIZE.format(path=file.path, block=block), format="vhd"
        )
    if header.table_entries * block < footer.size_bytes:
        raise DamagedError(messages.BLOCK_TABLE_TOO_SHORT.format(path=file.path), format="vhd")
    return header


def parent_names(file: ContainerFile, header: DynamicHeader) -> list[str]:
    """The names that a differencing disk gives its parent, the best first."""
    names: list[str] = []
    for number in range(layout.LOCATOR_COUNT):
        start = layout.LOCATORS_OFFSET + number * ParentLocator.SIZE
        locator = ParentLocator.parse(header.raw[start : start + ParentLocator.SIZE])
        if locator.platform in (layout.LOCATOR_RELATIVE, layout.LOCATOR_ABSOLUTE):
            raw = file.read(locator.data_offset, min(locator.data_bytes, 4096))
            name = raw.decode("utf-16-le", "replace").split("\0")[0]
            names.insert(0 if locator.platform == layout.LOCATOR_RELATIVE else len(names), name)
    names.append(header.parent_name.decode("utf-16-be", "replace").split("\0")[0])
    return [name for name in names if name]


def _check_parent(child: Path, header: DynamicHeader, parent: Image) -> None:
    if not isinstance(parent, (FixedVhd, DynamicVhd)):
        parent.close()
        raise UnsupportedError(messages.PARENT_NOT_VHD.format(child=child, path=parent.path))
    if parent.footer.unique_id != header.parent_id:
        parent.close()
        raise RefusedError(
            messages.PARENT_IS_ANOTHER_DISK.format(
                child=child, uuid=uuid.UUID(bytes=header.parent_id), path=parent.path
            )
        )


class FixedVhd(Image):
    """A fixed disk: its bytes, then the footer."""

    format_name = "vhd"
    variant = "fixed"

    def __init__(self, file: ContainerFile, footer: Footer) -> None:
        self._file = file
        self.path = file.path
        self.footer = footer
        self.size_bytes = footer.size_bytes
        if file.size_bytes < self.size_bytes + _SECTOR:
            raise DamagedError(
                messages.TRUNCATED_FIXED_VHD_OR_RAW.format(
                    path=file.path, size_bytes=self.size_bytes
                ),
                format="vhd",
            )

    @property
    def file(self) -> ContainerFile:  # noqa: D102 - as in Image
        return self._file

    def read(self, offset_bytes: int, length: int) -> bytes:  # noqa: D102
        self.check_range(offset_bytes, length)
        return self._file.read(offset_bytes, length)

    def iter_extents(self, offset_bytes: int, length: int) -> Iterator[Extent]:  # noqa: D102
        self.check_range(offset_bytes, length)
        return self._file.iter_extents(offset_bytes, length)

    def close(self) -> None:  # noqa: D102
        self._file.close()


class DynamicVhd(BlockMap, Image):
    """A dynamic or differencing disk.

    The sector bitmaps are heeded in differencing disks only: in a dynamic disk what is not marked
    reads as zeros, and is zeros.
    """

    format_name = "vhd"

    def __init__(
        self, file: ContainerFile, footer: Footer, header: DynamicHeader, parent: Image | None
    ) -> None:
        self._file = file
        self.path = file.path
        self.footer, self.header = footer, header
        self.parent: Image | None = parent
        self.size_bytes = footer.size_bytes
        self.block_bytes = header.block_bytes
        self._bitmap_bytes = -(-(self.block_bytes // _SECTOR // 8) // _SECTOR) * _SECTOR
        blocks = -(-self.size_bytes // self.block_bytes)
        self._table = read_table(file, header.table_offset, blocks, "I", ">")

    @property
    def variant(self) -> str:  # type: ignore[override]  # noqa: D102
        return "differencing" if self.parent else "dynamic"

    @property
    def file(self) -> ContainerFile:  # noqa: D102
        return self._file

    @property
    def chain(self) -> list[Path]:  # noqa: D102
        return [self.path, *(self.parent.chain if self.parent else [])]

    @property
    def has_parent(self) -> bool:  # noqa: D102
        return self.parent is not None

    def iter_runs(self, first_block: int, end_block: int) -> Iterator[tuple[int, int]]:  # noqa: D102
        for block_no in range(first_block, end_block):
            entry = self._table[block_no]
            if entry == layout.UNALLOCATED:
                yield 1, ABSENT
            else:
                yield 1, entry * _SECTOR + self._bitmap_bytes

    def iter_stretches(self, offset_bytes: int, length: int) -> Iterator[Stretch]:  # noqa: D102
        for stretch in super().iter_stretches(offset_bytes, length):
            if self.parent is None or stretch.place < 0:
                yield stretch
            else:
                yield from self._split_by_sectors(stretch)

    def close(self) -> None:  # noqa: D102
        self._file.close()
        if self.parent:
            self.parent.close()

    def _split_by_sectors(self, stretch: Stretch) -> Iterator[Stretch]:
        """A block of a differencing disk holds only the sectors that its bitmap marks."""
        block_no, start = divmod(stretch.offset_bytes, self.block_bytes)
        bitmap = self._file.read(self._table[block_no] * _SECTOR, self._bitmap_bytes)
        yield from split_by_sectors(
            stretch, start, _SECTOR, lambda sector: _is_marked(bitmap, sector)
        )


def _is_marked(bitmap: bytes, sector: int) -> bool:
    return bool(bitmap[sector // 8] & 0x80 >> sector % 8)
