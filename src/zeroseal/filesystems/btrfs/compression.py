"""Packing and unpacking the content of files: zlib, zstd, and LZO as btrfs cuts it in segments.

Source: the kernel's fs/btrfs/lzo.c (framing) and the LZO1X stream format (Documentation/
staging/lzo.rst).
"""

from __future__ import annotations

import zlib

import zstandard

from zeroseal.filesystems.btrfs import layout
from zeroseal.messages import btrfs as messages

_MOST_BYTES = 1 << 28


def unpack(
    packing: int, stored: bytes, plain_bytes: int, sector_bytes: int, skip_bytes: int = 0
) -> bytes:
    """The content of a packed extent.

    So much of its beginning as ``skip_bytes`` says need not be right, where that saves time.

    Raises:
        ValueError: it is not what the packing makes.
    """
    if plain_bytes > _MOST_BYTES:
        raise ValueError(messages.EXTENT_TOO_LARGE)
    try:
        if packing == layout.ZLIB:
            found = zlib.decompressobj().decompress(stored, plain_bytes)
        elif packing == layout.ZSTD:
            reader = zstandard.ZstdDecompressor().decompressobj()
            found = reader.decompress(stored)[:plain_bytes]
        elif packing == layout.LZO:
            found = _unpack_segments(stored, plain_bytes, sector_bytes, skip_bytes)
        else:
            raise ValueError(messages.PACKING_NOT_KNOWN.format(packing=packing))
    except (zlib.error, zstandard.ZstdError, IndexError) as error:
        raise ValueError(messages.EXTENT_CANNOT_BE_UNPACKED) from error
    return found.ljust(plain_bytes, b"\0")


def pack(packing: int, plain: bytes, most: int, sector_bytes: int) -> bytes | None:
    """The content of an extent, packed and filled with zeros up to ``most`` bytes.

    None where it takes more; ``packing`` is one that ``unpack`` takes.
    """
    if packing == layout.ZLIB:
        made = zlib.compress(plain, 9)
    elif packing == layout.ZSTD:
        made = zstandard.ZstdCompressor(level=19).compress(plain)
    else:
        made = _pack_segments(plain, sector_bytes)
    return made.ljust(most, b"\0") if len(made) <= most else None


def _pack_segments(plain: bytes, sector_bytes: int) -> bytes:
    made = bytearray(4)
    for start in range(0, len(plain), sector_bytes):
        left = sector_bytes - len(made) % sector_bytes
        made += bytes(left if left < 4 else 0)
        segment = _pack_lzo(plain[start : start + sector_bytes])
        made += len(segment).to_bytes(4, "little") + segment
    made[:4] = len(made).to_bytes(4, "little")
    return bytes(made)


def _pack_lzo(plain: bytes) -> bytes:
    """An LZO1X stream of literals and of matches up to 16 KiB back."""
    made, seen = bytearray(), dict[bytes, int]()
    start, at, low = 0, 0, -1  # low: where the number of few literals is noted
    while at + 4 <= len(plain):
        word = plain[at : at + 4]
        found = seen.get(word)
        seen[word] = at
        if found is None or at - found > 0x4000:
            at += 1
            continue
        length = 4
        while at + length < len(plain) and plain[found + length] == plain[at + length]:
            length += 1
        _put_literals(made, plain[start:at], low)
        made += _with_count(0x20, length - 2, 31)
        low = len(made)
        made += ((at - found - 1) << 2).to_bytes(2, "little")
        at += length
        start = at
    _put_literals(made, plain[start:], low)
    return bytes(made) + b"\x11\0\0"


def _put_literals(made: bytearray, literals: bytes, low: int) -> None:
    count = len(literals)
    if 0 < count < 4 and low >= 0:
        made[low] |= count
    elif 0 < count < 4:
        made.append(17 + count)
    elif count:
        made += _with_count(0, count - 3, 15)
    made += literals


def _with_count(sign: int, count: int, most: int) -> bytes:
    """An instruction with a length: in its own bits, or in bytes that follow it."""
    if count <= most:
        return bytes([sign | count])
    more = count - most - 1
    return bytes([sign]) + bytes(more // 255) + bytes([more % 255 + 1])


def _unpack_segments(stored: bytes, plain_bytes: int, sector_bytes: int, skip_bytes: int) -> bytes:
    """Segments with a length before each; a length does not cross the end of a sector."""
    end = min(len(stored), int.from_bytes(stored[:4], "little"))
    pieces, at, size = [], 4, 0
    while at < end and size < plain_bytes:
        if sector_bytes - at % sector_bytes < 4:
            at += sector_bytes - at % sector_bytes
        length = int.from_bytes(stored[at : at + 4], "little")
        at += 4
        if not length or at + length > len(stored):
            raise ValueError(messages.EXTENT_CANNOT_BE_UNPACKED)
        if size + sector_bytes <= skip_bytes:
            pieces.append(bytes(sector_bytes))
        else:
            pieces.append(_unpack_lzo(stored[at : at + length], sector_bytes))
        size += len(pieces[-1])
        at += length
    return b"".join(pieces)[:plain_bytes]


def _unpack_lzo(data: bytes, most: int) -> bytes:
    """An LZO1X stream, of at most so many bytes.

    Raises:
        ValueError, IndexError: it is damaged.
    """
    return _LzoStream(data, most).unpack()


class _LzoStream:
    """The state of unpacking: what a byte below 16 means depends on the literals before it."""

    def __init__(self, data: bytes, most: int) -> None:
        self.data, self.most, self.at = data, most, 0
        self.made = bytearray()
        self.before = 0  # literals that came before: 0 for none, 1 to 3, 4 for a run

    def unpack(self) -> bytes:
        """The content; a far match of no distance ends the stream."""
        if self.data[0] > 17:
            self.at = 1
            self._literals(self.data[0] - 17)
            self.before = min(self.data[0] - 17, 4)
        while self._step(self._byte()):
            pass
        return bytes(self.made)

    def _step(self, sign: int) -> bool:
        """One instruction; whether another follows."""
        if sign < 16 and self.before == 0:
            self._literals(self._count(sign, 15) + 3)
            self.before = 4
            return True
        if sign >= 64:
            low = sign
            self._copy((self._byte() << 3) + ((sign >> 2) & 7) + 1, (sign >> 5) + 1)
        elif sign >= 16:
            length = self._count(sign & (31 if sign >= 32 else 7), 31 if sign >= 32 else 7) + 2
            low = self._byte() | (self._byte() << 8)
            distance = (low >> 2) + 1
            if sign < 32:
                distance = ((sign & 8) << 11) + (low >> 2) + 0x4000
                if distance == 0x4000:
                    return False
            self._copy(distance, length)
        else:
            low = sign
            distance = (sign >> 2) + (self._byte() << 2) + 1
            self._copy(distance + (2048 if self.before == 4 else 0), 3 if self.before == 4 else 2)
        self.before = low & 3
        self._literals(self.before)
        return True

    def _byte(self) -> int:
        self.at += 1
        return self.data[self.at - 1]

    def _count(self, bits: int, base: int) -> int:
        """A length: of the instruction's own bits, or of the bytes that follow it."""
        if bits:
            return bits
        count = base
        while (more := self._byte()) == 0:
            count += 255
        return count + more

    def _literals(self, count: int) -> None:
        if self.at + count > len(self.data) or len(self.made) + count > self.most:
            raise ValueError(messages.EXTENT_CANNOT_BE_UNPACKED)
        self.made += self.data[self.at : self.at + count]
        self.at += count

    def _copy(self, distance: int, length: int) -> None:
        start = len(self.made) - distance
        if start < 0 or len(self.made) + length > self.most:
            raise ValueError(messages.EXTENT_CANNOT_BE_UNPACKED)
        piece = self.made[start : start + length]  # of a near match it is repeated
        self.made += (piece * (length // len(piece) + 1))[:length]
