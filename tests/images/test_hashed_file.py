"""A file that is hashed while a disk is read through it, in every container that is written."""

from __future__ import annotations

import random
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from blake3 import blake3

from tests.containers import SPECS, make_image, name_of, pattern
from tests.images.test_containers import PACKED
from zeroseal.blocks.pipeline import digest_store
from zeroseal.blocks.store import MemoryStore
from zeroseal.errors import NotProvenError, TruncatedError
from zeroseal.images import hashed_file
from zeroseal.images.container_file import BorrowedFile
from zeroseal.images.convert import read_back
from zeroseal.images.create import ContainerSpec
from zeroseal.images.hashed_file import HashedFile
from zeroseal.images.host_file import HostFile


class CountedFile(BorrowedFile):
    """Notes how much is read of it."""

    def __init__(self, file: HostFile) -> None:
        super().__init__(file)
        self.bytes_read = 0

    def read(self, offset_bytes: int, length: int) -> bytes:
        self.bytes_read += length
        return super().read(offset_bytes, length)


def file_of(path: Path, content: bytes) -> HostFile:
    path.write_bytes(content)
    return HostFile(path)


@pytest.mark.parametrize("seed", range(8))
def test_reads_are_right_in_any_order_and_the_hash_is_that_of_the_file(
    tmp_path: Path, seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(hashed_file, "_PIECE_BYTES", 1000)
    chance = random.Random(seed)
    content = chance.randbytes(chance.choice([1, 999, 1000, 1001, 60_123]))
    hashed = HashedFile(file_of(tmp_path / "f", content))
    for _ in range(100):
        start = chance.randrange(len(content) + 1)
        length = min(chance.choice([0, 1, 40, 2500, 9000]), len(content) - start)
        assert hashed.read(start, length) == content[start : start + length]
    with pytest.raises(TruncatedError):
        hashed.read(len(content), 1)
    assert hashed.hash_rest() == blake3(content).hexdigest()
    assert hashed.read(0, min(7, len(content))) == content[:7]
    hashed.close()


def test_an_ascending_reading_reads_every_byte_once(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(hashed_file, "_PIECE_BYTES", 16_384)
    content = random.Random(4).randbytes(9 << 20)
    counted = CountedFile(file_of(tmp_path / "f", content))
    hashed = HashedFile(counted)
    hashed.read(len(content) - 512, 512)  # a footer, far ahead: no reason to read all before it
    assert counted.bytes_read == 512
    for start in range(0, len(content), 70_000):
        hashed.read(start, min(70_000, len(content) - start))
    assert hashed.hash_rest() == blake3(content).hexdigest()
    assert counted.bytes_read == len(content) + 512


def test_threads_that_ask_a_little_out_of_order_are_served(tmp_path: Path) -> None:
    content = random.Random(6).randbytes(12 << 20)
    counted = CountedFile(file_of(tmp_path / "f", content))
    hashed = HashedFile(counted)

    def is_right(start: int) -> bool:
        return hashed.read(start, 65_536) == content[start : start + 65_536]

    with ThreadPoolExecutor(4) as pool:
        assert all(pool.map(is_right, range(0, len(content), 65_536)))
    assert hashed.hash_rest() == blake3(content).hexdigest()
    assert counted.bytes_read <= len(content) + (2 << 20)


@pytest.mark.parametrize("spec", [*SPECS, *PACKED], ids=name_of)
def test_reading_back_gives_the_hash_of_the_file_and_notices_another_disk(
    tmp_path: Path, spec: ContainerSpec
) -> None:
    content = pattern(11)
    path = make_image(tmp_path / "a.disk", spec, content)
    file, digest = HostFile(path), digest_store(MemoryStore(content), "test")
    expected = "" if spec.format_name == "raw" else blake3(path.read_bytes()).hexdigest()
    assert read_back(file, digest, spec.format_name) == expected
    other = bytearray(content)
    other[len(other) // 2] ^= 1
    with pytest.raises(NotProvenError, match="does not read back"):
        read_back(file, digest_store(MemoryStore(bytes(other)), "test"), spec.format_name)
    file.close()
