"""A store put together from parts of others, against plain bytes."""

from __future__ import annotations

import random

import pytest

from zeroseal.blocks.pieced import Piece, PiecedStore
from zeroseal.blocks.staged import StagedStore
from zeroseal.blocks.store import MemoryStore
from zeroseal.errors import TruncatedError


@pytest.mark.parametrize("seed", range(4))
def test_random_reads_and_changes_match_plain_bytes(seed: int) -> None:
    chance = random.Random(seed)
    below = [StagedStore(MemoryStore(chance.randbytes(20_000))) for _ in range(3)]
    pieces, model = [], bytearray()
    for number in range(12):
        store, start = below[number % 3], number // 3 * 5000
        length = chance.randrange(1, 5000)
        pieces.append(Piece(store, start, length))
        model += store.read(start, length)
    whole = PiecedStore(pieces)
    assert whole.size_bytes == len(model)
    for _ in range(80):
        start = chance.randrange(len(model))
        length = chance.randrange(len(model) - start + 1)
        if chance.random() < 0.3:
            data = chance.randbytes(length)
            whole.write(start, data)
            model[start : start + length] = data
        elif chance.random() < 0.3:
            whole.zero(start, length)
            model[start : start + length] = bytes(length)
        assert whole.read(start, length) == model[start : start + length]
    extents = list(whole.iter_extents(0, len(model)))
    assert sum(extent.length for extent in extents) == len(model)
    position = 0
    for extent in extents:
        assert extent.offset_bytes == position
        position += extent.length
        if extent.is_zero:
            assert not any(model[extent.offset_bytes : position])


def test_pieces_without_a_store_are_zeros_that_cannot_be_written() -> None:
    whole = PiecedStore([Piece(MemoryStore(b"tide"), 0, 4), Piece(None, 0, 1 << 40)])
    assert whole.size_bytes == (1 << 40) + 4
    assert whole.read(2, 6) == b"de\0\0\0\0"
    assert [extent.is_zero for extent in whole.iter_extents(0, whole.size_bytes)] == [False, True]
    whole.zero(0, whole.size_bytes)
    assert whole.read(0, 8) == bytes(8)
    with pytest.raises(TypeError):
        whole.write(100, b"x")
    with pytest.raises(TruncatedError):
        whole.read((1 << 40) + 3, 2)
