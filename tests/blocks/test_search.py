"""Searching for many values at once, against a plain search of the same bytes."""

from __future__ import annotations

import random
import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zeroseal.blocks import search
from zeroseal.blocks.search import Hit, Needle, search_store
from zeroseal.blocks.staged import StagedStore
from zeroseal.blocks.store import MemoryStore


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


@pytest.mark.parametrize("seed", range(6))
def test_every_value_is_found_wherever_it_lies(seed: int, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(search, "_WINDOW_BYTES", 4096)
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


def test_a_disk_full_of_one_value_ends_early() -> None:
    hits = search_store(MemoryStore(b"gangway-ref" * 900_000), [Needle(0, b"gangway-ref")])
    assert len(hits) == 20_000


def test_a_word_at_the_edge_of_a_sector_has_no_neighbour_there() -> None:
    word = b"pier-ref"
    text = b"x" * 512 + word + b"x" * 504 + b" " * 504 + word + b"x" * 512 + b"x" * 8 + word + b"x"
    needles = [Needle(0, word, whole_word=True)]
    assert [hit.offset_bytes for hit in search_store(MemoryStore(text), needles)] == [1528]
