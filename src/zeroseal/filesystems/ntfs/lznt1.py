"""LZNT1, by which NTFS compresses streams: chunks of 4 KiB, each with a head of two bytes.

Source: [MS-XCA] 2.5; ``ntfs-3g/compress.h``.
"""

from __future__ import annotations

from zeroseal.messages import ntfs as messages

_CHUNK_BYTES = 4096


class CompressionError(ValueError):
    """Compressed data contradicts itself."""


def decompress(raw: bytes, length: int) -> bytes:
    """Decompresses up to ``length`` bytes; what is not there reads as zeros.

    Raises:
        CompressionError: the data cannot be decompressed.
    """
    out = bytearray()
    position = 0
    while position + 2 <= len(raw) and len(out) < length:
        head = int.from_bytes(raw[position : position + 2], "little")
        if not head:
            break
        end = position + 3 + (head & 0xFFF)
        if end > len(raw):
            raise CompressionError(messages.CHUNK_EXTENDS_PAST_END)
        chunk = raw[position + 2 : end]
        plain = _decompress_chunk(chunk) if head & 0x8000 else chunk
        out += plain
        if end < len(raw) and len(out) < length:  # only the last chunk may be short
            out += bytes(-len(out) % _CHUNK_BYTES)
        position = end
    return bytes(out[:length]).ljust(length, b"\0")


def stored_bytes(raw: bytes, length: int) -> int:
    """How many bytes the chunks of ``length`` bytes of content take, their end mark included."""
    position = 0
    for _chunk in range(-(-length // _CHUNK_BYTES)):
        head = int.from_bytes(raw[position : position + 2], "little")
        if not head or position + 2 > len(raw):
            break
        position = min(len(raw), position + 3 + (head & 0xFFF))
    return min(len(raw), position + 2)


def _decompress_chunk(chunk: bytes) -> bytearray:
    out = bytearray()
    position, size = 0, len(chunk)
    while position < size:
        flags = chunk[position]
        position += 1
        for bit in range(8):
            if position >= size:
                break
            if not flags >> bit & 1:
                out.append(chunk[position])
                position += 1
                continue
            if position + 2 > size or not out:
                raise CompressionError(messages.PHRASE_TRUNCATED)
            phrase = chunk[position] | chunk[position + 1] << 8
            position += 2
            split = max(4, (len(out) - 1).bit_length())  # bits of the distance
            length_bits = 16 - split
            distance = (phrase >> length_bits) + 1
            length = (phrase & ((1 << length_bits) - 1)) + 3
            if distance > len(out) or len(out) + length > _CHUNK_BYTES:
                raise CompressionError(messages.PHRASE_REFERS_OUTSIDE_CHUNK)
            for _ in range(-(-length // distance)):
                piece = out[-distance:] if length >= distance else out[-distance:][:length]
                out += piece[:length]
                length -= len(piece)
                if length <= 0:
                    break
    return out
