"""VMDK on disk: the header of a sparse extent and the markers of a stream; all little-endian."""

from __future__ import annotations

from zeroseal.blocks.records import Record, at, record

MAGIC = b"KDMV"
DESCRIPTOR_MAGIC = b"# Disk DescriptorFile"
SECTOR_BYTES = 512
GRAIN_SECTORS = 128
TABLE_ENTRIES = 512
DIRECTORY_AT_END = 0xFFFFFFFF_FFFFFFFF
NEWLINES = b"\n \r\n"
DEFLATE = 1

FLAG_NEWLINES, FLAG_REDUNDANT, FLAG_ZERO_GRAINS = 1 << 0, 1 << 1, 1 << 2
FLAG_COMPRESSED, FLAG_MARKERS = 1 << 16, 1 << 17
ZEROED_GRAIN = 1

MARKER_END, MARKER_TABLE, MARKER_DIRECTORY, MARKER_FOOTER = 0, 1, 2, 3
NO_PARENT = "ffffffff"


@record(size=512, byte_order="<", source="Virtual Disk Format 5.0, Hosted Sparse Extent Header")
class SparseHeader(Record):
    """The header of a sparse extent, and the footer of a stream; offsets in sectors."""

    magic: bytes = at(0, "4s")
    version: int = at(4, "I")
    flags: int = at(8, "I")
    capacity: int = at(12, "Q", "size of the extent in sectors")
    grain_sectors: int = at(20, "Q")
    descriptor_offset: int = at(28, "Q")
    descriptor_sectors: int = at(36, "Q")
    table_entries: int = at(44, "I", "grains a grain table")
    redundant_offset: int = at(48, "Q", "of the second grain directory")
    directory_offset: int = at(56, "Q")
    overhead_sectors: int = at(64, "Q", "before the first grain")
    unclean_shutdown: int = at(72, "B")
    newlines: bytes = at(73, "4s")
    compression: int = at(77, "H")


@record(size=512, byte_order="<", source="Virtual Disk Format 5.0, Stream-Optimized, Markers")
class Marker(Record):
    """A marker that is not a grain's."""

    value: int = at(0, "Q", "how many sectors of tables follow")
    size: int = at(8, "I", "0; a grain's marker has its compressed size here")
    kind: int = at(12, "I")


GRAIN_MARKER_BYTES = 12  # (first sector: 64 bit, size: 32 bit), then the compressed grain
