"""The names of hosts in LVM's metadata: found, and taken out of every live copy.

``creation_host`` stands in the text for each logical volume, and once more in the text's header
with the kernel's release behind it, which each command that changes the group writes again. No
command of LVM edits either. The header also keeps the command line (``description``).

A text becomes shorter and stays where it is, with the number of its history: all copies of a group
are changed alike, and LVM compares them. What stood behind the new end is zeroed; earlier texts in
the ring belong to nothing and are zeroed with the other gaps (``volumes/gaps.py``).

Source: LVM2 ``lib/format_text/export.c`` (``_print_header``, ``_print_lv``) and ``import_vsn1.c``,
which takes an empty name.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from zeroseal.blocks.patches import Patch
from zeroseal.blocks.store import Store
from zeroseal.volumes.lvm import layout
from zeroseal.volumes.lvm.layout import AreaHeader, TextLocation
from zeroseal.volumes.lvm.read import PhysicalVolume, text_ranges

_WHAT = "LVM metadata"
_NAMES = re.compile(
    rb"^(?P<key>[ \t]*(?:creation_host|description) = )"
    rb'"(?P<name>(?:[^"\\]|\\.)*)"(?P<note>[^\n]*)$',
    re.MULTILINE,
)


def iter_host_patches(volume: PhysicalVolume) -> Iterator[Patch]:
    """Yields what takes the names of hosts out of the live texts of a physical volume."""
    for area in volume.areas:
        text = _live_text(volume.store, area)
        cleaned = _NAMES.sub(rb'\g<key>""', text)
        if cleaned != text:
            names = sum(len(hit["name"]) + len(hit["note"]) for hit in _NAMES.finditer(text))
            yield from _text_patches(volume.store, area, text, cleaned, names)


def _location(store: Store, offset: int) -> tuple[bytearray, TextLocation]:
    raw = bytearray(store.read(offset, layout.AREA_HEADER_BYTES))
    at = AreaHeader.SIZE
    return raw, TextLocation.parse(bytes(raw[at : at + TextLocation.SIZE]))


def _live_text(store: Store, area: tuple[int, int]) -> bytes:
    """The text that an area's header points to; empty where it holds none."""
    offset, area_bytes = area
    _raw, location = _location(store, offset)
    if not location.offset or not location.length or location.flags & layout.IGNORED:
        return b""
    pieces = text_ranges(location, area_bytes)
    return b"".join(store.read(offset + start, length) for start, length in pieces)


def _text_patches(
    store: Store, area: tuple[int, int], old: bytes, new: bytes, stale_bytes: int
) -> Iterator[Patch]:
    """A shorter text over the live one, zeros behind it, and the header's checksums.

    ``stale_bytes`` of it are names; the rest moves up.
    """
    offset, area_bytes = area
    raw, location = _location(store, offset)
    padded, written, messages = new.ljust(len(old), b"\0"), 0, stale_bytes
    for start, length in text_ranges(location, area_bytes):
        piece = padded[written : written + length]
        yield Patch(offset + start, length, _WHAT, piece, messages)
        written, messages = written + length, 0
    location.length, location.crc = len(new), layout.crc_of(new)
    at = AreaHeader.SIZE
    raw[at : at + TextLocation.SIZE] = location.build()
    header = AreaHeader.parse(bytes(raw[:at]))
    header.crc = layout.crc_of(bytes(raw[4:]))
    raw[:at] = header.build()
    yield Patch(offset, len(raw), _WHAT, bytes(raw))
