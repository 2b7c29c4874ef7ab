"""The compressions of qcow2's clusters: raw deflate with a window of 4 KiB, and zstd."""

from __future__ import annotations

import zlib

from zeroseal.images.qcow2 import layout

WINDOW_BITS = -12  # raw deflate, 4 KiB window: what readers of the format allow for
_READ_WINDOW_BITS = -15  # whoever wrote a larger window is read all the same


class UnpackError(ValueError):
    """A compressed cluster does not inflate."""


def unpack(compression: int, packed: bytes, size_bytes: int) -> bytes:
    """Inflates at most ``size_bytes``; what follows the stream is not looked at.

    Raises:
        UnpackError: the bytes are no such stream.
    """
    if compression == layout.ZSTD:
        import zstandard  # few images need it

        try:
            with zstandard.ZstdDecompressor().stream_reader(packed) as reader:
                return reader.read(size_bytes)
        except zstandard.ZstdError as error:
            raise UnpackError(str(error)) from error
    try:
        return zlib.decompressobj(_READ_WINDOW_BITS).decompress(packed, size_bytes)
    except zlib.error as error:
        raise UnpackError(str(error)) from error
