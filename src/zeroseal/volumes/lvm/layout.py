"""LVM2 on disk: labels and the headers of metadata areas; all little-endian."""

from __future__ import annotations

import re
import zlib
from itertools import pairwise

from zeroseal.blocks.records import Record, at, record

SECTOR_BYTES = 512
LABEL_SECTORS = 4
LABEL_MAGIC, LABEL_TYPE = b"LABELONE", b"LVM2 001"
AREA_MAGIC = b"\x20\x4c\x56\x4d\x32\x20\x78\x5b\x35\x41\x25\x72\x30\x4e\x2a\x3e"
AREA_HEADER_BYTES = 512
MAX_METADATA_BYTES = 64 << 20
IGNORED = 1  # flag of a metadata area's location: the area is not in use
_CRC_START = 0xF597A6CF
SEQUENCE_NUMBER = re.compile(r"seqno = (\d+)")  # of a metadata text


@record(size=32, byte_order="<", source="LVM2 lib/label/label.h, struct label_header")
class LabelHeader(Record):
    """The label."""

    magic: bytes = at(0, "8s")
    sector: int = at(8, "Q")
    crc: int = at(16, "I", "of the sector from byte 20")
    offset_bytes: int = at(20, "I", "of the physical volume's header, from the label")
    kind: bytes = at(24, "8s")


@record(size=40, byte_order="<", source="LVM2 lib/format_text/layout.h, struct pv_header")
class PvHeader(Record):
    """The physical volume's header; lists of (offset, size) follow: data areas, then metadata."""

    uuid: bytes = at(0, "32s")
    device_bytes: int = at(32, "Q")


@record(size=40, byte_order="<", source="LVM2 lib/format_text/layout.h, struct mda_header")
class AreaHeader(Record):
    """The head of a metadata area; locations of text follow."""

    crc: int = at(0, "I", "of the 512 bytes from byte 4")
    magic: bytes = at(4, "16s")
    version: int = at(20, "I")
    start: int = at(24, "Q", "of the area on the physical volume")
    area_bytes: int = at(32, "Q")


@record(size=24, byte_order="<", source="LVM2 lib/format_text/layout.h, struct raw_locn")
class TextLocation(Record):
    """Where a text lies in its area; it may wrap to the byte behind the header."""

    offset: int = at(0, "Q")
    length: int = at(8, "Q")
    crc: int = at(16, "I")
    flags: int = at(20, "I")


def crc_of(raw: bytes) -> int:
    """LVM2's checksum: CRC-32 without the inversions, from a start value of its own."""
    return zlib.crc32(raw, _CRC_START ^ 0xFFFFFFFF) ^ 0xFFFFFFFF


def uuid_text(raw: str) -> str:
    """A UUID with its dashes, as LVM2 prints it."""
    cuts = (0, 6, 10, 14, 18, 22, 26, 32)
    return "-".join(raw[a:b] for a, b in pairwise(cuts))
