"""VDI on disk: one header; all little-endian."""

from __future__ import annotations

from zeroseal.blocks.records import Record, at, record

SIGNATURE = 0xBEDA107F
VERSION = 0x00010001
DYNAMIC, FIXED = 1, 2
KIND_NAMES = {3: "undo", 4: "differencing"}
UNALLOCATED, DISCARDED = 0xFFFFFFFF, 0xFFFFFFFE
BLOCK_BYTES = 1 << 20
TABLE_OFFSET = 512
HEADER_BYTES = 0x190  # as the header counts itself, from byte 0x48
TEXT = b"<<< Zero Seal VDI Disk Image >>>\n"


@record(size=512, byte_order="<", source="QEMU block/vdi.c, VdiHeader")
class VdiHeader(Record):
    """The header."""

    text: bytes = at(0x00, "64s")
    signature: int = at(0x40, "I")
    version: int = at(0x44, "I")
    header_bytes: int = at(0x48, "I")
    kind: int = at(0x4C, "I", "1 dynamic, 2 fixed, 3 undo, 4 differencing")
    flags: int = at(0x50, "I")
    description: bytes = at(0x54, "256s")
    table_offset: int = at(0x154, "I")
    data_offset: int = at(0x158, "I")
    sector_bytes: int = at(0x168, "I")
    size_bytes: int = at(0x170, "Q", "of the virtual disk")
    block_bytes: int = at(0x178, "I")
    block_extra: int = at(0x17C, "I", "bytes before each block's data")
    block_count: int = at(0x180, "I")
    allocated_count: int = at(0x184, "I")
    image_id: bytes = at(0x188, "16s")
    change_id: bytes = at(0x198, "16s", "new whenever the contents change")
    link_id: bytes = at(0x1A8, "16s")
    parent_id: bytes = at(0x1B8, "16s")
