"""Allocation bitmaps as file systems keep them: bit n is bit ``n % 8`` of byte ``n // 8``."""

from __future__ import annotations

import numpy as np


def find_runs(bitmap: bytes | bytearray, bit_count: int, value: bool) -> list[tuple[int, int]]:
    """Returns (first_bit, count) of every run of bits equal to ``value``, in order."""
    whole = bit_count >> 3
    if not value and not bit_count & 7 and bitmap.count(0, 0, whole) == whole:
        return [(0, bit_count)] if bit_count else []
    bits = np.unpackbits(np.frombuffer(bitmap, dtype=np.uint8), count=bit_count, bitorder="little")
    wanted = bits == (1 if value else 0)
    edges = np.flatnonzero(np.diff(np.concatenate(([False], wanted, [False])).astype(np.int8)))
    pairs = edges.reshape(-1, 2)
    return [(int(start), int(end - start)) for start, end in pairs]


def bit_is_set(bitmap: bytes | bytearray, bit: int) -> bool:
    """Whether a bit is set."""
    return bool(bitmap[bit >> 3] >> (bit & 7) & 1)


def bits_are(bitmap: bytes | bytearray, first_bit: int, count: int, value: bool) -> bool:
    """Whether all of ``count`` bits from ``first_bit`` on are equal to ``value``."""
    end = first_bit + count
    number = int.from_bytes(bitmap[first_bit >> 3 : (end + 7) >> 3], "little")
    wanted = (1 << count) - 1
    return number >> (first_bit & 7) & wanted == (wanted if value else 0)


def fill_bits(bitmap: bytearray, first_bit: int, count: int, value: bool) -> None:
    """Sets or clears ``count`` bits from ``first_bit`` on."""
    bit, end = first_bit, first_bit + count
    while bit < end:
        if bit & 7 == 0 and end - bit >= 8:
            whole = (end - bit) >> 3
            bitmap[bit >> 3 : (bit >> 3) + whole] = (b"\xff" if value else b"\0") * whole
            bit += whole << 3
            continue
        if value:
            bitmap[bit >> 3] |= 1 << (bit & 7)
        else:
            bitmap[bit >> 3] &= ~(1 << (bit & 7))
        bit += 1


def count_set(bitmap: bytes | bytearray, bit_count: int) -> int:
    """How many of the first ``bit_count`` bits are set."""
    number = int.from_bytes(bitmap[: (bit_count + 7) // 8], "little")
    return (number & ((1 << bit_count) - 1)).bit_count()
