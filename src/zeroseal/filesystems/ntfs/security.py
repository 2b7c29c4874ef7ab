"""Security descriptors: ``$Secure`` holds each once, files name them by number.

``$SDS`` is the stream of descriptors, in blocks of 256 KiB that are each followed by a copy;
``$SII`` finds them by number, ``$SDH`` by their hash.

Source: ``ntfs-3g/layout.h``, SECURITY_DESCRIPTOR_HEADER and what follows.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass

from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.layout import DescriptorHeader

BY_ID_INDEX, BY_HASH_INDEX, STREAM = "$SII", "$SDH", "$SDS"
FIRST_ID = 0x100
_BOTH = 2 * layout.SDS_BLOCK_BYTES


@dataclass(frozen=True)
class StoredDescriptor:
    """A descriptor as ``$SDS`` holds it."""

    header: DescriptorHeader
    content: bytes

    @property
    def hash_fits(self) -> bool:
        """Whether the stored hash is that of the content."""
        return self.header.hash == hash_descriptor(self.content)


def hash_descriptor(content: bytes) -> int:
    """The hash of a descriptor: rotate by three, add the next 32 bits."""
    value = 0
    for (word,) in struct.iter_unpack("<I", content[: len(content) & ~3]):
        value = (word + (value << 3 | value >> 29)) & 0xFFFFFFFF
    return value


def iter_descriptors(stream: bytes) -> Iterator[StoredDescriptor]:
    """Yields the descriptors of a ``$SDS`` stream; its copies are passed over."""
    position, size = 0, len(stream)
    while position + DescriptorHeader.SIZE <= size:
        header = DescriptorHeader.parse(stream[position : position + DescriptorHeader.SIZE])
        end = position + header.length
        if header.length <= DescriptorHeader.SIZE or not header.id or end > size:
            # the rest of a block may be empty
            position = next_block(position) if header.length or position % 16 else position + 16
            if _in_copy(position):
                position = next_block(position)
            continue
        content = stream[position + DescriptorHeader.SIZE : end]
        yield StoredDescriptor(header, content)
        position = (end + 15) & ~15
        if _in_copy(position):
            position = next_block(position)


def next_block(position: int) -> int:
    """Where the next block begins behind a position, its copy passed over."""
    return (position // _BOTH + 1) * _BOTH


def _in_copy(position: int) -> bool:
    return position % _BOTH >= layout.SDS_BLOCK_BYTES


def place_descriptor(end: int, length: int) -> int:
    """Where a new descriptor of ``length`` bytes (with header) goes in a stream that ends there."""
    position = (end + 15) & ~15
    if _in_copy(position) or position % _BOTH + length > layout.SDS_BLOCK_BYTES:
        position = next_block(position)
    return position
