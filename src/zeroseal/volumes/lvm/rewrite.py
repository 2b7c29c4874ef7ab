"""Writing labels and metadata of LVM2 anew, as its own tools do.

A new text of the group's metadata is written behind the live one in an area; only then does the
area's header point to it.
"""

from __future__ import annotations

from collections.abc import Callable

from zeroseal.errors import DamagedError, UnsupportedError
from zeroseal.messages import volumes as messages
from zeroseal.volumes.lvm import layout
from zeroseal.volumes.lvm.layout import AreaHeader, LabelHeader, PvHeader, TextLocation
from zeroseal.volumes.lvm.read import PhysicalVolume, find_label, text_ranges

_SECTOR = layout.SECTOR_BYTES


def rewrite_label(volume: PhysicalVolume, change: Callable[[PvHeader], None]) -> None:
    """Writes the label of a physical volume anew.

    Args:
        volume: whose.
        change: is given its header to change it.

    Raises:
        DamagedError: there is none that is sound.
    """
    found = find_label(volume.store)
    if found is None:
        raise DamagedError(messages.NO_VALID_LVM_LABEL.format(name=volume.name))
    sector, header = found
    raw = bytearray(volume.store.read(sector * _SECTOR, _SECTOR))
    start = header.offset_bytes
    pv = PvHeader.parse(bytes(raw[start : start + PvHeader.SIZE]))
    change(pv)
    raw[start : start + PvHeader.SIZE] = pv.build()
    header.crc = layout.crc_of(bytes(raw[20:]))
    raw[: LabelHeader.SIZE] = header.build()
    volume.store.write(sector * _SECTOR, bytes(raw))


def rewrite_texts(volume: PhysicalVolume, change: Callable[[bytes], bytes]) -> None:
    """Writes the live text of every metadata area of a physical volume anew.

    Args:
        volume: whose.
        change: is given a text and returns the new one.

    Raises:
        UnsupportedError: an area has no room for another text.
    """
    store = volume.store
    for offset, area_bytes in volume.areas:
        raw = bytearray(store.read(offset, layout.AREA_HEADER_BYTES))
        at = AreaHeader.SIZE
        location = TextLocation.parse(bytes(raw[at : at + TextLocation.SIZE]))
        if not location.offset or location.flags & layout.IGNORED:
            continue
        pieces = text_ranges(location, area_bytes)
        new = change(b"".join(store.read(offset + start, length) for start, length in pieces))
        room = area_bytes - layout.AREA_HEADER_BYTES
        if location.length + len(new) + 2 * _SECTOR > room:
            raise UnsupportedError(messages.NO_ROOM_FOR_NEW_LVM_METADATA.format(name=volume.name))
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


def zero_old_texts(volume: PhysicalVolume) -> None:
    """Zeroes what lies in the metadata areas of a physical volume beside their live text."""
    for offset, area_bytes in volume.areas:
        at = offset + AreaHeader.SIZE
        location = TextLocation.parse(volume.store.read(at, TextLocation.SIZE))
        live = text_ranges(location, area_bytes) if location.offset else []
        place = layout.AREA_HEADER_BYTES
        for start, length in [*sorted(live), (area_bytes, 0)]:
            volume.store.zero(offset + place, max(0, start - place))
            place = start + length


def next_number(words: str) -> str:
    """A text with the next number of its history; as it is where it has none."""
    found = layout.SEQUENCE_NUMBER.search(words)
    if not found:
        return words
    return words[: found.start(1)] + str(int(found[1]) + 1) + words[found.end(1) :]
