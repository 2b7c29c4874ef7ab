"""Block devices as images: read, sealed from, written to where the user said so."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.containers import pattern
from tests.disks import BARE_GUEST, SEEDING, make_guest_volume
from tests.killing import DISK, change, count_calls, die_at
from tests.oracles import judge_ext, mounted, need, run, to_raw
from zeroseal.images import redo
from zeroseal.images.redo import finish_interrupted

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
        assert (refused.status, "--journal-to" in refused.err) == (4, True)
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


def test_a_device_is_sealed_in_place(
    zeroseal: Command, guest: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    journals = tmp_path / "journals"
    journals.mkdir()
    monkeypatch.chdir(journals)
    junk = tmp_path / "junk"
    junk.write_bytes(b"deleted-canary! " * (4 << 16))
    for order in (f"write {junk} junk", "rm junk"):
        run("debugfs", "-w", "-R", order, guest)
    guest.write_bytes(guest.read_bytes())  # no holes
    stored = guest.stat().st_blocks
    with device(guest) as path:
        named = tmp_path / "root"  # as LVM names its volumes
        named.symlink_to(path)
        done = zeroseal("seal", named, "--in-place", "--journal-to", journals, *SEALING)
        assert done.status == 0, done.err
        assert [item.name for item in journals.iterdir()] == ["root.seal.json"]
        told = zeroseal("check", named, "--deep")
        assert (told.status, told.out[:6]) == (0, "SEALED")
    assert b"deleted-canary" not in guest.read_bytes()
    assert guest.stat().st_blocks <= stored - (7 << 10)  # zeroed by discards: 3.5 MiB and more
    judge_ext(guest)


def test_in_place_on_a_device_says_what_it_needs(
    zeroseal: Command, guest: Path, tmp_path: Path
) -> None:
    before = guest.read_bytes()
    words = ("--in-place", "--journal-to", tmp_path)
    with device(guest) as path:
        missing = zeroseal("seal", path, "--in-place", "--journal-to", tmp_path / "no", *SEALING)
        assert (missing.status, "create it first" in missing.err) == (3, True)
        alone = zeroseal("seal", path, "-o", tmp_path / "x.raw", "--journal-to", tmp_path)
        assert (alone.status, "--in-place" in alone.err) == (2, True)
        with mounted(tmp_path / "m", path):
            told = zeroseal("seal", path, *words, *SEALING)
            assert (told.status, f"{path} is mounted" in told.err) == (4, True)
    file = zeroseal("seal", guest, *words, *SEALING)
    assert (file.status, "leave out --journal-to" in file.err) == (2, True)
    assert guest.read_bytes()[2048:] == before[2048:]  # the kernel wrote when it was mounted
    inside = tmp_path / "inside"
    run("qemu-img", "convert", "-f", "raw", "-O", "qcow2", guest, inside)
    with device(inside) as path:
        told = zeroseal("seal", path, *words, "--source-format", "qcow2", *SEALING)
        assert (told.status, "cannot" in told.err) == (4, True)


def test_a_change_of_a_device_is_carried_through_or_dropped(tmp_path: Path) -> None:
    """Killed before anything that writes, wherever that is; and never laid over another disk."""
    first, folder = tmp_path / "first", tmp_path / "journals"
    first.write_bytes(pattern(size=DISK))
    folder.mkdir()
    below, calls, outcomes = tmp_path / "below", list[None](), []
    below.write_bytes(first.read_bytes())
    with device(below) as path:
        with pytest.MonkeyPatch.context() as patched:
            count_calls(patched, lambda: calls.append(None))
            after = change(path, companion="record", device_folder=folder)
        assert (read_device(path), (folder / "record").read_text()) == (after, "the record")
        for number in range(0, len(calls) + 1, max(1, len(calls) // 25)):
            path.write_bytes(first.read_bytes())
            was_killed = die_at(
                number, lambda: change(path, companion="record", device_folder=folder)
            )
            assert was_killed == (number < len(calls))
            outcome = finish_interrupted(path, folder)
            wanted = {
                "dropped": (pattern(size=DISK),),
                "carried through": (after,),
            }
            assert read_device(path) in wanted.get(outcome, (pattern(size=DISK), after))
            assert not list(folder.glob("*.redo"))
            outcomes.append(outcome)
        assert {
            "dropped",
            "carried through",
        } <= set(outcomes)


def test_a_journal_is_not_laid_over_another_disk_of_that_path(
    zeroseal: Command, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    below, other = tmp_path / "below", pattern(size=DISK)[::-1]
    below.write_bytes(pattern(size=DISK))
    with device(below) as path:
        with pytest.MonkeyPatch.context() as patched:
            patched.setattr(redo, "_carry_out", lambda *_words: os._exit(7))
            assert die_at(1 << 30, lambda: change(path, device_folder=tmp_path)) is False
        kept = read_device(path)
        path.write_bytes(other)
        told = zeroseal("survey", path)
        assert (told.status, "of another disk" in told.err) == (4, True)
        assert read_device(path) == other
        path.write_bytes(kept)
        told = zeroseal("survey", path)
        assert "was completed" in told.err
        assert read_device(path) != kept


def read_device(path: Path) -> bytes:
    """All of it, as programs see it."""
    return path.read_bytes()


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
