"""What a seal reads, and that reading, checking and writing beside each other lose nothing."""

from __future__ import annotations

import json
import random
import shutil
import time
from collections.abc import Callable
from pathlib import Path

import pytest
from blake3 import blake3

from tests.conftest import Command
from tests.oracles import judge_qcow2, run, to_raw
from zeroseal.blocks.digest import CHUNK_BYTES
from zeroseal.errors import NotProvenError
from zeroseal.images.host_file import HostFile
from zeroseal.images.in_place import InPlaceChange
from zeroseal.progress import Progress, Step
from zeroseal.sealing import job
from zeroseal.sealing.job import SealRequest, seal
from zeroseal.sealing.policy import DEFAULT_POLICY, SealOptions, resolve
from zeroseal.sealing.record import find_record, record_path
from zeroseal.sealing.targets import new_file
from zeroseal.sealing.targets.in_place import InPlace
from zeroseal.sealing.targets.new_file import NewFile

NOW = 1_795_000_000


def test_what_the_check_finds_ends_the_writing_at_once(
    demo_disk: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """An hour of writing is not worth waiting for when the first minute showed that it is void."""
    wrote: list[float] = []

    def refuse(*_words: object) -> None:
        raise NotProvenError("a file system is not consistent")

    def write_for_long(*words: object) -> None:
        progress: Progress = words[4]  # type: ignore[assignment]
        began = time.monotonic()
        while time.monotonic() - began < 30:
            progress(Step("writing", 1, 100))
            wrote.append(time.monotonic() - began)
            time.sleep(0.01)

    monkeypatch.setattr(job, "check_result", refuse)
    monkeypatch.setattr(new_file, "write_disk", write_for_long)
    with pytest.raises(NotProvenError, match="is not consistent"):
        seal(SealRequest(demo_disk, NewFile(tmp_path / "o.qcow2"), DEFAULT_POLICY, NOW))
    assert not wrote or wrote[-1] < 10
    assert list(tmp_path.iterdir()) == []


@pytest.mark.parametrize("name", ["qcow2", "raw", "vhdx", "vmdk"])
def test_a_container_that_would_hold_something_else_is_never_committed(
    demo_disk: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, name: str
) -> None:
    """One wrong byte in the data of a file: no checker of structures could see it."""
    disk = tmp_path / f"d.{name}"
    run("qemu-img", "convert", "-O", name, demo_disk, disk)
    before = disk.read_bytes()
    real: Callable[..., None] = InPlaceChange.take

    def take(change: InPlaceChange, staged: object) -> None:
        real(change, staged)
        place = _offset_of_text(change)
        change.image.write(place, b"X")
        change.image.flush()

    monkeypatch.setattr(InPlaceChange, "take", take)
    with pytest.raises(NotProvenError, match="would be wrong"):
        seal(SealRequest(disk, InPlace(), DEFAULT_POLICY, NOW))
    assert disk.read_bytes() == before
    assert sorted(path.name for path in tmp_path.iterdir()) == [disk.name]


def _offset_of_text(change: InPlaceChange) -> int:
    """Where a byte of the disk lies that belongs to a file which a seal leaves alone."""
    content = change.image.read(0, change.image.size_bytes)
    return content.index(b"ID=tideline")


@pytest.mark.parametrize("searches", [False, True])
def test_the_bytes_of_a_disk_are_read_once_to_write_it_and_once_to_prove_it(
    demo_disk: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, searches: bool
) -> None:
    """Whatever is wanted of them: the digest, the search, the file's own hash."""
    source, target = tmp_path / "s.raw", tmp_path / "o.qcow2"
    run("qemu-img", "convert", "-O", "raw", demo_disk, source)
    large: dict[str, int] = {}
    real = HostFile.read

    def read(file: HostFile, offset: int, length: int) -> bytes:
        if length >= CHUNK_BYTES // 2:  # tables and files of the guest are read in small pieces
            kind = "source" if file.path == source.resolve() else "result"
            large[kind] = large.get(kind, 0) + length
        return real(file, offset, length)

    monkeypatch.setattr(HostFile, "read", read)
    policy = resolve(SealOptions(search_values=searches))
    done = seal(SealRequest(source, NewFile(target, "qcow2"), policy, NOW))
    assert done.digest
    written, file_bytes = len(done.digest.leaves) * CHUNK_BYTES, target.stat().st_size
    stored = source.stat().st_blocks * 512
    assert large["source"] <= 2 * max(written, stored) + CHUNK_BYTES  # and once for its own digest
    assert large["result"] <= file_bytes + CHUNK_BYTES


def test_the_record_has_the_hash_of_the_file_in_every_container(
    demo_disk: Path, tmp_path: Path
) -> None:
    for name, compress in (("qcow2", ""), ("qcow2", "zstd"), ("vmdk", "fast"), ("vdi", "")):
        target = tmp_path / f"o-{compress}.{name}"
        seal(SealRequest(demo_disk, NewFile(target, name, compress), DEFAULT_POLICY, NOW))
        record = find_record(target)
        assert record
        assert record.file
        assert record.file.blake3 == blake3(target.read_bytes()).hexdigest()
    raw = tmp_path / "o.raw"
    seal(SealRequest(demo_disk, NewFile(raw, "raw"), DEFAULT_POLICY, NOW))
    record = find_record(raw)
    assert record
    assert record.file
    assert record.file.blake3 == ""  # its disk has a digest of its own


def test_the_result_is_the_same_however_it_is_compressed(demo_disk: Path, tmp_path: Path) -> None:
    plain = tmp_path / "plain.qcow2"
    first = seal(SealRequest(demo_disk, NewFile(plain), DEFAULT_POLICY, NOW))
    content = to_raw(plain, tmp_path / "plain.raw").read_bytes()
    for kind in ("small", "fast", "zstd"):
        target = tmp_path / f"{kind}.qcow2"
        done = seal(SealRequest(demo_disk, NewFile(target, "", kind), DEFAULT_POLICY, NOW))
        assert done.digest == first.digest
        judge_qcow2(target)
        assert to_raw(target, tmp_path / f"{kind}.raw").read_bytes() == content
        assert target.stat().st_size < plain.stat().st_size


def test_check_tells_whether_it_is_the_very_file(
    demo_disk: Path, tmp_path: Path, zeroseal: Command
) -> None:
    sealed, other = tmp_path / "sealed.qcow2", tmp_path / "other.qcow2"
    assert zeroseal("seal", demo_disk, "-o", sealed).status == 0
    answer = zeroseal("check", sealed, "--file")
    assert (answer.status, answer.out.count("very one that was sealed, byte for byte")) == (0, 1)
    assert "and will be lost; name each one" not in zeroseal("check", sealed).out
    run("qemu-img", "convert", "-O", "qcow2", "-o", "cluster_size=128k", sealed, other)
    shutil.copy(record_path(sealed), record_path(other))
    answer = zeroseal("check", other, "--file", "--json")
    assert answer.status == 0
    assert json.loads(answer.out)["fileAnswer"] == "written anew, same disk"


def test_a_file_with_one_other_byte_behind_its_disk_is_not_the_very_one(
    demo_disk: Path, tmp_path: Path, zeroseal: Command
) -> None:
    sealed = tmp_path / "sealed.qcow2"
    assert zeroseal("seal", demo_disk, "-o", sealed).status == 0
    content = bytearray(sealed.read_bytes())
    free = content.rindex(bytes(4096))  # in a table's cluster, where nothing is pointed to
    content[free + random.Random(1).randrange(8, 4000)] = 7
    sealed.write_bytes(content)
    answer = zeroseal("check", sealed, "--file")
    assert "very one" not in answer.out
