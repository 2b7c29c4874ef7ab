"""What became of a sealed disk, told and located; and records that somebody laid hands on."""

from __future__ import annotations

import base64
import hashlib
import json
import random
import shutil
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from blake3 import blake3

from tests.conftest import Command, start
from tests.disks import BARE_GUEST, make_disk, make_guest_volume
from tests.oracles import partition_range, run, to_raw
from zeroseal.machines.adopt import adopt_image
from zeroseal.machines.disk_change import changed_disk
from zeroseal.machines.yard import Yard
from zeroseal.sealing.check import CheckResult, check_image, compare_file
from zeroseal.sealing.job import SealRequest, seal
from zeroseal.sealing.policy import DEFAULT_POLICY
from zeroseal.sealing.record import find_record, record_path
from zeroseal.sealing.signing import read_signer, read_trusted
from zeroseal.sealing.targets.new_file import NewFile
from zeroseal.sealing.trust import require_signature
from zeroseal.sealing.verdict import FileAnswer, Level, Verdict

NOW = 1_795_000_000


@pytest.fixture(scope="module")
def first(demo_disk: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("first") / "sealed.qcow2"
    seal(SealRequest(demo_disk, NewFile(path), DEFAULT_POLICY, NOW))
    return path


@pytest.fixture
def sealed(first: Path, tmp_path: Path) -> Path:
    path = tmp_path / "sealed.qcow2"
    shutil.copy(first, path)
    shutil.copy(record_path(first), record_path(path))
    return path


def story(path: Path, level: Level = Level.FULL) -> str:
    result = check_image(path, level)
    assert result.verdict is Verdict.BROKEN_SEAL
    assert result.broken
    return result.broken.looks_like


def test_a_disk_that_was_started_is_known_by_what_grew(sealed: Path, tmp_path: Path) -> None:
    yard = Yard(tmp_path / "yard")
    adopt_image(yard, sealed, "by-accident")
    started = start(yard, "by-accident", NOW + 60).machine.disk
    for level in (Level.QUICK, Level.FULL):
        assert story(started, level).startswith(
            "the machine was started: it has its own machine ID, journal, SSH"
        )


def test_an_edited_file_is_named(sealed: Path) -> None:
    with changed_disk(sealed, NOW + 60) as inspection:
        inspection.guest.put_file("/opt/gate/gate.conf", b"pier = 4\n", 0o644)
    assert story(sealed) == "one file was edited: /opt/gate/gate.conf"
    with changed_disk(sealed, NOW + 90) as inspection:
        inspection.guest.put_file("/opt/gate/new", b"x", 0o644)
    assert story(sealed).startswith("2 files were edited")


def test_a_byte_that_was_flipped_is_located_by_the_file_that_it_lies_in(
    sealed: Path, tmp_path: Path
) -> None:
    raw = to_raw(sealed, tmp_path / "b.raw")
    shutil.copy(record_path(sealed), record_path(raw))
    start_bytes = partition_range(raw, 2)[0]
    told = run("debugfs", "-R", "blocks /usr/sbin/sshd", f"{raw}?offset={start_bytes}")
    block_bytes = int(
        run("dumpe2fs", "-h", f"{raw}?offset={start_bytes}").split("Block size:")[1].split()[0]
    )
    place = start_bytes + int(told.split()[0]) * block_bytes + 3
    content = bytearray(raw.read_bytes())
    content[place] ^= 0x20
    raw.write_bytes(content)
    assert "below the file system" in story(raw)
    broken = check_image(raw, Level.FULL).broken
    assert broken
    assert "/usr/sbin/sshd" in {item for chunk in broken.located for item in chunk.places}


def test_a_container_that_was_written_anew_is_still_sealed(sealed: Path, tmp_path: Path) -> None:
    for words, told in (
        (["-O", "qcow2", "-o", "cluster_size=128k"], ""),
        (["-O", "vmdk"], "it was sealed as qcow2 but is vmdk now"),
    ):
        other = tmp_path / f"other.{words[1]}"
        run("qemu-img", "convert", *words, sealed, other)
        shutil.copy(record_path(sealed), record_path(other))
        result = check_image(other, Level.FULL)
        assert result.verdict is Verdict.SEALED
        assert result.other_container == told
        assert compare_file(result) is FileAnswer.WRITTEN_ANEW
    result = check_image(sealed, Level.FULL)
    assert (result.other_container, compare_file(result)) == ("", FileAnswer.THIS_VERY_FILE)


def test_the_file_of_an_older_record_is_compared_by_its_sha256(sealed: Path) -> None:
    path = record_path(sealed)
    text = path.read_text()
    recorded = json.loads(text)["predicate"]["file"]["blake3"]
    for digest, expected in (
        (hashlib.sha256(sealed.read_bytes()).hexdigest(), FileAnswer.THIS_VERY_FILE),
        ("0" * 64, FileAnswer.WRITTEN_ANEW),
    ):
        path.write_text(text.replace(f'"blake3": "{recorded}"', f'"sha256": "{digest}"'))
        assert compare_file(check_image(sealed, Level.FULL)) is expected
    path.unlink()
    assert compare_file(check_image(sealed, Level.FULL)) is FileAnswer.NOT_KNOWN


def test_the_record_of_another_machine_is_no_broken_seal(tmp_path: Path, zeroseal: Command) -> None:
    """Of two disks with as much data; a small one cannot be told from one that was overwritten."""
    disks = []
    for number in range(2):
        folder = tmp_path / str(number)
        folder.mkdir()
        chance = random.Random(number)
        tree = BARE_GUEST | {f"/srv/{n}": chance.randbytes(400_000).hex() for n in range(9)}
        raw = make_disk(folder / "d.raw", ("8300", make_guest_volume(folder, tree, size_mib=24)))
        words = ("--plant-first-boot", "-o", folder / "s.raw", "--quiet")
        assert zeroseal("seal", raw, *words).status == 0
        disks.append(folder / "s.raw")
    shutil.copy(record_path(disks[1]), record_path(disks[0]))
    for level in ("quick", "full"):
        answer = zeroseal("check", disks[0], "--level", level)
        assert answer.status == 1
        assert answer.out.startswith("UNKNOWN")
        assert "belongs to another disk" in " ".join(answer.out.split())


# -- records


def leaves(value: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """The way to every value of a JSON document; of long lists only their first two entries."""
    if isinstance(value, dict):
        for key, inner in value.items():
            yield from leaves(inner, (*path, key))
    elif isinstance(value, list) and value:
        for number, inner in enumerate(value[:2]):
            yield from leaves(inner, (*path, number))
    else:
        yield path


def changed(value: Any) -> Any:
    match value:
        case bool():
            return not value
        case int():
            return value + 1
        case str():
            return value[:-1] + ("0" if value[-1:] != "0" else "1")
        case _:
            return "x"


def tampered(statement: Any, way: tuple[Any, ...]) -> Any:
    copy = json.loads(json.dumps(statement))
    place = copy
    for key in way[:-1]:
        place = place[key]
    place[way[-1]] = changed(place[way[-1]])
    return copy


def test_a_signed_record_that_was_changed_in_any_field_is_refused(
    sealed: Path, demo_disk: Path, tmp_path: Path
) -> None:
    key = tmp_path / "key"
    run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "harbour", "-f", key)
    path = tmp_path / "signed.qcow2"
    signer = read_signer(key, lambda: b"")
    seal(SealRequest(demo_disk, NewFile(path), DEFAULT_POLICY, NOW, signer=signer))
    trusted = read_trusted([key.with_suffix(".pub")])
    envelope = json.loads(record_path(path).read_text())
    statement = json.loads(base64.b64decode(envelope["payload"]))

    def checked() -> CheckResult:
        return require_signature(check_image(path, Level.QUICK), trusted)

    assert checked().verdict is Verdict.SEALED
    ways = list(leaves(statement))
    assert len(ways) > 50
    for way in ways:
        payload = base64.b64encode(json.dumps(tampered(statement, way)).encode()).decode()
        record_path(path).write_text(json.dumps(envelope | {"payload": payload}))
        assert checked().verdict in (Verdict.BROKEN_SEAL, Verdict.UNKNOWN), way
    for way in leaves(envelope):
        if way[0] != "payload" and way[-1] != "keyid":  # DSSE: a hint that no signature covers
            record_path(path).write_text(json.dumps(tampered(envelope, way)))
            assert checked().verdict is not Verdict.SEALED, way


@pytest.mark.parametrize(
    "way",
    [
        ("_type",),
        ("predicateType",),
        ("subject", 0, "digest", "zerosealDiskTree1"),
        ("predicate", "disk", "sizeBytes"),
        ("predicate", "disk", "chunkBytes"),
        ("predicate", "complete"),
    ],
)
def test_what_ties_a_record_to_its_disk_cannot_be_changed_unseen(
    sealed: Path, way: tuple[Any, ...]
) -> None:
    statement = json.loads(record_path(sealed).read_text())
    record_path(sealed).write_text(json.dumps(tampered(statement, way)))
    assert check_image(sealed, Level.FULL).verdict is not Verdict.SEALED


def test_the_record_tells_where_the_disk_comes_from_and_what_it_lies_in(first: Path) -> None:
    record = find_record(first)
    assert record
    assert record.file
    assert record.file.format_name == "qcow2"
    assert blake3(first.read_bytes()).hexdigest() == record.file.blake3
    assert len(record.lineage.source_digest) == 64
    assert record.lineage.source_digest != record.root


def test_a_record_nested_beyond_reason_is_no_record(sealed: Path) -> None:
    makers: list[Callable[[], str]] = [lambda: "[" * 200_000, lambda: '{"a":' * 100_000]
    for make_text in makers:
        record_path(sealed).write_text(make_text())
        assert check_image(sealed, Level.QUICK).verdict is Verdict.UNKNOWN
