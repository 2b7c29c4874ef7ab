"""The four checksums of btrfs: over a node, a superblock, or a sector of data.

Source: btrfs documentation, "Checksumming"; xxHash specification 0.1.1, XXH64, seed 0.
"""

from __future__ import annotations

import hashlib
import struct
from collections.abc import Callable

from crc32c import crc32c

_MASK = (1 << 64) - 1
_PRIMES = (
    0x9E3779B185EBCA87,
    0xC2B2AE3D27D4EB4F,
    0x165667B19E3779F9,
    0x85EBCA77C2B2AE63,
    0x27D4EB2F165667C5,
)


def xxh64(data: bytes) -> int:
    """XXH64 with the seed 0."""
    first, second, third, fourth, fifth = _PRIMES
    whole = len(data) // 32 * 32
    if whole:
        lanes = [(first + second) & _MASK, second, 0, -first & _MASK]
        for words in struct.iter_unpack("<4Q", data[:whole]):
            lanes = [_round(lane, word) for lane, word in zip(lanes, words, strict=True)]
        found = sum(_rotated(lane, by) for lane, by in zip(lanes, (1, 7, 12, 18), strict=True))
        for lane in lanes:
            found = ((found ^ _round(0, lane)) * first + fourth) & _MASK
    else:
        found = fifth
    found = (found + len(data)) & _MASK
    at = whole
    while at + 8 <= len(data):
        word = _round(0, int.from_bytes(data[at : at + 8], "little"))
        found = (_rotated(found ^ word, 27) * first + fourth) & _MASK
        at += 8
    if at + 4 <= len(data):
        word = int.from_bytes(data[at : at + 4], "little") * first & _MASK
        found = (_rotated(found ^ word, 23) * second + third) & _MASK
        at += 4
    for byte in data[at:]:
        found = _rotated(found ^ (byte * fifth & _MASK), 11) * first & _MASK
    for shift, prime in ((33, second), (29, third), (32, 1)):
        found = (found ^ (found >> shift)) * prime & _MASK
    return found


def name_hash(name: bytes) -> int:
    """The hash that names of folders and attributes are found by."""
    return crc32c(name, 1) ^ 0xFFFFFFFF


def second_name_hash(folder: int, name: bytes) -> int:
    """The hash that an extended reference of an inode back to its name is found by."""
    return crc32c(name, ~folder & 0xFFFFFFFF) ^ 0xFFFFFFFF


def data_reference_hash(tree: int, inode: int, place: int) -> int:
    """The hash that a reference of a file to its data is found by."""
    high = crc32c(tree.to_bytes(8, "little")) ^ 0xFFFFFFFF
    low = crc32c(struct.pack("<QQ", inode, place)) ^ 0xFFFFFFFF
    return (high << 31) ^ low


# by the number in the superblock: the name, its length in bytes, and how it is made
KINDS: dict[int, tuple[str, int, Callable[[bytes], bytes]]] = {
    0: ("crc32c", 4, lambda data: crc32c(data).to_bytes(4, "little")),
    1: ("xxhash", 8, lambda data: xxh64(data).to_bytes(8, "little")),
    2: ("sha256", 32, lambda data: hashlib.sha256(data).digest()),
    3: ("blake2b", 32, lambda data: hashlib.blake2b(data, digest_size=32).digest()),
}


def _round(lane: int, word: int) -> int:
    return _rotated((lane + word * _PRIMES[1]) & _MASK, 31) * _PRIMES[0] & _MASK


def _rotated(value: int, by: int) -> int:
    value &= _MASK
    return ((value << by) | (value >> (64 - by))) & _MASK
