"""Writing VDI: new images, and changes to existing ones."""

from __future__ import annotations

import uuid

from zeroseal.blocks.tables import build_table
from zeroseal.errors import DamagedError, UnsupportedError
from zeroseal.images.block_map import WritableBlockMap
from zeroseal.images.container_file import ContainerFile
from zeroseal.images.image import WritableImage
from zeroseal.images.vdi import layout
from zeroseal.images.vdi.layout import VdiHeader
from zeroseal.images.vdi.read import VdiImage
from zeroseal.messages import images as messages

_MAX_BLOCKS = 0x3FFFFFFF


class WritableVdi(WritableBlockMap, VdiImage, WritableImage):
    """A VDI that can be changed.

    A block keeps its place when it is zeroed: others count on blocks being allocated without gaps.
    In the file it becomes a hole.
    """

    def __init__(self, file: ContainerFile) -> None:
        super().__init__(file)
        used = [entry for entry in self._table if entry < layout.DISCARDED]
        if len(set(used)) != len(used) or any(entry >= len(used) for entry in used):
            raise DamagedError(
                messages.VDI_BLOCKS_INCONSISTENT.format(path=file.path),
                format="vdi",
            )
        self._next = len(used)

    @classmethod
    def create(cls, file: ContainerFile, size_bytes: int, fixed: bool = False) -> WritableVdi:
        """Makes an image of zeros in an empty file; a fixed one has every block in place."""
        blocks = -(-size_bytes // layout.BLOCK_BYTES)
        if blocks > _MAX_BLOCKS:
            raise UnsupportedError(messages.VDI_TOO_LARGE)
        table_bytes = -(-blocks * 4 // 512) * 512
        data_offset = -(-(layout.TABLE_OFFSET + table_bytes) // layout.BLOCK_BYTES)
        header = VdiHeader.blank(
            text=layout.TEXT.ljust(64, b"\0"),
            signature=layout.SIGNATURE,
            version=layout.VERSION,
            header_bytes=layout.HEADER_BYTES,
            kind=layout.FIXED if fixed else layout.DYNAMIC,
            table_offset=layout.TABLE_OFFSET,
            data_offset=data_offset * layout.BLOCK_BYTES,
            sector_bytes=512,
            size_bytes=size_bytes,
            block_bytes=layout.BLOCK_BYTES,
            block_count=blocks,
            allocated_count=blocks if fixed else 0,
            image_id=uuid.uuid4().bytes_le,
            change_id=uuid.uuid4().bytes_le,
        )
        file.write(0, header.build() + b"\xff" * table_bytes)
        file.resize((data_offset + (blocks if fixed else 0)) * layout.BLOCK_BYTES)
        if fixed:
            numbers = b"".join(number.to_bytes(4, "little") for number in range(blocks))
            file.write(layout.TABLE_OFFSET, numbers)
        return cls(file)

    def allocate(self, block_no: int) -> int:  # noqa: D102 - as in WritableBlockMap
        entry, self._next = self._next, self._next + 1
        self._table[block_no] = entry
        place = self._place(entry)
        self._file.resize(max(self._file.size_bytes, place + self.block_bytes))
        return place

    def release(self, block_no: int, place: int) -> None:  # noqa: D102
        self._file.zero(place, self.block_bytes)

    def flush(self) -> None:  # noqa: D102 - as in WritableImage
        if self._changed:
            self.header.allocated_count = self._next
            self.header.change_id = uuid.uuid4().bytes_le
            self._file.write(self.header.table_offset, build_table(self._table, "<"))
            self._file.write(0, self.header.build())
            self._changed = False
        self._file.flush()
