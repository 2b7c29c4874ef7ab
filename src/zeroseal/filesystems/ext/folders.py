"""Folders: blocks of directory entries, read and changed one block at a time.

An entry is ``(inode, rec_len, name_len, file_type, name)``; ``rec_len`` leads to the next, so that
an entry also owns the free room behind its name. With metadata_csum a block ends in a *tail* that
looks like an empty entry of 12 bytes and holds the block's checksum. The root and nodes of an htree
look like blocks with one empty entry; their own records are in ``index.py``.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from typing import NamedTuple

from zeroseal.errors import DamagedError
from zeroseal.filesystems.ext.layout import (
    ENTRY_HEADER_BYTES,
    MAX_NAME_BYTES,
    TAIL_BYTES,
    TAIL_TYPE,
)
from zeroseal.messages import ext as messages

_ENTRY = struct.Struct("<IHBB")
_HUGE_BLOCK_BYTES = 65536


class RawEntry(NamedTuple):
    """An entry in a block; ``inode`` is 0 where only its room is kept."""

    offset: int
    inode: int
    length: int
    name: bytes
    type_code: int


def iter_entries(block: bytes, has_types: bool) -> Iterator[RawEntry]:
    """Yields all entries of a block, empty ones and a tail included.

    Raises:
        DamagedError: an entry does not fit into its block.
    """
    position, size = 0, len(block)
    while position < size:
        inode, length, name_bytes, type_code = _unpack(block, position, size, has_types)
        start = position + ENTRY_HEADER_BYTES
        yield RawEntry(position, inode, length, block[start : start + name_bytes], type_code)
        position += length


def find_entry(block: bytes, name: bytes, has_types: bool) -> RawEntry | None:
    """The entry of that name, if the block has one.

    Raises:
        DamagedError: an entry before it does not fit into the block.
    """
    position, size, wanted = 0, len(block), len(name)
    while position < size:
        inode, length, name_bytes, type_code = _unpack(block, position, size, has_types)
        start = position + ENTRY_HEADER_BYTES
        if name_bytes == wanted and inode and block[start : start + wanted] == name:
            return RawEntry(position, inode, length, name, type_code)
        position += length
    return None


def _unpack(block: bytes, position: int, size: int, has_types: bool) -> tuple[int, int, int, int]:
    """(inode, length, name length, type) of the entry at a position, bounded."""
    if position + ENTRY_HEADER_BYTES > size:
        raise DamagedError(messages.DIRECTORY_ENTRY_LEAVES_BLOCK.format(position=position))
    inode, length, name_bytes, type_code = _ENTRY.unpack_from(block, position)
    if size == _HUGE_BLOCK_BYTES:
        length = _decode_length(length, size)
    if not has_types:
        name_bytes |= type_code << 8  # ext2 of old: a 16-bit name length
        type_code = 0
    if not inode:
        name_bytes = 0
    if length < ENTRY_HEADER_BYTES + name_bytes or length & 3 or position + length > size:
        raise DamagedError(messages.DIRECTORY_ENTRY_LEAVES_BLOCK.format(position=position))
    return inode, length, name_bytes, type_code


def pack_entry(inode: int, length: int, name: bytes, type_code: int, block_bytes: int) -> bytes:
    """Builds an entry of ``length`` bytes, zeros behind the name."""
    header = _ENTRY.pack(inode, _encode_length(length, block_bytes), len(name), type_code)
    return (header + name).ljust(length, b"\0")


def entry_room(name: bytes) -> int:
    """The least length of an entry with this name."""
    return ENTRY_HEADER_BYTES + (len(name) + 3) // 4 * 4


def has_tail(block: bytes | bytearray) -> bool:
    """Whether a block ends in a checksum tail."""
    return block[-TAIL_BYTES:-4] == struct.pack("<IHBB", 0, TAIL_BYTES, 0, TAIL_TYPE)


def is_index_block(logical: int, block: bytes | bytearray) -> bool:
    """Whether a block of an indexed folder belongs to the index: the root, or a node of it.

    Such blocks are told by their place or shape; behind their entries may still lie the tail of
    the leaf that they once were. Without checksums a leaf that became empty has the same shape.
    """
    inode, length = struct.unpack_from("<IH", block)
    return logical == 0 or (inode == 0 and _decode_length(length, len(block)) == len(block))


def empty_block(block_bytes: int, with_tail: bool) -> bytearray:
    """A block without names; the tail's checksum is still zero."""
    used = block_bytes - (TAIL_BYTES if with_tail else 0)
    block = bytearray(pack_entry(0, used, b"", 0, block_bytes))
    if with_tail:
        block += struct.pack("<IHBBI", 0, TAIL_BYTES, 0, TAIL_TYPE, 0)
    return block


def insert_entry(
    block: bytearray, inode: int, name: bytes, type_code: int, has_types: bool
) -> bool:
    """Puts an entry where one has room behind its name; False where none has."""
    needed = entry_room(name)
    end = len(block) - (TAIL_BYTES if has_tail(block) else 0)
    for entry in iter_entries(bytes(block), has_types):
        if entry.offset >= end:
            break
        used = entry_room(entry.name) if entry.inode else 0
        if entry.length - used < needed:
            continue
        start = entry.offset + used
        if used:
            _set_length(block, entry.offset, used)
        block[start : entry.offset + entry.length] = pack_entry(
            inode, entry.length - used, name, type_code, len(block)
        )
        return True
    return False


def remove_entry(block: bytearray, offset: int, has_types: bool) -> None:
    """Zeroes the entry at ``offset`` and gives its room to the one before it in the block."""
    before: RawEntry | None = None
    for entry in iter_entries(bytes(block), has_types):
        if entry.offset == offset:
            block[offset : offset + entry.length] = bytes(entry.length)
            if before:
                _set_length(block, before.offset, before.length + entry.length)
            else:
                _set_length(block, offset, entry.length)
            return
        before = entry
    raise ValueError(messages.NO_DIRECTORY_ENTRY_BEGINS.format(offset=offset))


def is_storable(name: bytes) -> bool:
    """Whether a folder can have that name."""
    return (
        0 < len(name) <= MAX_NAME_BYTES
        and b"/" not in name
        and b"\0" not in name
        and name not in (b".", b"..")
    )


def _set_length(block: bytearray, offset: int, length: int) -> None:
    struct.pack_into("<H", block, offset + 4, _encode_length(length, len(block)))


def _decode_length(stored: int, block_bytes: int) -> int:
    """With blocks of 64 KiB the full length does not fit its field; 0 or 65535 stand for it."""
    if block_bytes == _HUGE_BLOCK_BYTES and stored in (0, 65535):
        return _HUGE_BLOCK_BYTES
    return stored


def _encode_length(length: int, block_bytes: int) -> int:
    return 65535 if length == _HUGE_BLOCK_BYTES else length
