"""Ranges, the staged layer, records and bitmaps, each against a plain model."""

from __future__ import annotations

import itertools
import os
import random
from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.oracles import mounted
from zeroseal.blocks.bitmaps import count_set, fill_bits, find_runs
from zeroseal.blocks.checksums import crc16, crc32c
from zeroseal.blocks.pages import PAGE_BYTES, Pages
from zeroseal.blocks.ranges import RangeSet
from zeroseal.blocks.records import Record, at, record
from zeroseal.blocks.sizes import parse_size
from zeroseal.blocks.staged import StagedStore
from zeroseal.blocks.store import Extent, MemoryStore, SliceStore
from zeroseal.errors import NoSpaceError, TruncatedError, UsageError

spans = st.tuples(st.integers(0, 200), st.integers(0, 60))


@given(st.lists(st.tuples(st.booleans(), spans), max_size=40))
def test_a_range_set_is_a_set_of_points(steps: list[tuple[bool, tuple[int, int]]]) -> None:
    ranges, points = RangeSet(), set[int]()
    for adds, (start, length) in steps:
        if adds:
            ranges.add(start, start + length)
            points |= set(range(start, start + length))
        else:
            ranges.discard(start, start + length)
            points -= set(range(start, start + length))
    pieces = list(ranges)
    assert {point for start, end in pieces for point in range(start, end)} == points
    assert all(start < end for start, end in pieces)
    assert all(one[1] < other[0] for one, other in itertools.pairwise(pieces))
    assert ranges.total == len(points)
    cut = {point for start, end in ranges.within(50, 120) for point in range(start, end)}
    assert cut == {point for point in points if 50 <= point < 120}


@given(
    st.integers(4096 * 3, 4096 * 3 + 1000),
    st.lists(
        st.tuples(
            st.booleans(),
            st.integers(0, 13000),
            st.integers(0, 9000) | st.integers(0, 60),
            st.integers(1, 255),
        ),
        max_size=12,
    ),
)
def test_a_staged_store_reads_as_if_it_were_written(
    size: int, steps: list[tuple[bool, int, int, int]]
) -> None:
    below = MemoryStore(bytes(range(256)) * (size // 256 + 1))
    below = MemoryStore(below.read(0, size))
    original = below.read(0, size)
    staged, model = StagedStore(below), bytearray(original)
    for writes, start, length, value in steps:
        start = min(start, size)
        length = min(length, size - start)
        if writes:
            staged.write(start, bytes([value]) * length)
            model[start : start + length] = bytes([value]) * length
        else:
            staged.zero(start, length)
            model[start : start + length] = bytes(length)
        assert staged.read(0, size) == model
    position = 0
    for extent in staged.iter_extents(0, size):
        assert extent.offset_bytes == position
        position += extent.length
        if extent.is_zero:
            assert not any(model[extent.offset_bytes : position])
    assert position == size
    changes = list(staged.iter_changes())
    for before, behind in pairwise(changes):
        assert before.offset_bytes + before.length <= behind.offset_bytes
    assert all(not any(model[one.offset_bytes :][: one.length]) for one in changes if one.is_zero)
    assert staged.over(below).read(0, size) == model
    changed = RangeSet(
        (extent.offset_bytes, extent.offset_bytes + extent.length) for extent in changes
    )
    for offset in range(size):
        assert model[offset] == original[offset] or offset in changed
    assert below.read(0, size) == original


def test_what_is_zeroed_is_exact_and_reads_nothing_below() -> None:
    """The tails behind a thousand files: no byte beside them is touched, none is read."""

    class Unread(MemoryStore):
        def read(self, offset_bytes: int, length: int) -> bytes:
            raise AssertionError(f"{length} bytes at {offset_bytes} were read")

    staged = StagedStore(Unread(b"x" * 4096 * 1000))
    for number in range(1000):
        staged.zero(number * 4096 + 1000, 3096)
    assert staged.written_bytes == 0
    expected = [Extent(number * 4096 + 1000, 3096, is_zero=True) for number in range(1000)]
    assert list(staged.iter_changes()) == expected
    staged.zero(0, 4096 * 999 + 1000)
    assert list(staged.iter_changes()) == [
        Extent(0, 4096 * 1000, is_zero=True),
    ]
    assert staged.read(0, 4096 * 1000) == bytes(4096 * 1000)


def test_a_slice_does_not_let_anybody_out() -> None:
    disk = MemoryStore(bytes(1000))
    part = SliceStore(disk, 100, 50)
    part.write(49, b"x")
    assert disk.read(149, 1) == b"x"
    for start, length in ((49, 2), (-1, 1), (50, 1)):
        with pytest.raises(TruncatedError):
            part.read(start, length)


@record(size=12, byte_order=">", source="this test")
class Sample(Record):
    """Two fields with a hole between them."""

    first: int = at(0, "H")
    last: bytes = at(8, "4s")


@given(st.binary(min_size=12, max_size=12), st.integers(0, 65535))
def test_a_record_keeps_bytes_it_does_not_know(raw: bytes, value: int) -> None:
    parsed = Sample.parse(raw)
    assert parsed.build() == raw
    parsed.first = value
    assert parsed.build() == value.to_bytes(2, "big") + raw[2:]


@pytest.mark.parametrize("length", [0, 11, 13])
def test_a_record_of_wrong_length_is_refused(length: int) -> None:
    with pytest.raises(TruncatedError):
        Sample.parse(bytes(length))


@given(st.lists(st.booleans(), min_size=1, max_size=200), spans)
def test_bitmaps_count_and_fill_like_lists(bits: list[bool], span: tuple[int, int]) -> None:
    bitmap = bytearray(32)
    for number, bit in enumerate(bits):
        fill_bits(bitmap, number, 1, bit)
    start = min(span[0], len(bits))
    length = min(span[1], len(bits) - start)
    fill_bits(bitmap, start, length, value=True)
    bits[start : start + length] = [True] * length
    assert count_set(bitmap, len(bits)) == sum(bits)
    covered = [
        n
        for first, count in find_runs(bitmap, len(bits), value=True)
        for n in range(first, first + count)
    ]
    assert covered == [number for number, bit in enumerate(bits) if bit]


def test_checksums_match_published_values() -> None:
    # RFC 3720, B.4: 32 bytes of zeros; CRC-16/ARC check value, catalogue of parametrised CRCs
    assert crc32c(0xFFFFFFFF, bytes(32)) ^ 0xFFFFFFFF == 0x8A9136AA
    assert crc16(0, b"123456789") == 0xBB3D


def test_pages_beyond_the_bound_lie_in_a_file_that_is_wiped(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    chance = random.Random(1)
    model: dict[int, bytes] = {}
    pages = Pages(tmp_path, held_pages=10)
    for _ in range(400):
        number = chance.randrange(60)
        kind = chance.random()
        if kind < 0.15:
            pages.drop_within(number, number + 3)
            for gone in range(number, number + 3):
                model.pop(gone, None)
            continue
        page = pages.get_for_change(number)
        if page is None:
            page = bytearray(PAGE_BYTES)
            pages.put(number, page)
        page[number : number + 4] = chance.randbytes(4)
        model[number] = bytes(page)
        assert pages.numbers_within(0, 60) == sorted(model)
    assert pages.spilled > 10
    assert len(pages) == len(model)
    assert {number: bytes(pages.read(number)) for number in model} == model
    assert list(tmp_path.iterdir()) == []  # the file has no name
    written: list[bytes] = []
    spill = pages._spill
    assert spill is not None
    monkeypatch.setattr(os, "fsync", lambda number: written.append(os.pread(number, 1 << 20, 0)))
    pages.close()
    assert len(written[0]) > 10 * PAGE_BYTES
    assert not any(written[0])


def test_a_full_spill_folder_is_told(tmp_path: Path) -> None:
    with mounted(tmp_path / "small", "-t", "tmpfs", "-o", "size=64k", "none") as small:
        pages = Pages(small, held_pages=4)
        with pytest.raises(NoSpaceError, match="temporary file"):
            for number in range(100):
                pages.put(number, bytearray(PAGE_BYTES))
        pages.close()


def test_a_staged_layer_spills_and_reads_the_same(tmp_path: Path) -> None:
    chance, size = random.Random(2), 1 << 20
    base = chance.randbytes(size)
    staged, model = StagedStore(MemoryStore(base), tmp_path), bytearray(base)
    staged._pages = Pages(tmp_path, held_pages=8)
    for _ in range(300):
        start = chance.randrange(size - 20_000)
        length = chance.randrange(20_000)
        if chance.random() < 0.6:
            data = chance.randbytes(length)
            staged.write(start, data)
            model[start : start + length] = data
        else:
            staged.zero(start, length)
            model[start : start + length] = bytes(length)
    assert staged.read(0, size) == model
    assert staged._pages.spilled
    staged.close()


@pytest.mark.parametrize(
    ("text", "size"),
    [("0", 0), ("512", 512), ("4k", 4096), ("40G", 40 << 30), ("3MiB", 3 << 20), ("1 T", 1 << 40)],
)
def test_sizes_are_read_as_people_write_them(text: str, size: int) -> None:
    assert parse_size(text) == size


@pytest.mark.parametrize("text", ["", "G", "-1", "1.5G", "10X", "9" * 30, "1 G B"])
def test_what_is_no_size_is_told(text: str) -> None:
    with pytest.raises(UsageError, match="write it like 40G"):
        parse_size(text)
