"""XPRESS with Huffman codes: how the system's overlay filter compresses files in chunks.

Source: [MS-XCA] 2.1 and 2.2.
"""

from __future__ import annotations

from zeroseal.filesystems.ntfs.lznt1 import CompressionError
from zeroseal.messages import ntfs as messages

_SYMBOLS, _TABLE_BYTES, _MOST_BITS = 512, 256, 15


def decompress(raw: bytes, length: int) -> bytes:
    """Decompresses one chunk of ``length`` bytes.

    Raises:
        CompressionError: the data cannot be decompressed.
    """
    table = _decoding_table(raw[:_TABLE_BYTES])
    bits = _Bits(raw, _TABLE_BYTES)
    out = bytearray()
    while len(out) < length:
        symbol, size = table[bits.peek()]
        if not size:
            raise CompressionError(messages.CODE_UNKNOWN)
        bits.drop(size)
        if symbol < 256:
            out.append(symbol)
            continue
        symbol -= 256
        count = symbol & 15
        if count == 15:
            count = bits.long_count()
        count += 3
        distance_bits = symbol >> 4
        distance = (1 << distance_bits) + bits.take(distance_bits)
        if distance > len(out) or len(out) + count > length:
            raise CompressionError(messages.MATCH_REFERS_OUTSIDE_DATA)
        while count > 0:
            piece = out[-distance:][:count]
            out += piece
            count -= len(piece)
    return bytes(out)


def _decoding_table(raw: bytes) -> list[tuple[int, int]]:
    """(symbol, length of its code) for each value of the next 15 bits."""
    if len(raw) < _TABLE_BYTES:
        raise CompressionError(messages.CODE_TABLE_TRUNCATED)
    lengths = [value for byte in raw for value in (byte & 15, byte >> 4)]
    table: list[tuple[int, int]] = []
    for size in range(1, _MOST_BITS + 1):
        for symbol in range(_SYMBOLS):
            if lengths[symbol] == size:
                table += [(symbol, size)] * (1 << (_MOST_BITS - size))
        if len(table) > 1 << _MOST_BITS:
            raise CompressionError(messages.CODE_TABLE_TOO_MANY_CODES)
    return table + [(0, 0)] * ((1 << _MOST_BITS) - len(table))


class _Bits:
    """Bits in words of 16, with whole bytes in between."""

    def __init__(self, raw: bytes, position: int) -> None:
        self._raw, self._position = raw, position
        self._value = self._word() << 16 | self._word()
        self._left = 16  # bits that may be dropped before the next word is needed

    def peek(self) -> int:
        """The next 15 bits."""
        return self._value >> 17 & 0x7FFF

    def drop(self, count: int) -> None:
        """Goes on by some bits."""
        self._value = self._value << count & 0xFFFFFFFF
        self._left -= count
        if self._left < 0:
            self._value |= self._word() << -self._left
            self._left += 16

    def take(self, count: int) -> int:
        """The next bits as a number."""
        value = self._value >> (32 - count) if count else 0
        self.drop(count)
        return value

    def long_count(self) -> int:
        """A count of 15 and more, in bytes between the words."""
        count = self._byte()
        if count < 255:
            return count + 15
        count = self._byte() | self._byte() << 8
        if count:
            if count < 15:
                raise CompressionError(messages.COUNT_TOO_SMALL)
            return count
        count = self._byte() | self._byte() << 8 | self._byte() << 16 | self._byte() << 24
        if count < 15:
            raise CompressionError(messages.COUNT_TOO_SMALL)
        return count

    def _byte(self) -> int:
        if self._position >= len(self._raw):
            raise CompressionError(messages.DATA_TRUNCATED)
        self._position += 1
        return self._raw[self._position - 1]

    def _word(self) -> int:
        word = int.from_bytes(self._raw[self._position : self._position + 2], "little")
        self._position += 2
        return word
