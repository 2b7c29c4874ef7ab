"""The ways to compress a new image: blocks on all processors, stored in their order."""

from __future__ import annotations

import importlib.util
import threading
import zlib
from collections.abc import Callable
from typing import TYPE_CHECKING

from zeroseal.errors import UsageError
from zeroseal.messages import images as messages

if TYPE_CHECKING:
    from zeroseal.blocks.workers import OrderedWork

SMALL, FAST, ZSTD = "small", "fast", "zstd"
COMPRESSIONS = (SMALL, FAST, ZSTD)
_MOST_WAITING = 64  # blocks that are being compressed, or wait for their turn

_SMALL_LEVEL, _FAST_LEVEL, _ZSTD_LEVEL = 6, 2, 3

Packer = Callable[[bytes], bytes]


def get_packer(compression: str, window_bits: int = zlib.MAX_WBITS) -> Packer:
    """What compresses a block; used by several threads at once.

    Args:
        compression: one of ``COMPRESSIONS``. ``small`` and ``fast`` are both deflate: the first as
            zlib packs it, the second as ISA-L does, some ten times as fast and a tenth larger.
        window_bits: of deflate, as ``zlib.compressobj`` takes it; negative for a raw stream.

    Raises:
        UsageError: what ``fast`` needs is not there.
    """
    if compression == ZSTD:
        return _zstd_packer()
    if compression == SMALL:
        return lambda block: _deflate(zlib, _SMALL_LEVEL, window_bits, block)
    if importlib.util.find_spec("isal") is None:
        raise UsageError(messages.COMPRESS_FAST_NEEDS_PACKAGE_ISAL)
    from isal import isal_zlib

    return lambda block: _deflate(isal_zlib, _FAST_LEVEL, window_bits, block)


def packing_in_order(
    compression: str, window_bits: int = zlib.MAX_WBITS
) -> OrderedWork[tuple[int, bytes], tuple[int, bytes, bytes]]:
    """Takes (offset, block), gives (offset, block, packed); see ``get_packer``.

    Raises:
        UsageError: as there.
    """
    from zeroseal.blocks.workers import OrderedWork  # the command line only asks for the kinds

    pack = get_packer(compression, window_bits)

    def work(item: tuple[int, bytes]) -> tuple[int, bytes, bytes]:
        return *item, pack(item[1])

    return OrderedWork(work, _MOST_WAITING)


def _deflate(library: object, level: int, window_bits: int, block: bytes) -> bytes:
    deflater = library.compressobj(level, zlib.DEFLATED, window_bits)  # type: ignore[attr-defined]
    packed: bytes = deflater.compress(block) + deflater.flush()
    return packed


def _zstd_packer() -> Packer:
    import zstandard

    own = threading.local()  # a compressor serves one thread at a time

    def pack(block: bytes) -> bytes:
        if not hasattr(own, "compressor"):
            own.compressor = zstandard.ZstdCompressor(level=_ZSTD_LEVEL)
        packed: bytes = own.compressor.compress(block)
        return packed

    return pack
