"""Telling LVM that a physical volume has more room: what ``pvresize`` does, in the same places."""

from __future__ import annotations

import re
from collections.abc import Sequence

from zeroseal.errors import UnsupportedError
from zeroseal.messages import volumes as messages
from zeroseal.volumes.lvm import layout
from zeroseal.volumes.lvm.layout import PvHeader
from zeroseal.volumes.lvm.read import PhysicalVolume
from zeroseal.volumes.lvm.rewrite import next_number, rewrite_label, rewrite_texts

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
        rewrite_texts(volume, lambda text: _with_size(text, grown, size_bytes))

    def resize(header: PvHeader) -> None:
        header.device_bytes = size_bytes

    rewrite_label(grown, resize)


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
    if not own or not extent or not layout.SEQUENCE_NUMBER.search(words):
        raise UnsupportedError(messages.LVM_METADATA_NOT_WRITABLE.format(name=grown.name))
    sectors = size_bytes // _SECTOR
    count = (sectors - int(own[2])) // int(extent[1])
    changes = [(own.span(1), str(sectors)), (own.span(3), str(count))]
    for (start, end), value in sorted(changes, reverse=True):
        words = words[:start] + value + words[end:]
    return next_number(words).encode("utf-8", "surrogateescape")
