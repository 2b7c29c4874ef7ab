"""Reading VDI."""

from __future__ import annotations

from array import array
from collections.abc import Iterator

from zeroseal.blocks.tables import read_table
from zeroseal.errors import DamagedError, UnsupportedError
from zeroseal.images.block_map import ABSENT, ZERO, BlockMap
from zeroseal.images.container_file import ContainerFile
from zeroseal.images.image import SECTOR_BYTES, Image
from zeroseal.images.vdi import layout
from zeroseal.images.vdi.layout import VdiHeader
from zeroseal.messages import images as messages

_MAX_BLOCKS = 1 << 26


def read_header(file: ContainerFile) -> VdiHeader:
    """Reads and bounds the header.

    Raises:
        DamagedError, UnsupportedError: it makes no sense, or a kind that we do not know.
    """
    header = VdiHeader.parse(file.read(0, VdiHeader.SIZE))
    if header.version != layout.VERSION:
        raise UnsupportedError(
            messages.VDI_VERSION_NOT_SUPPORTED.format(path=file.path, version=header.version)
        )
    if header.kind in layout.KIND_NAMES or any(header.parent_id) or any(header.link_id):
        kind = layout.KIND_NAMES.get(header.kind, "differencing")
        raise UnsupportedError(
            messages.VDI_TYPE_NOT_SUPPORTED.format(path=file.path, kind=kind), format="vdi"
        )
    block = header.block_bytes
    problem = ""
    if header.kind not in (layout.DYNAMIC, layout.FIXED):
        problem = f"kind {header.kind}"
    elif block & (block - 1) or not 4096 <= block <= 256 << 20:
        problem = f"blocks of {block} bytes"
    elif header.block_count > _MAX_BLOCKS or header.block_count * block < header.size_bytes:
        problem = f"{header.block_count} blocks for {header.size_bytes} bytes"
    elif header.block_extra > 1 << 20:
        problem = f"{header.block_extra} bytes before each block"
    if problem:
        raise DamagedError(
            messages.DAMAGED_VDI_HEADER.format(path=file.path, problem=problem), format="vdi"
        )
    return header


class VdiImage(BlockMap, Image):
    """A VDI opened for reading."""

    format_name = "vdi"

    def __init__(self, file: ContainerFile) -> None:
        self._file = file
        self.path = file.path
        self.header = read_header(file)
        self.variant = "fixed" if self.header.kind == layout.FIXED else "dynamic"
        self.size_bytes = -(-self.header.size_bytes // SECTOR_BYTES) * SECTOR_BYTES
        self.block_bytes = self.header.block_bytes
        self._room = self.block_bytes + self.header.block_extra
        blocks = -(-self.size_bytes // self.block_bytes)
        self._table: array[int] = read_table(file, self.header.table_offset, blocks, "I", "<")

    @property
    def file(self) -> ContainerFile:  # noqa: D102 - as in Image
        return self._file

    def iter_runs(self, first_block: int, end_block: int) -> Iterator[tuple[int, int]]:  # noqa: D102
        step = 0 if self.header.block_extra else 1
        block_no = first_block
        while block_no < end_block:
            entry, count = self._table[block_no], 1
            if entry >= layout.DISCARDED:
                while block_no + count < end_block and self._table[block_no + count] == entry:
                    count += 1
                yield count, ABSENT if entry == layout.UNALLOCATED else ZERO
            else:
                while (
                    step
                    and block_no + count < end_block
                    and self._table[block_no + count] == entry + count
                ):
                    count += 1
                yield count, self._place(entry)
            block_no += count

    def close(self) -> None:  # noqa: D102
        self._file.close()

    def _place(self, entry: int) -> int:
        return self.header.data_offset + entry * self._room + self.header.block_extra
