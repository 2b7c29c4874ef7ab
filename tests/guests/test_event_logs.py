"""Event logs: empty ones that others take for sound, and what is told of those with records."""

from __future__ import annotations

import random
import struct
import zlib
from contextlib import suppress
from pathlib import Path
from typing import Any

import pytest
from Evtx import Evtx
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.oracles import run
from zeroseal.errors import DamagedError, UnsupportedError, ZeroSealError
from zeroseal.guests.eventlogs.log import LogFacts, empty_log, read_log


def _record(number: int, computer: str | None, first: bool) -> bytes:
    """A record with a ``Computer`` element: its name stands where it is used first."""
    body = b"\x0f\x01\x01\0"
    if computer is not None:
        name = "Computer"
        body += b"\x01\xff\xff" + bytes(4) + bytes(4)
        if first:
            body += bytes(4) + struct.pack("<HH", 0, len(name)) + name.encode("utf-16-le") + b"\0\0"
        body += b"\x02\x05\x01" + struct.pack("<H", len(computer)) + computer.encode("utf-16-le")
    body += b"\0"
    length = -(-(24 + len(body) + 4) // 8) * 8
    head = struct.pack("<4sIQQ", b"**\0\0", length, number, 133_000_000_000_000_000)
    return (head + body).ljust(length - 4, b"\0") + length.to_bytes(4, "little")


def _log(*chunks: list[bytes], flags: int = 0) -> bytes:
    """A log with records in its chunks, built from the format and not with our code."""
    head = struct.pack("<8sQQQIHHHH", b"ElfFile\0", 0, len(chunks) - 1, 1, 128, 2, 3, 4096, 1)
    head = head.ljust(120, b"\0")
    raw = (head + struct.pack("<II", flags, zlib.crc32(head))).ljust(4096, b"\0")
    for records in chunks:
        body, count = b"".join(records), len(records)
        tables = bytes(512 - 128)
        last = 512 + len(body) - len(records[-1]) if records else 0
        top = struct.pack(
            "<8s4Q4I", b"ElfChnk\0", 1, count, 1, count, 128, last, 512 + len(body), 0
        )
        top = (top[:52] + struct.pack("<I", zlib.crc32(body))).ljust(120, b"\0")
        top += struct.pack("<II", 0, zlib.crc32(top + tables))
        raw += (top + tables + body).ljust(65536, b"\0")
    return raw


def _sample() -> bytes:
    one = [
        _record(1, "quay-ferry", first=True),
        _record(2, "quay-ferry", first=False),
        _record(3, None, first=False),
    ]
    return _log(one, [_record(4, "QUAY-7", first=True)], flags=1)


@pytest.mark.parametrize("minor", [1, 2])
def test_an_empty_log_is_sound_for_others(tmp_path: Path, minor: int) -> None:
    path = tmp_path / "System.evtx"
    path.write_bytes(empty_log(minor))
    assert len(path.read_bytes()) == 4096 + 65536
    with Evtx.Evtx(str(path)) as opened:
        reader: Any = opened
        header = reader.get_file_header()
        assert header.magic() == "ElfFile\0"
        assert header.calculate_checksum() == header.checksum()
        assert header.is_dirty() is False
        (chunk,) = list(header.chunks(include_inactive=True))
        assert chunk.magic() == "ElfChnk\0"
        assert chunk.calculate_header_checksum() == chunk.header_checksum()
        assert chunk.calculate_data_checksum() == chunk.data_checksum()
        assert chunk.next_record_offset() == 512
        assert list(chunk.records()) == []
        assert header.next_record_number() == 1
    assert read_log(path.read_bytes()) == LogFacts(0, (), is_dirty=False)


@pytest.mark.parametrize("minor", [1, 2])
def test_a_second_reader_finds_nothing_wrong(tmp_path: Path, minor: int) -> None:
    path = tmp_path / "System.evtx"
    path.write_bytes(empty_log(minor))
    told = run("evtxinfo", path)
    assert f"3.{minor}" in told
    assert "corrupted" not in told
    assert "No records" in run("evtxexport", path)
    raw = bytearray(empty_log(minor))
    raw[4096 + 45] ^= 1  # the judge sees what is wrong
    path.write_bytes(raw)
    assert "corrupted" in run("evtxinfo", path)


def test_records_and_computers_are_told() -> None:
    assert read_log(_sample()) == LogFacts(4, ("quay-ferry", "QUAY-7"), is_dirty=True)
    assert read_log(_log([_record(1, None, first=False)])) == LogFacts(1, (), is_dirty=False)


def test_the_sample_is_one_that_others_read(tmp_path: Path) -> None:
    path = tmp_path / "sample.evtx"
    path.write_bytes(_sample())
    with Evtx.Evtx(str(path)) as opened:
        reader: Any = opened
        chunks = list(reader.get_file_header().chunks(include_inactive=True))
        assert all(chunk.verify() for chunk in chunks)
        numbers = [record.record_num() for chunk in chunks for record in chunk.records()]
    assert numbers == [1, 2, 3, 4]


@pytest.mark.parametrize(
    ("place", "told"),
    [(0, "not an event log"), (25, "header fails"), (4100, ""), (4096 + 600, "chunk")],
)
def test_damage_is_named(place: int, told: str) -> None:
    raw = bytearray(_sample())
    raw[place] ^= 0x40
    if not told:  # a chunk that does not begin as one is not in use
        assert read_log(bytes(raw)).records == 1
        return
    with pytest.raises(DamagedError, match=told):
        read_log(bytes(raw))


def test_another_version_is_refused() -> None:
    raw = bytearray(_sample())
    raw[36] = 7
    raw[124:128] = zlib.crc32(bytes(raw[:120])).to_bytes(4, "little")
    with pytest.raises(UnsupportedError, match=r"version 3\.7"):
        read_log(bytes(raw))


@settings(max_examples=200, deadline=None)
@given(st.integers(0, 1 << 32))
def test_mutated_logs_raise_only_our_errors(seed: int) -> None:
    dice, raw = random.Random(seed), bytearray(_sample())
    for _ in range(dice.randint(1, 8)):
        place = dice.choice([dice.randrange(4096, 6000), dice.randrange(len(raw) - 8)])
        raw[place : place + 4] = dice.choice([bytes(4), b"\xff" * 4, dice.randbytes(4)])
    for start in range(4096, len(raw), 65536):  # checksums that fit, so that more is looked at
        free = min(max(512, int.from_bytes(raw[start + 48 : start + 52], "little")), 65536)
        data = zlib.crc32(bytes(raw[start + 512 : start + free]))
        raw[start + 52 : start + 56] = data.to_bytes(4, "little")
        top = bytes(raw[start : start + 120] + raw[start + 128 : start + 512])
        raw[start + 124 : start + 128] = zlib.crc32(top).to_bytes(4, "little")
    raw[124:128] = zlib.crc32(bytes(raw[:120])).to_bytes(4, "little")
    with suppress(ZeroSealError):
        read_log(bytes(raw[: dice.choice([len(raw), dice.randrange(len(raw))])]))
