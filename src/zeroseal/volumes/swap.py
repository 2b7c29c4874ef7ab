"""Swap areas of Linux: a header page, then pages of what was in memory.

Source: Linux ``include/linux/swap.h`` (``union swap_header``); the magic ends the first page.
"""

from __future__ import annotations

import uuid
from dataclasses import dataclass

from zeroseal.blocks.records import Record, at, record
from zeroseal.blocks.store import Store

PAGE_SIZES = (4096, 8192, 16384, 65536)
MAGIC = b"SWAPSPACE2"
OLD_MAGIC = b"SWAP-SPACE"
HIBERNATION_MAGICS = (b"S1SUSPEND\0", b"S2SUSPEND\0", b"LINHIB0001", b"ULSUSPEND\0")
_HEADER_OFFSET = 1024


@record(size=512, byte_order="<", source="linux/swap.h, union swap_header.info")
class SwapHeader(Record):
    """The part of the first page behind the boot bits."""

    version: int = at(0, "I")
    last_page: int = at(4, "I", "number of the last usable page")
    bad_page_count: int = at(8, "I")
    uuid: bytes = at(12, "16s")
    label: bytes = at(28, "16s")


@dataclass(frozen=True)
class SwapArea:
    """A recognised swap area; ``hibernated`` says that a sleeping system's memory is in it."""

    page_bytes: int
    uuid: str
    label: str
    hibernated: bool


def find_swap(store: Store) -> SwapArea | None:
    """Recognises a swap area."""
    for page in PAGE_SIZES:
        if store.size_bytes < page:
            return None
        magic = store.read(page - 10, 10)
        if magic in (MAGIC, OLD_MAGIC, *HIBERNATION_MAGICS):
            header = SwapHeader.parse(store.read(_HEADER_OFFSET, SwapHeader.SIZE))
            return SwapArea(
                page_bytes=page,
                uuid=str(uuid.UUID(bytes=header.uuid)) if any(header.uuid) else "",
                label=header.label.split(b"\0")[0].decode("utf-8", "replace"),
                hibernated=magic in HIBERNATION_MAGICS,
            )
    return None


def set_swap_id(store: Store, new: bytes) -> None:
    """Gives a swap area another UUID of 16 bytes."""
    store.write(_HEADER_OFFSET + SwapHeader.offset_of("uuid"), new)


def data_range(store: Store, area: SwapArea) -> tuple[int, int]:
    """(offset, length) of all that lies behind the header page."""
    return area.page_bytes, store.size_bytes - area.page_bytes
