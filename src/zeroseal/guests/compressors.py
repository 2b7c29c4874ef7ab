"""The compressors of files and of initramfs archives: opening what they packed, and packing again.

Formats: RFC 1952 (gzip), bzip2, the .xz and .lzma file formats, RFC 8878 (zstd), and LZ4 as frames
and in the *legacy* form that the kernel reads (``lz4 -l``: a magic, then blocks of 8 MiB, each with
its packed size before it).
"""

from __future__ import annotations

import bz2
import io
import lzma
import struct
import zipfile
import zlib
from collections.abc import Iterator
from enum import Enum
from typing import IO

import lz4.block
import lz4.frame
import zstandard

from zeroseal.messages import guests as messages

_PIECE_BYTES = 4 << 20
_ZSTD_FEED_BYTES = 4 << 10
_LZ4_LEGACY_MAGIC = b"\x02!L\x18"
_LZ4_BLOCK_BYTES = 8 << 20
_SPARE = 64  # lz4 may grow what it cannot pack


class Packing(Enum):
    """How something is packed."""

    GZIP = "gzip"
    BZIP2 = "bzip2"
    XZ = "xz"
    LZMA = "lzma"
    ZSTD = "zstd"
    LZ4 = "lz4"
    LZ4_LEGACY = "lz4 (legacy)"
    ZIP = "zip"


_MAGICS = (
    (b"\x1f\x8b", Packing.GZIP),
    (b"BZh", Packing.BZIP2),
    (b"\xfd7zXZ\0", Packing.XZ),
    (b"\x5d\0\0", Packing.LZMA),
    (b"\x28\xb5\x2f\xfd", Packing.ZSTD),
    (b'\x04"M\x18', Packing.LZ4),
    (_LZ4_LEGACY_MAGIC, Packing.LZ4_LEGACY),
    (b"PK\x03\x04", Packing.ZIP),
)

UNPACK_ERRORS = (
    OSError, EOFError, ValueError, RuntimeError, NotImplementedError, zlib.error, struct.error,
    lzma.LZMAError, zipfile.BadZipFile, zstandard.ZstdError, lz4.block.LZ4BlockError,
)  # fmt: skip
"""What the libraries raise for damaged or unsupported data."""


def find_packing(raw: bytes) -> Packing | None:
    """How something is packed, by its first bytes."""
    return next((packing for magic, packing in _MAGICS if raw.startswith(magic)), None)


def iter_unpacked(raw: bytes) -> Iterator[bytes]:
    """Yields what a packed file holds, in pieces; nothing of one that is not packed.

    Raises:
        UNPACK_ERRORS: it is damaged or has a feature that is not supported.
    """
    match find_packing(raw):
        case Packing.GZIP:
            yield from _iter_gzip(raw)
        case Packing.BZIP2:
            with bz2.BZ2File(io.BytesIO(raw)) as file:
                yield from _iter_pieces(file)
        case Packing.XZ | Packing.LZMA:
            with lzma.LZMAFile(io.BytesIO(raw)) as xz_file:
                yield from _iter_pieces(xz_file)
        case Packing.ZSTD:
            reader = zstandard.ZstdDecompressor().stream_reader(raw, read_across_frames=True)
            yield from _iter_pieces(reader)
        case Packing.LZ4:
            with lz4.frame.LZ4FrameFile(io.BytesIO(raw)) as lz4_file:
                yield from _iter_pieces(lz4_file)
        case Packing.LZ4_LEGACY:
            for piece, _end in _iter_lz4_legacy(raw):
                yield piece
        case Packing.ZIP:
            with zipfile.ZipFile(io.BytesIO(raw)) as archive:
                for name in archive.namelist():
                    with archive.open(name) as member:
                        yield from _iter_pieces(member)
        case None:
            return


def unpack_first(raw: bytes, packing: Packing, limit_bytes: int) -> tuple[bytes | bytearray, bytes]:
    """(content, what follows) of the packed stream that ``raw`` begins with.

    Raises:
        UNPACK_ERRORS: it is damaged, holds more than ``limit_bytes``, or is not one stream.
    """
    content: bytes | bytearray
    match packing:
        case Packing.GZIP:
            inflater = zlib.decompressobj(31)
            content = inflater.decompress(raw, limit_bytes + 1)
            rest = inflater.unused_data
            _check_whole(inflater.eof or len(content) > limit_bytes)
        case Packing.BZIP2:
            bzip2 = bz2.BZ2Decompressor()
            content = bzip2.decompress(raw, limit_bytes + 1)
            rest = bzip2.unused_data
            _check_whole(bzip2.eof or len(content) > limit_bytes)
        case Packing.XZ | Packing.LZMA:
            xz = lzma.LZMADecompressor(memlimit=1 << 30)
            content = xz.decompress(raw, limit_bytes + 1)
            rest = xz.unused_data
            _check_whole(xz.eof or len(content) > limit_bytes)
        case Packing.ZSTD:
            content, rest = _unpack_zstd(raw, limit_bytes)
        case Packing.LZ4_LEGACY:
            content, rest = b"", raw[4:]
            for piece, end in _iter_lz4_legacy(raw):
                content, rest = content + piece, raw[end:]
                if len(content) > limit_bytes:
                    break
        case Packing.LZ4 | Packing.ZIP:
            raise ValueError(
                messages.NOT_AN_INITRAMFS_COMPRESSION.format(compression=packing.value)
            )
    if len(content) > limit_bytes:
        raise ValueError(messages.LARGER_THAN_ALLOWED)
    return content, rest


def pack(content: bytes, packing: Packing) -> bytes:
    """Packs content so that a kernel can open it (``lib/decompress_*.c``).

    Raises:
        ValueError: the kernel has no such packing.
    """
    match packing:
        case Packing.GZIP:
            deflater = zlib.compressobj(9, wbits=31)
            return deflater.compress(content) + deflater.flush()
        case Packing.BZIP2:
            return bz2.compress(content)
        case Packing.XZ:  # the kernel knows no check but CRC-32
            filters = [{"id": lzma.FILTER_LZMA2, "preset": 6, "dict_size": 1 << 20}]
            return lzma.compress(content, check=lzma.CHECK_CRC32, filters=filters)
        case Packing.LZMA:
            return lzma.compress(content, format=lzma.FORMAT_ALONE)
        case Packing.ZSTD:
            return zstandard.ZstdCompressor(level=9, write_checksum=True).compress(content)
        case Packing.LZ4_LEGACY:
            return _LZ4_LEGACY_MAGIC + b"".join(_pack_lz4_blocks(content))
        case Packing.LZ4 | Packing.ZIP:
            raise ValueError(
                messages.NOT_AN_INITRAMFS_COMPRESSION.format(compression=packing.value)
            )


def _unpack_zstd(raw: bytes, limit_bytes: int) -> tuple[bytearray, bytes]:
    """Fed little by little: a few bytes can stand for a large block."""
    decompressor = zstandard.ZstdDecompressor().decompressobj()
    content = bytearray()
    for start in range(0, len(raw), _ZSTD_FEED_BYTES):
        content += decompressor.decompress(raw[start : start + _ZSTD_FEED_BYTES])
        if decompressor.eof:
            following = raw[start + _ZSTD_FEED_BYTES :]
            return content, decompressor.unused_data + following
        if len(content) > limit_bytes:
            return content, b""
    raise EOFError(messages.TRUNCATED)


def _check_whole(is_whole: bool) -> None:
    if not is_whole:
        raise EOFError(messages.TRUNCATED)


def _iter_gzip(raw: bytes) -> Iterator[bytes]:
    """Members one after the other; what follows the last one is padding."""
    while raw.startswith(b"\x1f\x8b"):
        inflater = zlib.decompressobj(31)
        pending = raw
        while not inflater.eof:
            piece = inflater.decompress(pending, _PIECE_BYTES)
            pending = inflater.unconsumed_tail
            if piece:
                yield piece
            elif not pending and not inflater.eof:
                raise EOFError(messages.TRUNCATED)
        raw = inflater.unused_data.lstrip(b"\0")


def _iter_lz4_legacy(raw: bytes) -> Iterator[tuple[bytes, int]]:
    """(content, where it ended) of each block, up to what cannot be the size of one."""
    position = 4
    while position + 4 <= len(raw):
        size = int.from_bytes(raw[position : position + 4], "little")
        if size == int.from_bytes(_LZ4_LEGACY_MAGIC, "little"):
            position += 4  # another stream follows at once
            continue
        if not 0 < size <= _LZ4_BLOCK_BYTES + _LZ4_BLOCK_BYTES // 255 + _SPARE:
            return
        start = position + 4
        position = start + size
        _check_whole(position <= len(raw))
        yield lz4.block.decompress(raw[start:position], _LZ4_BLOCK_BYTES), position


def _pack_lz4_blocks(content: bytes) -> Iterator[bytes]:
    for start in range(0, len(content), _LZ4_BLOCK_BYTES):
        block = content[start : start + _LZ4_BLOCK_BYTES]
        packed = lz4.block.compress(block, mode="high_compression", store_size=False)
        yield len(packed).to_bytes(4, "little") + packed


def _iter_pieces(reader: IO[bytes]) -> Iterator[bytes]:
    while piece := reader.read(_PIECE_BYTES):
        yield piece
