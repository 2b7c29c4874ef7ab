"""GRUB's core image for BIOS: what is packed into it, and the same with other bytes.

The image begins with a sector that loads the rest. Behind it come a decompressor and, packed with
LZMA, the kernel with its modules, the prefix (such as ``(lvmid/...)/boot/grub``) and a script that
looks for a volume by its UUID. Where it is embedded on a disk, redundancy for an error correction
may follow; the decompressor skips the correction where the length of that is 0.

Source: GRUB 2.06 ``include/grub/offsets.h`` (GRUB_DECOMPRESSOR_I386_PC_*),
``grub-core/boot/i386/pc/startup_raw.S``, ``util/mkimage.c`` (``compress_kernel_lzma``).
"""

from __future__ import annotations

import lzma
from collections.abc import Callable
from dataclasses import dataclass

from zeroseal.blocks.records import Record, at, record
from zeroseal.messages import guests as messages

_SECTOR = 512
_LOADER_MARK = b"loading\0"  # what the first sector prints
_MODULES = b"mimg"  # GRUB_MODULE_MAGIC: before the modules
_MOST_DECOMPRESSOR_BYTES, _LEAST_DECOMPRESSOR_BYTES = 9 << 10, 0x1C
_MOST_BYTES = 4 << 20
_FILTER = {
    "id": lzma.FILTER_LZMA1,
    "preset": 9 | lzma.PRESET_EXTREME,
    "dict_size": 1 << 16,
    "lc": 3,
    "lp": 0,
    "pb": 2,
}


@record(size=28, byte_order="<", source="GRUB 2.06 include/grub/offsets.h")
class Decompressor(Record):
    """The head of the decompressor, at the second sector of the image."""

    packed_bytes: int = at(0x08, "I")
    unpacked_bytes: int = at(0x0C, "I")
    redundancy_bytes: int = at(0x10, "I", "behind the packed bytes; 0 for none")


@dataclass(frozen=True)
class GrubCore:
    """A core image that was taken apart.

    Attributes:
        raw: the image, what may follow it in its place with it.
        packed_at: where the packed part begins.
        content: that part, unpacked.
    """

    raw: bytes
    packed_at: int
    content: bytes

    @property
    def end(self) -> int:
        """Where the image ends, its redundancy with it: whole sectors are loaded."""
        head = _head_of(self.raw)
        end = self.packed_at + head.packed_bytes + head.redundancy_bytes
        return -(-end // _SECTOR) * _SECTOR

    def changed(self, change: Callable[[bytes], bytes]) -> bytes:
        """The image with its packed part changed, but not in length.

        Raises:
            ValueError: packed again it no longer fits.
        """
        content = change(self.content)
        if content == self.content:
            return self.raw
        packed = lzma.compress(content, lzma.FORMAT_RAW, filters=[_FILTER])
        if self.packed_at + len(packed) > self.end:
            raise ValueError(messages.CORE_IMAGE_TOO_LONG)
        head = _head_of(self.raw)
        head.packed_bytes, head.redundancy_bytes = len(packed), 0
        before = self.raw[:_SECTOR] + head.build()
        before += self.raw[len(before) : self.packed_at]
        made = before + packed.ljust(min(self.end, len(self.raw)) - self.packed_at, b"\0")
        return made + self.raw[len(made) :]


def is_grub_core(raw: bytes) -> bool:
    """Whether bytes begin as a core image does."""
    return _LOADER_MARK in raw[:_SECTOR]


def parse_grub_core(raw: bytes) -> GrubCore:
    """Takes a core image apart.

    Args:
        raw: the image, or the area of a disk that it is embedded in.

    Raises:
        ValueError: it is none, or is not packed as those for BIOS are.
    """
    if not is_grub_core(raw) or len(raw) < _SECTOR + _MOST_DECOMPRESSOR_BYTES:
        raise ValueError(messages.NO_CORE_IMAGE)
    head = _head_of(raw)
    if not 0 < head.packed_bytes < len(raw) or not 0 < head.unpacked_bytes < _MOST_BYTES:
        raise ValueError(messages.NO_CORE_IMAGE)
    first = _SECTOR + _LEAST_DECOMPRESSOR_BYTES
    # a packed part begins with a zero; where it does is written nowhere
    for at_byte in range(first, _SECTOR + _MOST_DECOMPRESSOR_BYTES):
        if raw[at_byte] == 0 and (content := _unpack(raw, at_byte, head)):
            return GrubCore(raw, at_byte, content)
    raise ValueError(messages.NO_CORE_IMAGE)


def _head_of(raw: bytes) -> Decompressor:
    return Decompressor.parse(raw[_SECTOR : _SECTOR + Decompressor.SIZE])


def _unpack(raw: bytes, at_byte: int, head: Decompressor) -> bytes:
    """What is packed there; empty where that is not the place."""
    unpacker = lzma.LZMADecompressor(lzma.FORMAT_RAW, filters=[_FILTER])
    packed = raw[at_byte : at_byte + head.packed_bytes]
    try:
        start = unpacker.decompress(packed[:4096], 1 << 12)  # enough to tell a wrong place
        content = start + unpacker.decompress(packed[4096:], head.unpacked_bytes - len(start))
    except lzma.LZMAError:
        return b""
    is_whole = len(content) == head.unpacked_bytes and _MODULES in content
    return content if is_whole else b""
