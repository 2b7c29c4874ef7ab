"""Searching for many values at once, against a plain search of the same bytes."""

from __future__ import annotations

import random
import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zeroseal.blocks import digest, literals, pipeline
from zeroseal.blocks.literals import CompiledLiterals
from zeroseal.blocks.pipeline import search_store
from zeroseal.blocks.search import Hit, Needle
from zeroseal.blocks.staged import StagedStore
from zeroseal.blocks.store import MemoryStore, PaddedStore, TwinStore
from zeroseal.blocks.word_filter import WordFilter
from zeroseal.errors import NotProvenError


def plain_search(content: bytes, needles: list[Needle]) -> list[Hit]:
    """The same with the standard library's own search."""
    found = set()
    for needle in needles:
        flags = re.IGNORECASE if needle.caseless else 0
        for match in re.finditer(b"(?=%s)" % re.escape(needle.pattern), content, flags):
            end = match.start() + len(needle.pattern)
            beside = content[max(0, match.start() - 1) : match.start()] + content[end : end + 1]
            if not needle.whole_word or not re.search(rb"[A-Za-z0-9_-]", beside):
                found.add(Hit(match.start(), needle.value_no))
    return sorted(found)


@pytest.mark.parametrize("engine", [CompiledLiterals, WordFilter])
@pytest.mark.parametrize("seed", range(6))
def test_every_value_is_found_wherever_it_lies(
    seed: int, engine: type, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(digest, "CHUNK_BYTES", 1024)
    monkeypatch.setattr(pipeline, "CHUNK_BYTES", 1024)
    if engine is WordFilter:
        monkeypatch.setattr(literals, "_is_library_there", lambda: False)
    chance = random.Random(seed)
    words = [b"gangway-ref", b"ada.brine", b"tideline", b"a1f1f7a771ca450b2f5298a01a1da614"]
    needles = [Needle(n, word, caseless=True, whole_word=n < 2) for n, word in enumerate(words)]
    needles += [Needle(9, chance.randbytes(24)), Needle(10, b"0" * 12), Needle(11, b"\0a\0b\0c\0d")]
    needles += [Needle(0, b"gangway-ref".decode().encode("utf-16-le"), caseless=True)]
    content = bytearray(chance.choice([bytes(60_000), chance.randbytes(60_000)]))
    for _ in range(150):
        word = chance.choice(needles).pattern
        if chance.random() < 0.4:
            word = word.upper() if chance.random() < 0.5 else b"x" + word
        place = chance.choice(
            [chance.randrange(len(content) - 60), chance.randrange(14) * 4096 - 5]
        )
        content[max(0, place) : max(0, place) + len(word)] = word
    content[-9:] = b"ada.brine"
    hits = search_store(MemoryStore(bytes(content)), needles)
    assert hits == plain_search(bytes(content), needles)
    assert len(hits) > 20


PATTERNS = st.lists(
    st.tuples(
        st.one_of(
            st.binary(min_size=7, max_size=40),
            st.text("aB1-\0", min_size=7, max_size=12).map(str.encode),
            st.binary(min_size=260, max_size=300),
        ),
        st.booleans(),
    ).map(lambda one: (one[0].lower() if one[1] else one[0], one[1])),
    min_size=1,
    max_size=6,
)


@given(PATTERNS, st.data())
def test_both_engines_find_the_same(
    patterns: list[tuple[bytes, bool]], data: st.DataObject
) -> None:
    """Bytes of zero, signs that look like letters of another case, hits that overlap, long ones."""
    pieces = st.one_of(
        st.sampled_from([pattern for pattern, _is_caseless in patterns]),
        st.sampled_from([pattern.upper() for pattern, _is_caseless in patterns]),
        st.binary(max_size=9),
        st.text("aAbB@`{[1-\0", max_size=9).map(str.encode),
    )
    window = b"".join(data.draw(st.lists(pieces, max_size=12)))
    compiled, filtered = CompiledLiterals(patterns), WordFilter(patterns)
    needles = [Needle(number, *one) for number, one in enumerate(patterns)]
    expected = [tuple(hit) for hit in plain_search(window, needles)]
    assert sorted(compiled.find(window)) == sorted(filtered.find(window)) == expected


def test_more_than_one_scan_takes_at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(literals, "_MOST_SCANNED", 100)
    text = (b"x" * 93 + b"gangway-ref") * 20
    found = CompiledLiterals([(b"gangway-ref", False)]).find(text)
    assert sorted(found) == [(93 + 104 * number, 0) for number in range(20)]


@given(st.binary(min_size=7, max_size=40), st.binary(max_size=300), st.integers(0, 7))
def test_any_value_is_found_at_any_place(pattern: bytes, around: bytes, shift: int) -> None:
    content = bytes(shift) + around + pattern + around
    needles = [Needle(0, pattern), Needle(1, pattern.lower(), caseless=True)]
    expected = plain_search(content, needles)
    found = search_store(
        MemoryStore(content.ljust(-(-len(content) // 512) * 512, b"\xfe")), needles
    )
    # what stands behind may go on like the value; nothing else may differ
    assert [hit for hit in found if hit.offset_bytes + len(pattern) <= len(content)] == expected


def test_zeroed_ranges_are_not_read_and_values_across_extents_are_found() -> None:
    below = MemoryStore(b"gangway-ref" * 100_000)
    staged = StagedStore(below)
    staged.zero(0, below.size_bytes - 100)
    staged.write(5000, b"tide-of-april")
    staged.write(8192 - 6, b"tide-of-april")
    hits = search_store(staged, [Needle(0, b"gangway-ref"), Needle(1, b"tide-of-april")])
    assert [hit.offset_bytes for hit in hits if hit.value_no == 1] == [5000, 8186]
    first = below.size_bytes - 100
    assert all(hit.offset_bytes >= first for hit in hits if hit.value_no == 0)
    assert search_store(staged, []) == []


def test_a_disk_full_of_one_value_is_told_of_the_first_places_and_of_all_others() -> None:
    text = b"gangway-ref" * 900_000 + b"tide-of-april"
    hits = search_store(MemoryStore(text), [Needle(0, b"gangway-ref"), Needle(1, b"tide-of-april")])
    assert [hit.offset_bytes for hit in hits[:-1]] == [11 * number for number in range(20_000)]
    assert hits[-1] == Hit(len(text) - 13, 1)


def test_a_reading_gives_the_digest_the_hits_and_the_bytes_at_once() -> None:
    """Each byte is read once, what a table knows to be zeros not at all."""
    below = MemoryStore(random.Random(3).randbytes(21 << 20) + b"tide-of-april")
    staged = StagedStore(below)
    staged.zero(5 << 20, 9 << 20)
    reads: list[tuple[int, int]] = []
    seen = bytearray(staged.size_bytes)
    asked = CountedStore(staged, reads)
    reading = pipeline.read_disk_once(
        asked, "test", needles=[Needle(0, b"tide-of-april")],
        take=lambda offset, content: seen.__setitem__(
            slice(offset, offset + len(content)), content
        ),
    )  # fmt: skip
    assert bytes(seen) == staged.read(0, staged.size_bytes)
    assert reading.hits == [Hit(21 << 20, 0)]
    assert reading.digest == pipeline.digest_store(MemoryStore(bytes(seen)), "test")
    assert sum(length for _offset, length in reads) == staged.size_bytes - (9 << 20)


class CountedStore(PaddedStore):
    """Notes what is read."""

    def __init__(self, below: StagedStore, reads: list[tuple[int, int]]) -> None:
        super().__init__(below, below.size_bytes)
        self.reads = reads

    def read(self, offset_bytes: int, length: int) -> bytes:
        self.reads.append((offset_bytes, length))
        return super().read(offset_bytes, length)


def test_twins_are_read_as_one_and_differ_loudly() -> None:
    below = MemoryStore(bytes(range(256)) * 4096)
    staged = StagedStore(below)
    staged.zero(4096, 8192)
    twin = TwinStore(staged, MemoryStore(staged.read(0, staged.size_bytes)), "it")
    assert twin.read(4000, 300) == staged.read(4000, 300)
    assert [extent.is_zero for extent in twin.iter_extents(0, twin.size_bytes)] == [False] * 3
    with pytest.raises(NotProvenError, match="at or after byte 4000 of the disk"):
        TwinStore(staged, below, "it").read(4000, 300)
    with pytest.raises(NotProvenError):
        TwinStore(staged, MemoryStore(b""), "it")


def test_a_word_at_the_edge_of_a_sector_has_no_neighbour_there() -> None:
    word = b"pier-ref"
    text = b"x" * 512 + word + b"x" * 504 + b" " * 504 + word + b"x" * 512 + b"x" * 8 + word + b"x"
    needles = [Needle(0, word, whole_word=True)]
    assert [hit.offset_bytes for hit in search_store(MemoryStore(text), needles)] == [1528]
