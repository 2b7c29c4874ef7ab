"""Telling LVM that a physical volume has more room: what ``pvresize`` does, in the same places.

A new text of the group's metadata is written behind the live one in every area of every volume of
the group; only then do the areas' headers point to it.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from zeroseal.blocks.store import Store
from zeroseal.errors import DamagedError, UnsupportedError
from zeroseal.messages import volumes as messages
from zeroseal.volumes.lvm import layout
from zeroseal.volumes.lvm.layout import AreaHeader, LabelHeader, PvHeader, TextLocation
from zeroseal.volumes.lvm.read import PhysicalVolume, find_label, text_ranges

_SECTOR = layout.SECTOR_BYTES


def grow_physical_volume(
    grown: PhysicalVolume, group: Sequence[PhysicalVolume], size_bytes: int
) -> None:
    """Gives a physical volume its new size, in its label and in its group's metadata.

    Args:
        grown: the volume, on a store of the new size.
        group: all physical volumes of the disk that belong to its group, ``grown`` too.
        size_bytes: of the partition that it lies on now.

    Raises:
        UnsupportedError: its group keeps its metadata elsewhere, or in a form that is not written.
        DamagedError: its label contradicts itself.
    """
    if not grown.text:
        raise UnsupportedError(messages.NO_LVM_METADATA.format(name=grown.name))
    for volume in group:
        for area in volume.areas:
            _rewrite_area(volume.store, area, grown, size_bytes)
    _rewrite_label(grown, size_bytes)


def _rewrite_label(volume: PhysicalVolume, size_bytes: int) -> None:
    found = find_label(volume.store)
    if found is None:
        raise DamagedError(messages.NO_VALID_LVM_LABEL.format(name=volume.name))
    sector, header = found
    raw = bytearray(volume.store.read(sector * _SECTOR, _SECTOR))
    start = header.offset_bytes
    pv = PvHeader.parse(bytes(raw[start : start + PvHeader.SIZE]))
    pv.device_bytes = size_bytes
    raw[start : start + PvHeader.SIZE] = pv.build()
    header.crc = layout.crc_of(bytes(raw[20:]))
    raw[: LabelHeader.SIZE] = header.build()
    volume.store.write(sector * _SECTOR, bytes(raw))


def _rewrite_area(
    store: Store, area: tuple[int, int], grown: PhysicalVolume, size_bytes: int
) -> None:
    offset, area_bytes = area
    raw = bytearray(store.read(offset, layout.AREA_HEADER_BYTES))
    at = AreaHeader.SIZE
    location = TextLocation.parse(bytes(raw[at : at + TextLocation.SIZE]))
    if not location.offset or location.flags & layout.IGNORED:
        return
    pieces = text_ranges(location, area_bytes)
    old = b"".join(store.read(offset + start, length) for start, length in pieces)
    new = _with_size(old, grown, size_bytes)
    room = area_bytes - layout.AREA_HEADER_BYTES
    if location.length + len(new) + 2 * _SECTOR > room:
        raise UnsupportedError(messages.NO_ROOM_FOR_NEW_LVM_METADATA.format(name=grown.name))
    begin = -(-(location.offset + location.length) // _SECTOR) * _SECTOR
    if begin >= area_bytes:
        begin = begin - area_bytes + layout.AREA_HEADER_BYTES
    location.offset, location.length, location.crc = begin, len(new), layout.crc_of(new)
    written = 0
    for start, length in text_ranges(location, area_bytes):
        store.write(offset + start, new[written : written + length])
        written += length
    raw[at : at + TextLocation.SIZE] = location.build()
    header = AreaHeader.parse(bytes(raw[: AreaHeader.SIZE]))
    header.crc = layout.crc_of(bytes(raw[4:]))
    raw[: AreaHeader.SIZE] = header.build()
    store.write(offset, bytes(raw))


def _with_size(text: bytes, grown: PhysicalVolume, size_bytes: int) -> bytes:
    """The text with the volume's new size and extents, and the next number of its history."""
    words = text.decode("utf-8", "surrogateescape")
    own = re.search(
        rf'id = "{re.escape(layout.uuid_text(grown.uuid))}".*?dev_size = (\d+).*?'
        r"pe_start = (\d+).*?pe_count = (\d+)",
        words,
        re.DOTALL,
    )
    extent = re.search(r"extent_size = (\d+)", words)
    number = re.search(r"seqno = (\d+)", words)
    if not own or not extent or not number:
        raise UnsupportedError(messages.LVM_METADATA_NOT_WRITABLE.format(name=grown.name))
    sectors = size_bytes // _SECTOR
    count = (sectors - int(own[2])) // int(extent[1])
    changes = [
        (own.span(1), str(sectors)),
        (own.span(3), str(count)),
        (number.span(1), str(int(number[1]) + 1)),
    ]
    for (start, end), value in sorted(changes, reverse=True):
        words = words[:start] + value + words[end:]
    return words.encode("utf-8", "surrogateescape")
