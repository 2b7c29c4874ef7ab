"""Reading VHDX."""

from __future__ import annotations

import struct
import uuid
from array import array
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from zeroseal.blocks.tables import read_table
from zeroseal.errors import DamagedError, RefusedError, UnsupportedError
from zeroseal.images.block_map import ABSENT, ZERO, BlockMap, Stretch, split_by_sectors
from zeroseal.images.container_file import ContainerFile, StagedFile
from zeroseal.images.image import Image
from zeroseal.images.parents import ParentOpener, find_parent
from zeroseal.images.vhdx import layout
from zeroseal.images.vhdx.layout import (
    Header,
    MetadataEntry,
    MetadataTable,
    RegionEntry,
    RegionTable,
)
from zeroseal.images.vhdx.log import replay_log
from zeroseal.messages import images as messages

_MAX_ITEM = 1 << 20


@dataclass(frozen=True)
class Metadata:
    """What the metadata region says."""

    block_bytes: int
    is_fixed: bool
    has_parent: bool
    size_bytes: int
    sector_bytes: int
    parent_locator: bytes

    @property
    def chunk_ratio(self) -> int:
        """How many payload entries of the block table share one sector bitmap entry."""
        return (1 << 23) * self.sector_bytes // self.block_bytes

    @property
    def block_count(self) -> int:
        """How many payload blocks the disk has."""
        return -(-self.size_bytes // self.block_bytes)

    @property
    def table_entries(self) -> int:
        """How many entries the block table has, bitmap entries among them."""
        if self.has_parent:
            return -(-self.block_count // self.chunk_ratio) * (self.chunk_ratio + 1)
        return self.block_count + (self.block_count - 1) // self.chunk_ratio


def open_vhdx(file: ContainerFile, open_parent: ParentOpener) -> VhdxImage:
    """Opens a VHDX for reading; a log that is not empty is replayed in memory.

    Raises:
        DamagedError, UnsupportedError: it cannot be read.
        MissingError, RefusedError: its parent is not there, or is another.
    """
    image = VhdxImage(file)
    if image.metadata.has_parent:
        locator = parse_locator(file.path, image.metadata.parent_locator)
        names = [
            locator[key] for key in ("relative_path", "absolute_win32_path") if locator.get(key)
        ]
        parent = open_parent(find_parent(file.path, names, "differencing VHDX"), None)
        _check_parent(file.path, locator, parent)
        image.parent = parent
    return image


def read_header(file: ContainerFile) -> Header:
    """The one of the two headers that counts.

    Raises:
        DamagedError, UnsupportedError: neither is sound, or of a version that we do not know.
    """
    found: list[Header] = []
    for offset in layout.HEADER_OFFSETS:
        raw = file.read(offset, Header.SIZE)
        header = Header.parse(raw)
        if header.signature == b"head" and header.checksum == layout.checksum_of(raw):
            found.append(header)
    if not found:
        raise DamagedError(messages.VHDX_WITHOUT_VALID_HEADER.format(path=file.path), format="vhdx")
    header = max(found, key=lambda item: item.sequence)
    if header.version != layout.VERSION or header.log_version != 0:
        raise UnsupportedError(
            messages.VHDX_VERSION_NOT_SUPPORTED.format(path=file.path, version=header.version)
        )
    return header


def read_regions(file: ContainerFile) -> dict[bytes, RegionEntry]:
    """The regions by their kind, from the first sound copy of the table.

    Raises:
        DamagedError, UnsupportedError: no copy is sound, or a region that is required is unknown.
    """
    for offset in layout.REGION_OFFSETS:
        raw = file.read(offset, layout.REGION_TABLE_BYTES)
        table = RegionTable.parse(raw[: RegionTable.SIZE])
        if (
            table.signature == b"regi"
            and table.checksum == layout.checksum_of(raw)
            and table.entries <= layout.MAX_REGIONS
        ):
            break
    else:
        raise DamagedError(
            messages.VHDX_WITHOUT_VALID_REGION_TABLE.format(path=file.path), format="vhdx"
        )
    regions = {}
    for number in range(table.entries):
        start = RegionTable.SIZE + number * RegionEntry.SIZE
        entry = RegionEntry.parse(raw[start : start + RegionEntry.SIZE])
        regions[entry.kind] = entry
        if entry.required & 1 and entry.kind not in (layout.BAT_REGION, layout.METADATA_REGION):
            raise UnsupportedError(
                messages.NEEDS_UNKNOWN_VHDX_REGION.format(
                    path=file.path, uuid=uuid.UUID(bytes_le=entry.kind)
                )
            )
    if not {layout.BAT_REGION, layout.METADATA_REGION} <= regions.keys():
        raise DamagedError(
            messages.BLOCK_TABLE_OR_METADATA_MISSING.format(path=file.path), format="vhdx"
        )
    return regions


def read_metadata(file: ContainerFile, region: RegionEntry) -> Metadata:
    """Reads and bounds the metadata.

    Raises:
        DamagedError, UnsupportedError: an item is missing, makes no sense, or is unknown.
    """
    items = _read_items(file, region)
    try:
        block_bytes, flags = struct.unpack_from("<II", items[layout.FILE_PARAMETERS])
        (size_bytes,) = struct.unpack_from("<Q", items[layout.DISK_SIZE])
        (sector_bytes,) = struct.unpack_from("<I", items[layout.LOGICAL_SECTOR])
    except (KeyError, struct.error) as error:
        raise DamagedError(
            messages.VHDX_METADATA_MISSING.format(path=file.path), format="vhdx"
        ) from error
    problem = ""
    if block_bytes & (block_bytes - 1) or not layout.MIB <= block_bytes <= 256 * layout.MIB:
        problem = f"blocks of {block_bytes} bytes"
    elif sector_bytes not in (512, 4096):
        problem = f"sectors of {sector_bytes} bytes"
    elif not 0 < size_bytes <= layout.MAX_DISK_BYTES or size_bytes % sector_bytes:
        problem = f"a disk of {size_bytes} bytes"
    if problem:
        raise DamagedError(
            messages.IMPOSSIBLE_HEADER.format(path=file.path, problem=problem), format="vhdx"
        )
    return Metadata(
        block_bytes=block_bytes,
        is_fixed=bool(flags & layout.PARAMETER_FIXED),
        has_parent=bool(flags & layout.PARAMETER_HAS_PARENT),
        size_bytes=size_bytes,
        sector_bytes=sector_bytes,
        parent_locator=items.get(layout.PARENT_LOCATOR, b""),
    )


def _read_items(file: ContainerFile, region: RegionEntry) -> dict[bytes, bytes]:
    raw = file.read(region.offset, layout.METADATA_TABLE_BYTES)
    table = MetadataTable.parse(raw[: MetadataTable.SIZE])
    if table.signature != b"metadata" or table.entries > layout.MAX_METADATA - 1:
        raise DamagedError(messages.DAMAGED_METADATA_TABLE.format(path=file.path), format="vhdx")
    items = {}
    for number in range(table.entries):
        start = MetadataTable.SIZE + number * MetadataEntry.SIZE
        entry = MetadataEntry.parse(raw[start : start + MetadataEntry.SIZE])
        if entry.kind not in layout.KNOWN_METADATA:
            if entry.flags & layout.METADATA_REQUIRED:
                raise UnsupportedError(
                    messages.NEEDS_UNKNOWN_VHDX_METADATA_ITEM.format(
                        path=file.path, uuid=uuid.UUID(bytes_le=entry.kind)
                    )
                )
            continue
        if entry.length > _MAX_ITEM or entry.offset + entry.length > region.length:
            raise DamagedError(
                messages.METADATA_OUTSIDE_BOUNDS.format(path=file.path), format="vhdx"
            )
        items[entry.kind] = file.read(region.offset + entry.offset, entry.length)
    return items


def parse_locator(path: Path, raw: bytes) -> dict[str, str]:
    """The keys and values of a parent locator (MS-VHDX 2.6.2.6).

    Raises:
        DamagedError: it runs out of bounds.
    """
    pairs = {}
    try:
        (count,) = struct.unpack_from("<H", raw, 18)
        for number in range(count):
            key_at, value_at, key_bytes, value_bytes = struct.unpack_from(
                "<IIHH", raw, 20 + number * 12
            )
            key = raw[key_at : key_at + key_bytes].decode("utf-16-le")
            pairs[key] = raw[value_at : value_at + value_bytes].decode("utf-16-le")
    except (struct.error, UnicodeDecodeError) as error:
        raise DamagedError(
            messages.DAMAGED_PARENT_LOCATOR.format(path=path), format="vhdx"
        ) from error
    return pairs


def _check_parent(child: Path, locator: dict[str, str], parent: Image) -> None:
    if not isinstance(parent, VhdxImage):
        parent.close()
        raise UnsupportedError(messages.PARENT_NOT_VHDX.format(child=child, path=parent.path))
    linkages = (locator.get("parent_linkage", ""), locator.get("parent_linkage2", ""))
    if f"{{{uuid.UUID(bytes_le=parent.header.data_write_id)}}}" not in map(str.lower, linkages):
        parent.close()
        raise RefusedError(messages.PARENT_CHANGED.format(path=parent.path, child=child))


class VhdxImage(BlockMap, Image):
    """A VHDX opened for reading; ``open_vhdx`` gives it its parent."""

    format_name = "vhdx"

    def __init__(self, file: ContainerFile) -> None:
        self.path = file.path
        self.header = read_header(file)
        self.replayed = 0
        if any(self.header.log_id):
            if not isinstance(file, StagedFile):
                file = StagedFile(file)
            self.replayed = replay_log(file, self.header)
        self._file = file
        self.regions = read_regions(file)
        self.metadata = read_metadata(file, self.regions[layout.METADATA_REGION])
        self.parent: Image | None = None
        self.size_bytes = self.metadata.size_bytes
        self.block_bytes = self.metadata.block_bytes
        self._ratio = self.metadata.chunk_ratio
        region = self.regions[layout.BAT_REGION]
        if region.length < self.metadata.table_entries * 8:
            raise DamagedError(messages.BLOCK_TABLE_TOO_SHORT.format(path=file.path), format="vhdx")
        entries = self.metadata.table_entries
        self._table: array[int] = read_table(file, region.offset, entries, "Q", "<")

    @property
    def variant(self) -> str:  # type: ignore[override]  # noqa: D102 - as in Image
        if self.metadata.has_parent:
            return "differencing"
        return "fixed" if self.metadata.is_fixed else "dynamic"

    @property
    def file(self) -> ContainerFile:  # noqa: D102
        return self._file

    @property
    def chain(self) -> list[Path]:  # noqa: D102
        return [self.path, *(self.parent.chain if self.parent else [])]

    @property
    def has_parent(self) -> bool:  # noqa: D102
        return self.metadata.has_parent

    @property
    def remarks(self) -> list[str]:  # noqa: D102
        if not self.replayed:
            return []
        return [
            (f"The image was not closed cleanly; its log ({self.replayed} entries) was replayed.")
        ]

    def iter_runs(self, first_block: int, end_block: int) -> Iterator[tuple[int, int]]:  # noqa: D102
        count, place = 0, 0
        for block_no in range(first_block, end_block):
            found = self._place_of(block_no)
            expected = place + count * self.block_bytes if place >= 0 else place
            if count and found == expected:
                count += 1
                continue
            if count:
                yield count, place
            count, place = 1, found
        if count:
            yield count, place

    def iter_stretches(self, offset_bytes: int, length: int) -> Iterator[Stretch]:  # noqa: D102
        for stretch in super().iter_stretches(offset_bytes, length):
            if self.parent is None or stretch.place < 0:
                yield stretch
                continue
            position, end = stretch.offset_bytes, stretch.offset_bytes + stretch.length
            while position < end:
                stop = min(end, (position // self.block_bytes + 1) * self.block_bytes)
                place = stretch.place + position - stretch.offset_bytes
                yield from self._split_by_sectors(Stretch(position, stop - position, place))
                position = stop

    def close(self) -> None:  # noqa: D102
        self._file.close()
        if self.parent:
            self.parent.close()

    def _index_of(self, block_no: int) -> int:
        return block_no + block_no // self._ratio

    def _place_of(self, block_no: int) -> int:
        entry = self._table[self._index_of(block_no)]
        match entry & layout.STATE_MASK:
            case layout.FULL | layout.PARTIAL:
                place = entry & layout.OFFSET_MASK
                if place < layout.MIB:
                    raise DamagedError(
                        messages.BLOCK_OVERLAPS_HEADER.format(path=self.path), format="vhdx"
                    )
                return place
            case layout.NOT_PRESENT:
                return ABSENT
            case layout.ZEROED | layout.UNMAPPED | layout.UNDEFINED:
                return ZERO
        raise DamagedError(messages.BLOCK_IN_UNKNOWN_STATE.format(path=self.path), format="vhdx")

    def _split_by_sectors(self, stretch: Stretch) -> Iterator[Stretch]:
        """Where only a part of a block's sectors is here, the bitmap of its chunk says which."""
        block_no, start = divmod(stretch.offset_bytes, self.block_bytes)
        if self._table[self._index_of(block_no)] & layout.STATE_MASK == layout.FULL:
            yield stretch
            return
        sector_bytes = self.metadata.sector_bytes
        chunk, in_chunk = divmod(block_no, self._ratio)
        entry = self._table[chunk * (self._ratio + 1) + self._ratio]
        if entry & layout.STATE_MASK != layout.FULL:
            raise DamagedError(messages.SECTOR_BITMAP_MISSING.format(path=self.path), format="vhdx")
        per_block = self.block_bytes // sector_bytes // 8
        bitmap = self._file.read((entry & layout.OFFSET_MASK) + in_chunk * per_block, per_block)
        yield from split_by_sectors(
            stretch, start, sector_bytes, lambda sector: _is_marked(bitmap, sector)
        )


def _is_marked(bitmap: bytes, sector: int) -> bool:
    return bool(bitmap[sector // 8] & 1 << sector % 8)
