"""Block devices as images: read, sealed from, written to where the user said so."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.disks import BARE_GUEST, SEEDING, make_guest_volume
from tests.oracles import judge_ext, mounted, need, run, to_raw

SEALING = ("--expect-seed", "--plant-first-boot")


@contextmanager
def device(file: Path) -> Iterator[Path]:
    """A loop device over a file."""
    need("losetup")
    if os.geteuid() != 0:
        pytest.skip("needs root for loop devices")
    path = Path(run("losetup", "--show", "-f", file).strip())
    try:
        yield path
    finally:
        run("losetup", "-d", path)


@pytest.fixture
def guest(tmp_path: Path) -> Path:
    return make_guest_volume(tmp_path, BARE_GUEST | SEEDING)


def test_a_device_is_read_as_an_image(
    zeroseal: Command, guest: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    with device(guest) as path:
        survey = json.loads(zeroseal("survey", path, "--json").out)
        assert survey["system"]["name"] == "Tideline Linux"
        assert zeroseal("check", path).status == 1
        sealed = tmp_path / "sealed.raw"
        done = zeroseal("seal", path, "-o", sealed, "--format", "raw", *SEALING)
        assert done.status == 0, done.err
        copy = tmp_path / "copy.qcow2"
        assert zeroseal("export", path, "--format", "qcow2", "-o", copy).status == 0
        refused = zeroseal("seal", path, "--in-place", *SEALING)
        assert (refused.status, "--overwrite-device" in refused.err) == (4, True)
    judge_ext(sealed)
    assert to_raw(copy, tmp_path / "copy.raw").read_bytes() == guest.read_bytes()


def test_a_device_that_is_mounted_is_refused_by_name(
    zeroseal: Command, guest: Path, tmp_path: Path
) -> None:
    with device(guest) as path, mounted(tmp_path / "m", path):
        for words in (
            ("survey", path), ("export", path, "--format", "vdi", "-o", tmp_path / "x.vdi"),
            ("export", guest, "--format", "raw", "-o", path, "--overwrite-device"),
        ):  # fmt: skip
            told = zeroseal(*words)
            assert (told.status, f"{path} is mounted" in told.err) == (4, True)


@pytest.mark.parametrize("more", [0, 3], ids=["as large", "larger"])
def test_a_disk_is_written_to_a_device_only_where_that_was_said(
    zeroseal: Command, guest: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, more: int
) -> None:
    monkeypatch.chdir(tmp_path)
    below = tmp_path / "below"
    size = guest.stat().st_size + (more << 20)
    below.write_bytes(b"precious-canary " * (size // 16))
    with device(below) as path:
        for words in (
            ("seal", guest, "-o", path, *SEALING), ("export", guest, "--format", "raw", "-o", path),
        ):  # fmt: skip
            told = zeroseal(*words)
            assert (told.status, "--overwrite-device" in told.err) == (4, True)
        assert below.read_bytes().startswith(b"precious-canary")
        done = zeroseal("seal", guest, "-o", path, "--overwrite-device", *SEALING)
        assert done.status == 0, done.err
        assert (tmp_path / f"{path.name}.seal.json").is_file()
        assert zeroseal("check", path).out.startswith("SEALED")
        wrong = zeroseal("export", guest, "--format", "qcow2", "-o", path, "--overwrite-device")
        assert (wrong.status, "--format raw" in wrong.err) == (2, True)
        assert path.is_block_device()
    content = below.read_bytes()
    assert b"precious-canary" not in content
    assert not any(content[guest.stat().st_size :])
    judge_ext(below)


def test_a_device_that_is_too_small_stays_as_it_is(
    zeroseal: Command, guest: Path, tmp_path: Path
) -> None:
    below = tmp_path / "below"
    below.write_bytes(b"p" * (1 << 20))
    with device(below) as path:
        words = ("export", guest, "--format", "raw", "-o", path, "--overwrite-device")
        assert zeroseal(*words).status in (2, 5)
    assert below.read_bytes() == b"p" * (1 << 20)


def test_what_a_guest_wrote_at_the_start_of_a_device_is_not_believed(
    zeroseal: Command, tmp_path: Path
) -> None:
    below, secret = tmp_path / "below", tmp_path / "secret"
    secret.write_bytes(b"of the host" * 1000)
    run("qemu-img", "create", "-q", "-f", "qcow2", "-b", secret, "-F", "raw", below, "8M")
    with below.open("r+b") as file:
        file.truncate(8 << 20)
    with device(below) as path:
        told = zeroseal("export", path, "--format", "raw", "-o", tmp_path / "o")
        assert (told.status, "--source-format raw" in told.err) == (4, True)
        words = ("export", path, "--format", "raw", "-o", tmp_path / "o", "--source-format", "raw")
        assert zeroseal(*words).status == 0
    assert (tmp_path / "o").read_bytes() == below.read_bytes()
