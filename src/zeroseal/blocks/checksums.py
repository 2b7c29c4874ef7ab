"""Checksums in the forms that disk formats use them."""

from __future__ import annotations

import zlib

import crc32c as _crc32c

_TURNED_BYTES = bytes(int(f"{byte:08b}"[::-1], 2) for byte in range(256))
_CRC16_TABLE: list[int] = []


def crc32c(seed: int, data: bytes | bytearray | memoryview) -> int:
    """CRC-32C without the final inversion, as ext4 and jbd2 chain it.

    ``seed`` is the running value (0xFFFFFFFF to begin with).
    """
    return ~_crc32c.crc32c(data, ~seed & 0xFFFFFFFF) & 0xFFFFFFFF


def crc32_be(seed: int, data: bytes) -> int:
    """CRC-32 with the highest bit first and no final inversion, as jbd2's version 1 has it.

    ``seed`` is the running value (0xFFFFFFFF to begin with). It is the reflected CRC-32 of the
    bytes with their bits turned round, its own bits turned round.
    """
    turned = zlib.crc32(data.translate(_TURNED_BYTES), ~_turn(seed) & 0xFFFFFFFF)
    return _turn(~turned & 0xFFFFFFFF)


def _turn(value: int) -> int:
    return int(f"{value:032b}"[::-1], 2)


def crc16(seed: int, data: bytes) -> int:
    """CRC-16 (polynomial 0xA001, reflected), which older ext4 uses for group descriptors."""
    if not _CRC16_TABLE:
        for byte in range(256):
            value = byte
            for _ in range(8):
                value = (value >> 1) ^ (0xA001 if value & 1 else 0)
            _CRC16_TABLE.append(value)
    for byte in data:
        seed = (seed >> 8) ^ _CRC16_TABLE[(seed ^ byte) & 0xFF]
    return seed
