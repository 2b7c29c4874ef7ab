"""Verdicts: sealed, clean, unsealed, broken, unknown; and the seal record they rest on."""

from __future__ import annotations

import json
import shutil
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.oracles import run, to_raw
from zeroseal.blocks.digest import CHUNK_BYTES
from zeroseal.blocks.pipeline import digest_store
from zeroseal.blocks.store import MemoryStore
from zeroseal.errors import MissingError
from zeroseal.machines.disk_change import changed_disk
from zeroseal.sealing.check import check_image
from zeroseal.sealing.job import SealRequest, seal
from zeroseal.sealing.policy import DEFAULT_POLICY
from zeroseal.sealing.record import parse_record, record_path
from zeroseal.sealing.targets.new_file import NewFile
from zeroseal.sealing.verdict import Level, Verdict

NOW = 1_795_000_000
CHANGED_FILE = "/opt/gate/gate.conf"


@pytest.fixture
def sealed(tmp_path: Path, demo_disk: Path) -> Path:
    path = tmp_path / "sealed.qcow2"
    seal(SealRequest(demo_disk, NewFile(path), DEFAULT_POLICY, NOW))
    return path


def edit_record(image: Path, change: Any) -> None:
    path = record_path(image)
    statement = json.loads(path.read_text())
    change(statement)
    path.write_text(json.dumps(statement))


def test_the_record_is_an_in_toto_statement_of_what_was_done(sealed: Path) -> None:
    statement = json.loads(record_path(sealed).read_text())
    assert statement["_type"] == "https://in-toto.io/Statement/v1"
    assert statement["subject"][0]["name"] == "sealed.qcow2"
    predicate = statement["predicate"]
    treated = {item["trace"]: item for item in predicate["treated"]}
    assert treated["keys.ssh-host"]["files"] == 4
    assert treated["keys.ssh-host"]["treatments"] == ["remove"]
    assert predicate["sealedAt"] == "2026-11-18T11:06:40Z"
    assert predicate["complete"] is True
    assert predicate["proof"]["consistentVolumes"] == ["partition 1", "partition 2"]
    text = record_path(sealed).read_text()
    for secret in ("gangway-ref", "ada.brine", "192.0.2", "not-a-real"):
        assert secret not in text


@pytest.mark.parametrize("form", ["raw", "compressed", "large clusters"])
def test_a_sealed_disk_stays_sealed_in_another_container(
    sealed: Path, tmp_path: Path, form: str
) -> None:
    other = tmp_path / "other.disk"
    options = {"raw": ["-O", "raw"], "compressed": ["-c", "-O", "qcow2"],
               "large clusters": ["-O", "qcow2", "-o", "cluster_size=1M"]}[form]  # fmt: skip
    run("qemu-img", "convert", *options, sealed, other)
    shutil.copy(record_path(sealed), record_path(other))
    assert check_image(other, Level.FULL).verdict is Verdict.SEALED
    assert check_image(other, Level.QUICK).verdict is Verdict.SEALED


def test_without_its_record_a_sealed_disk_is_clean(sealed: Path) -> None:
    record_path(sealed).unlink()
    assert check_image(sealed, Level.FULL).verdict is Verdict.CLEAN
    quick = check_image(sealed, Level.QUICK)
    assert (quick.verdict, quick.error) == (Verdict.UNKNOWN, None)


def test_a_used_disk_is_unsealed(demo_disk: Path) -> None:
    result = check_image(demo_disk, Level.FULL)
    assert result.verdict is Verdict.UNSEALED
    assert "identity.machine-id" in {item.trace.id for item in result.findings}


def test_one_changed_file_breaks_the_seal_and_is_named(sealed: Path) -> None:
    with changed_disk(sealed, NOW + 60) as inspection:
        inspection.guest.replace_content(CHANGED_FILE, b"pier = 4\n")
    run("qemu-img", "check", sealed)
    for level in Level:
        result = check_image(sealed, level)
        assert result.verdict is Verdict.BROKEN_SEAL
        assert result.broken
        assert result.broken.files == (CHANGED_FILE,)
        assert result.broken.volumes == ("partition 2",)


@pytest.mark.parametrize("offset", [0, 5_000_000, 20_000_001, (32 << 20) - 1])
def test_one_changed_byte_anywhere_breaks_the_seal(
    sealed: Path, tmp_path: Path, offset: int
) -> None:
    raw = to_raw(sealed, tmp_path / "b.raw")
    content = bytearray(raw.read_bytes())
    content[offset] ^= 1
    raw.write_bytes(content)
    shutil.copy(record_path(sealed), record_path(raw))
    result = check_image(raw, Level.FULL)
    assert result.verdict is Verdict.BROKEN_SEAL
    assert result.changed_chunks == (offset // CHUNK_BYTES,)


def test_a_grown_disk_is_a_broken_seal(sealed: Path) -> None:
    run("qemu-img", "resize", "-q", sealed, "64M")
    result = check_image(sealed, Level.FULL)
    assert result.verdict is Verdict.BROKEN_SEAL
    assert "size of the disk differs" in result.reason


@pytest.mark.parametrize(
    "text",
    [
        "",
        "{",
        "[]",
        '"x"',
        "{}",
        '{"_type": 1}',
        "null",
        '{"_type": "https://in-toto.io/Statement/v1"}',
    ],
)
def test_a_record_that_is_none_makes_the_verdict_unknown(sealed: Path, text: str) -> None:
    record_path(sealed).write_text(text)
    result = check_image(sealed, Level.FULL)
    assert result.verdict is Verdict.UNKNOWN
    assert "not a readable seal record" in result.reason


def test_a_record_of_another_disk_is_a_broken_seal(sealed: Path) -> None:
    def other_root(statement: dict[str, Any]) -> None:
        statement["subject"][0]["digest"]["zerosealDiskTree1"] = "00" * 32

    edit_record(sealed, other_root)
    assert check_image(sealed, Level.FULL).verdict is Verdict.BROKEN_SEAL


@given(st.recursive(st.none() | st.booleans() | st.integers() | st.text(), lambda inner: (
    st.lists(inner, max_size=3)
    | st.dictionaries(st.sampled_from(["_type", "predicate", "subject", "disk"]), inner)
)))  # fmt: skip
def test_no_record_text_breaks_the_parser(value: Any) -> None:
    try:
        parse_record(json.dumps(value).encode())
    except (ValueError, KeyError, TypeError, AttributeError):
        return
    raise AssertionError("a random value is no record")


@given(
    size=st.integers(1, 5 * CHUNK_BYTES // 512).map(lambda sectors: sectors * 512),
    marks=st.lists(st.integers(0, 5 * CHUNK_BYTES - 1), max_size=6),
)
def test_the_digest_depends_on_every_byte_and_on_nothing_else(size: int, marks: list[int]) -> None:
    content = bytearray(size)
    for mark in marks:
        content[mark % size] ^= 0x5A
    digest = digest_store(MemoryStore(bytes(content)), "test")
    again = digest_store(MemoryStore(bytes(content)), "test")
    assert digest.root == again.root
    used = {index // CHUNK_BYTES for index in range(size) if content[index]} if marks else set()
    assert set(digest.leaves) == used
    content[size // 2] ^= 1
    assert digest_store(MemoryStore(bytes(content)), "test").root != digest.root


def test_a_container_that_cannot_be_read_is_an_error_not_a_verdict(tmp_path: Path) -> None:
    with pytest.raises(MissingError):
        check_image(tmp_path / "nothing", Level.FULL)
