"""``zeroseal export`` and ``seal --in-place``, as an administrator uses them."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.containers import QEMU_NAMES, copy_of
from tests.oracles import cut_partition, find_texts, image_info, judge_ext, run, to_raw
from zeroseal.images.host_file import HostFile
from zeroseal.images.output import OutputFile
from zeroseal.images.redo_head import journal_path
from zeroseal.sealing.record import record_path

FORMATS = ("raw", "qcow2", "vmdk", "vhdx", "vhd", "vdi")


@pytest.fixture
def disk(tmp_path: Path, demo_disk: Path) -> Path:
    return copy_of(demo_disk, tmp_path / "d.qcow2")


@pytest.fixture
def secrets_of(disk: Path, tmp_path: Path) -> list[bytes]:
    """Texts of the demo's machine that no seal may leave."""
    raw = to_raw(disk, tmp_path / "secrets.raw")
    found = find_texts(raw, [b"gangway-ref", b"ada.brine", b"OPENSSH PRIVATE KEY"])
    raw.unlink()
    assert len(found) == 3
    return sorted(found)


def test_a_sealed_disk_goes_through_every_container_and_stays_sealed(
    tmp_path: Path, disk: Path, zeroseal: Command
) -> None:
    sealed = tmp_path / "s.qcow2"
    assert zeroseal("seal", disk, "-o", sealed).status == 0
    want = to_raw(sealed, tmp_path / "want.raw").read_bytes()
    source = sealed
    for number, name in enumerate((*FORMATS, "ova", "qcow2")):
        target = tmp_path / f"{number}.{name}"
        answer = zeroseal("export", source, "--format", name, "-o", target)
        assert answer.status == 0, answer.err
        assert "same, byte for byte" in answer.out
        assert zeroseal("check", target).out.startswith("SEALED")
        if name != "ova":
            assert image_info(target)["format"] in (QEMU_NAMES.get(name, name), "raw")
            raw = tmp_path / "got.raw"
            run("qemu-img", "convert", "-f", QEMU_NAMES.get(name, name), "-O", "raw", target, raw)
            assert raw.read_bytes() == want
        source = target


@pytest.mark.parametrize("name", FORMATS)
def test_an_image_is_sealed_in_place(
    tmp_path: Path, disk: Path, zeroseal: Command, name: str, secrets_of: list[bytes]
) -> None:
    image = tmp_path / f"x.{name}"
    assert zeroseal("export", disk, "--format", name, "-o", image).status == 0
    assert find_texts(image, secrets_of) == set(secrets_of)
    before = image.read_bytes()
    assert zeroseal("seal", image, "--in-place", "--dry-run").out.count("--in-place") == 1
    assert image.read_bytes() == before
    answer = zeroseal("seal", image, "--in-place")
    assert answer.status == 0, answer.err
    assert "sealed in place: its former contents are gone" in answer.out
    assert find_texts(image, secrets_of) == set()
    assert zeroseal("check", image).out.startswith("SEALED")
    raw = tmp_path / "x.raw.judged"
    run("qemu-img", "convert", "-f", QEMU_NAMES.get(name, name), "-O", "raw", image, raw)
    judge_ext(cut_partition(raw, 2, tmp_path / "root.img"))
    again = zeroseal("seal", image, "--in-place", "--json")
    assert json.loads(again.out)["inPlace"] is True


def test_in_place_is_refused_where_something_keeps_the_old_bytes(
    tmp_path: Path, disk: Path, zeroseal: Command
) -> None:
    def refused(image: Path, told: str) -> None:
        before = image.read_bytes()
        answer = zeroseal("seal", image, "--in-place")
        assert (answer.status, answer.err.count("\n")) == (4, 1)
        assert told in answer.err
        assert "-o" in answer.err
        assert image.read_bytes() == before

    top = tmp_path / "clones" / "top.qcow2"
    top.parent.mkdir()
    run("qemu-img", "create", "-f", "qcow2", "-b", "../d.qcow2", "-F", "qcow2", top)
    refused(disk, "top.qcow2 is based on it")
    refused(top, "backing file")
    top.unlink()
    disk.chmod(0o444)
    refused(disk, "read-only")
    disk.chmod(0o644)
    run("qemu-img", "snapshot", "-c", "ebb", disk)
    refused(disk, "snapshots (ebb)")
    flat = tmp_path / "flat.qcow2"
    assert zeroseal("seal", disk, "--snapshot", "ebb", "-o", flat).status == 0
    assert zeroseal("survey", disk, "--snapshot", "ebb").status == 0
    assert "no snapshot 'flood'" in zeroseal("survey", disk, "--snapshot", "flood").err


KILLED = """
import os, sys
from zeroseal.images import redo
real = redo._carry_out
def half(journal, host, progress):
    os.kill(os.getpid(), 9)
redo._carry_out = half
sys.argv[1:] = sys.argv[1:]
from zeroseal.cli.main import entry_point
entry_point()
"""


def test_the_next_command_finishes_what_was_killed_and_says_so(
    disk: Path, zeroseal: Command, secrets_of: list[bytes], tmp_path: Path
) -> None:
    words = [sys.executable, "-c", KILLED, "seal", str(disk), "--in-place"]
    assert subprocess.run(words, capture_output=True, check=False).returncode == -9
    assert journal_path(disk).exists()
    assert find_texts(to_raw(disk, tmp_path / "r.raw"), secrets_of) == set(secrets_of)
    answer = zeroseal("check", disk)
    assert "was completed" in answer.err
    assert answer.out.startswith("SEALED")
    assert not journal_path(disk).exists()
    assert find_texts(to_raw(disk, tmp_path / "r.raw"), secrets_of) == set()
    journal_path(disk).write_bytes(b"ZSREDO1\nhalf")
    assert "was dropped" in zeroseal("survey", disk).err


def test_a_larger_disk_has_its_table_at_its_end(
    tmp_path: Path, disk: Path, zeroseal: Command
) -> None:
    for name, size in (("raw", "40M"), ("vhdx", "1G")):
        target = tmp_path / f"big.{name}"
        answer = zeroseal("export", disk, "--format", name, "-o", target, "--disk-size", size)
        assert "partition table was moved to the end" in answer.out
        raw = to_raw(target, tmp_path / "b.raw")
        assert "No problems found" in run("sgdisk", "-v", raw)
        judge_ext(cut_partition(raw, 2, tmp_path / "root.img"))
    answer = zeroseal("export", disk, "--format", "raw", "-o", tmp_path / "n", "--disk-size", "1M")
    assert (answer.status, "cannot be made smaller" in answer.err) == (2, True)


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("--format", "raw", "--compress"), "cannot be compressed"),
        (("--format", "qcow2", "--fixed"), "no fixed form"),
        (("--format", "vmdk", "--preallocate"), "--preallocate"),
        (("--format", "raw", "--disk-size", "big"), "not a valid size"),
        (("--format", "raw", "--sign-key", "k"), "for --format ova"),
        (("--format", "ova", "--sign-key", "k"), "must be given together"),
        (("--format", "ova", "--cpus", "0"), "at least 1 CPU"),
        (("--format", "ova", "--name", "a/b"), "is not a valid machine name"),
    ],
    ids=str,
)
def test_wishes_that_do_not_go_together(
    tmp_path: Path, disk: Path, zeroseal: Command, words: tuple[str, ...], told: str
) -> None:
    answer = zeroseal("export", disk, "-o", tmp_path / "out", *words)
    assert (answer.status, answer.err.count("\n")) == (2, 1)
    assert told in answer.err
    assert not (tmp_path / "out").exists()


@pytest.mark.parametrize("option", ["-o=x", "--format=raw", "--compress", "--snapshot=a"])
def test_in_place_goes_with_no_wish_for_a_new_file(
    disk: Path, zeroseal: Command, option: str
) -> None:
    answer = zeroseal("seal", disk, "--in-place", *option.split("="))
    assert (answer.status, "cannot be combined with" in answer.err) == (2, True)


def test_a_failing_export_leaves_nothing(
    tmp_path: Path, disk: Path, zeroseal: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    out = tmp_path / "out"
    out.mkdir()
    real, left = HostFile._write_some, [5]

    def failing(file: HostFile, offset: int, data: memoryview) -> int:
        left[0] -= 1
        if left[0] < 0:
            raise OSError(28, "No space left on device")
        return real(file, offset, data)

    for name in ("raw", "vmdk", "vhdx", "ova"):
        left[0] = 2
        with monkeypatch.context() as patched:
            patched.setattr(HostFile, "_write_some", failing)
            answer = zeroseal("export", disk, "--format", name, "-o", out / "x")
        assert (answer.status, "no space left" in answer.err) == (5, True)
        assert list(out.iterdir()) == []
    with monkeypatch.context() as patched:
        patched.setattr(
            OutputFile, "commit", lambda _self: (_ for _ in ()).throw(KeyboardInterrupt)
        )
        assert zeroseal("export", disk, "--format", "vdi", "-o", out / "x").status == 130
    assert list(out.iterdir()) == []
    (out / "x").write_text("precious")
    assert zeroseal("export", disk, "--format", "vdi", "-o", out / "x").status == 4
    assert (out / "x").read_text() == "precious"
    assert not record_path(out / "x").exists()
    assert [path.name for path in out.iterdir()] == ["x"]
