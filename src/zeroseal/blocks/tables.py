"""Tables of equally large integers on a disk, read and written in one go."""

from __future__ import annotations

import sys
from array import array

from zeroseal.blocks.store import Store

_NATIVE = "<" if sys.byteorder == "little" else ">"


def parse_table(raw: bytes, code: str, byte_order: str) -> array[int]:
    """Unpacks a table; ``code`` is an ``array`` type code, ``byte_order`` is ``<`` or ``>``."""
    table = array(code, raw)
    if byte_order != _NATIVE:
        table.byteswap()
    return table


def build_table(table: array[int], byte_order: str) -> bytes:
    """The table's bytes as they lie on the disk."""
    if byte_order == _NATIVE:
        return table.tobytes()
    swapped = array(table.typecode, table)
    swapped.byteswap()
    return swapped.tobytes()


def read_table(
    store: Store, offset_bytes: int, entries: int, code: str, byte_order: str
) -> array[int]:
    """Reads a table; the caller has bounded the number of entries."""
    return parse_table(store.read(offset_bytes, entries * array(code).itemsize), code, byte_order)
