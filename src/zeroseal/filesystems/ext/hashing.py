"""The hashes that order the names of an indexed folder.

Source: Linux 6.1 ``fs/ext4/hash.c``; ``Documentation/filesystems/ext4/directory.rst``. Names are
hashed in words of four characters, taken as signed or unsigned as the superblock's flags say.
"""

from __future__ import annotations

import struct
import unicodedata
from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from zeroseal.errors import UnsupportedError
from zeroseal.filesystems.ext.layout import (
    FLAG_UNSIGNED_HASH,
    INODE_CASEFOLD,
    Inode,
    Superblock,
)
from zeroseal.messages import ext as messages

LEGACY, HALF_MD4, TEA = 0, 1, 2
_MASK = 0xFFFFFFFF
_LAST_HASH = 0x7FFFFFFF << 1  # means "end of folder" and is never given to a name
_DEFAULT_SEED = (0x67452301, 0xEFCDAB89, 0x98BADCFE, 0x10325476)
_TEA_DELTA = 0x9E3779B9
_MOST_AT_ONCE = 20_000

Int64s = NDArray[np.int64]


class HashSettings(NamedTuple):
    """How a folder's names are hashed."""

    version: int
    unsigned: bool
    seed: tuple[int, int, int, int]
    folds_case: bool = False


def settings_of(superblock: Superblock, version: int, folder: Inode) -> HashSettings:
    """The settings of a folder whose index says ``version``; those above 2 mean unsigned words."""
    seed = struct.unpack("<4I", superblock.hash_seed)
    return HashSettings(
        version=version % 3,
        unsigned=version >= 3 or bool(superblock.flags & FLAG_UNSIGNED_HASH),
        seed=seed if any(seed) else _DEFAULT_SEED,
        folds_case=bool(folder.flags & INODE_CASEFOLD),
    )


def hash_name(name: bytes, settings: HashSettings) -> tuple[int, int]:
    """The (major, minor) hash of a name; the major one is even.

    Raises:
        ValueError: the version is not one of the three known.
        UnsupportedError: as ``fold_case``.
    """
    if settings.folds_case:
        name = fold_case(name)
    if settings.version == LEGACY:
        major, minor = _legacy(name, settings.unsigned), 0
    elif settings.version == HALF_MD4:
        state = settings.seed
        for start in range(0, len(name), 32):
            state = _half_md4(state, _words(name[start:], 8, settings.unsigned))
        major, minor = state[1], state[2]
    elif settings.version == TEA:
        state = settings.seed
        for start in range(0, len(name), 16):
            state = _tea(state, _words(name[start:], 4, settings.unsigned))
        major, minor = state[0], state[1]
    else:
        raise ValueError(messages.UNKNOWN_FOLDER_HASH_VERSION.format(version=settings.version))
    major &= ~1
    return (major - 2 if major == _LAST_HASH else major), minor


def hash_names(names: list[bytes], settings: HashSettings) -> list[tuple[int, int]]:
    """``hash_name`` of many names at once, a hundred times as fast; the same rounds on arrays."""
    if settings.folds_case:
        names = [fold_case(name) for name in names]
    found: list[tuple[int, int]] = []
    for start in range(0, len(names), _MOST_AT_ONCE):
        found += _hash_part(names[start : start + _MOST_AT_ONCE], settings)
    return found


def _hash_part(names: list[bytes], settings: HashSettings) -> list[tuple[int, int]]:
    lengths = np.array([len(name) for name in names], np.int64)
    width = int(lengths.max(initial=1))
    raw = b"".join(name.ljust(width, b"\0") for name in names)
    characters = np.frombuffer(raw, np.uint8).reshape(len(names), width).astype(np.int64)
    if not settings.unsigned:
        characters -= (characters > 127) * 256
    if settings.version == LEGACY:
        major = _legacy_of(characters, lengths)
        minor = np.zeros_like(major)
    else:
        mix, words = (_half_md4, 8) if settings.version == HALF_MD4 else (_tea, 4)
        state = [np.full(len(names), part, np.int64) for part in settings.seed]
        for start in range(0, width, words * 4):
            rows = np.flatnonzero(lengths > start)
            block = _word_columns(characters[rows, start:], lengths[rows] - start, words)
            mixed = mix([part[rows] for part in state], block)
            for part, value in zip(state, mixed, strict=True):
                part[rows] = value
        first = 1 if settings.version == HALF_MD4 else 0
        major, minor = state[first], state[first + 1]
    major &= ~1
    major = np.where(major == _LAST_HASH, major - 2, major)
    return list(zip(major.tolist(), minor.tolist(), strict=True))


def _word_columns(characters: Int64s, lengths: Int64s, count: int) -> list[Int64s]:
    """``_words`` of many names: column by column."""
    pad = (lengths & 0xFF) * 0x01010101
    columns = []
    for number in range(count):
        word = pad
        for place in range(number * 4, number * 4 + 4):
            if place < characters.shape[1]:
                more = (characters[:, place] + (word << 8)) & _MASK
                word = np.where(lengths > place, more, word)
        columns.append(word)
    return columns


def _legacy_of(characters: Int64s, lengths: Int64s) -> Int64s:
    hash0 = np.full(len(lengths), 0x12A3FE2D, np.int64)
    hash1 = np.full(len(lengths), 0x37ABE8F9, np.int64)
    for place in range(characters.shape[1]):
        value = (hash1 + (hash0 ^ (characters[:, place] * 7152373 & _MASK))) & _MASK
        value = np.where(value & 0x80000000, (value - 0x7FFFFFFF) & _MASK, value)
        there = lengths > place
        hash0, hash1 = np.where(there, value, hash0), np.where(there, hash0, hash1)
    return hash0 << 1 & _MASK


def fold_case(name: bytes) -> bytes:
    """A name as a folder that ignores case compares and hashes it (*casefold*).

    The kernel folds by Unicode 12.1: canonical decomposition, full case folding, characters that
    are to be ignored left out; what is no UTF-8 stays as it is. Unicode promises that both stay
    what they are for characters once assigned, so that those of version 3.2, the oldest that
    Python's tables tell, are folded alike by every later version.

    Raises:
        UnsupportedError: a character is newer than that.
    """
    if name.isascii():
        return name.lower()
    try:
        text = name.decode("utf-8")
    except UnicodeDecodeError:
        return name
    if any(unicodedata.ucd_3_2_0.category(character) in ("Cn", "Cf") for character in text):
        raise UnsupportedError(messages.NAME_NOT_CASEFOLDABLE.format(name=name))
    folded = unicodedata.normalize("NFD", unicodedata.normalize("NFD", text).casefold())
    return folded.encode()


def _characters(name: bytes, unsigned: bool) -> list[int]:
    if unsigned:
        return list(name)
    return [byte - 256 if byte > 127 else byte for byte in name]


def _words(name: bytes, count: int, unsigned: bool) -> list[int]:
    """The next ``count`` words of a name; what is missing is filled with its length."""
    pad = len(name) & 0xFF
    pad |= pad << 8 | pad << 16 | pad << 24
    words, word = [], pad
    characters = _characters(name[: count * 4], unsigned)
    for position, character in enumerate(characters):
        word = (character + (word << 8)) & _MASK
        if position % 4 == 3:
            words.append(word)
            word = pad
    if len(words) < count:
        words.append(word)
    return words + [pad] * (count - len(words))


def _legacy(name: bytes, unsigned: bool) -> int:
    hash0, hash1 = 0x12A3FE2D, 0x37ABE8F9
    for character in _characters(name, unsigned):
        value = (hash1 + (hash0 ^ (character * 7152373 & _MASK))) & _MASK
        if value & 0x80000000:
            value = (value - 0x7FFFFFFF) & _MASK
        hash1, hash0 = hash0, value
    return hash0 << 1 & _MASK


# (word, shift) of each step; a round is one mixing function and constant over eight steps
_STEPS_1 = tuple(zip((0, 1, 2, 3, 4, 5, 6, 7), (3, 7, 11, 19) * 2, strict=True))
_STEPS_2 = tuple(zip((1, 3, 5, 7, 0, 2, 4, 6), (3, 5, 9, 13) * 2, strict=True))
_STEPS_3 = tuple(zip((3, 7, 2, 6, 1, 5, 0, 4), (3, 9, 11, 15) * 2, strict=True))
_CONSTANT_2, _CONSTANT_3 = 0x5A827999, 0x6ED9EBA1


def _half_md4(state: Sequence[Any], words: Sequence[Any]) -> tuple[Any, Any, Any, Any]:
    """Three rounds of MD4 without its second half, on numbers or on arrays of them."""
    a, b, c, d = state
    for index, shift in _STEPS_1:
        total = (a + (d ^ (b & (c ^ d))) + words[index]) & _MASK
        a, b, c, d = d, (total << shift | total >> (32 - shift)) & _MASK, b, c
    for index, shift in _STEPS_2:
        total = (a + (b & c) + ((b ^ c) & d) + words[index] + _CONSTANT_2) & _MASK
        a, b, c, d = d, (total << shift | total >> (32 - shift)) & _MASK, b, c
    for index, shift in _STEPS_3:
        total = (a + (b ^ c ^ d) + words[index] + _CONSTANT_3) & _MASK
        a, b, c, d = d, (total << shift | total >> (32 - shift)) & _MASK, b, c
    return (
        (state[0] + a) & _MASK,
        (state[1] + b) & _MASK,
        (state[2] + c) & _MASK,
        (state[3] + d) & _MASK,
    )


def _tea(state: Sequence[Any], words: Sequence[Any]) -> tuple[Any, Any, Any, Any]:
    first, second, total = state[0], state[1], 0
    for _ in range(16):
        total = (total + _TEA_DELTA) & _MASK
        mixed = ((second << 4) + words[0]) ^ (second + total) ^ ((second >> 5) + words[1])
        first = (first + mixed) & _MASK
        mixed = ((first << 4) + words[2]) ^ (first + total) ^ ((first >> 5) + words[3])
        second = (second + mixed) & _MASK
    return ((state[0] + first) & _MASK, (state[1] + second) & _MASK, state[2], state[3])
