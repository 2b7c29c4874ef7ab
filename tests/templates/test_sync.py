"""One shelf brought to another: cut off, resumed, in conflict, full, damaged on the way."""

from __future__ import annotations

import filecmp
import json
import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.oracles import judge_qcow2, need, run
from tests.templates.conftest import add, sealed_file
from zeroseal.images import resumed_copy
from zeroseal.images.host_file import HostFile
from zeroseal.images.resumed_copy import copy_resumed
from zeroseal.progress import Step
from zeroseal.templates.shelf.entry import Template
from zeroseal.templates.shelf.shelf import Shelf


@pytest.fixture
def other(tmp_path: Path) -> Shelf:
    return Shelf(tmp_path / "other")


def sync(zeroseal: Command, source: Shelf, target: Shelf, *more: object) -> dict[str, str]:
    """What became of each template; the status is asserted."""
    done = zeroseal("shelf", "sync", source.folder, target.folder, "--json", *more)
    moves = {item["template"]: item["move"] for item in json.loads(done.out)["templates"]}
    assert done.status == int("conflict" in moves.values()), done.err
    return moves


def test_what_is_missing_is_copied_and_the_rest_follows(
    template: Template, shelf: Shelf, other: Shelf, demo_disk: Path, tmp_path: Path,
    zeroseal: Command,
) -> None:  # fmt: skip
    title = template.entry.title
    assert sync(zeroseal, shelf, other, "--dry-run") == {title: "copy"}
    assert not other.folder.exists()
    assert sync(zeroseal, shelf, other) == {title: "copy"}
    there = other.get(title)
    assert there.entry == template.entry
    names = [path.name for path in template.folder.iterdir() if path.is_file()]
    _same, different, missing = filecmp.cmpfiles(
        template.folder, there.folder, names, shallow=False
    )
    assert (different, missing) == ([], [])
    assert there.disk.stat().st_mode & 0o222 == 0
    judge_qcow2(there.disk)
    assert zeroseal("shelf", "verify", "--shelf", other.folder).status == 0
    assert not list(other.folder.glob(".sync-*"))
    assert sync(zeroseal, shelf, other) == {title: "same"}
    shelf.change(template, notes="in use at the north pier", tags=["north"])
    add(shelf, sealed_file(demo_disk, tmp_path / "two.qcow2", now=1_999_999_999), version="2")
    shelf.retire(shelf.get(title), (), 1_999_999_999)
    assert sync(zeroseal, shelf, other) == {title: "change", "gangway@2": "copy"}
    assert other.get(title).entry == shelf.get(title).entry
    states = {item.entry.version: item.state for item in other.versions("gangway")}
    assert states == {"2026-11": "retired", "2": "current"}


def test_conflicts_are_reported_and_nothing_there_changes(
    template: Template, shelf: Shelf, other: Shelf, sealed: Path, demo_disk: Path, tmp_path: Path,
    zeroseal: Command,
) -> None:  # fmt: skip
    title = template.entry.title
    later = sealed_file(demo_disk, tmp_path / "later.qcow2", now=1_999_999_999)
    kept = add(other, later, version="2026-11")
    assert sync(zeroseal, shelf, other) == {title: "conflict"}
    assert other.get(title).entry == kept.entry
    other.remove(kept)
    add(other, sealed, "renamed", "1")
    shown = zeroseal("shelf", "sync", shelf.folder, other.folder)
    assert "the same disk is there as renamed@1" in " ".join(shown.out.split())
    other.remove(other.get("renamed"))
    sync(zeroseal, shelf, other)
    words = ("clone", title, "--shelf", other.folder, "--name", "north", "--linked")
    assert zeroseal(*words, "--to", tmp_path / "yard", "--host", "simulated").status == 0
    shelf.retire(template, (), 1_999_999_999)
    assert sync(zeroseal, shelf, other) == {title: "conflict"}  # a linked clone hangs on it there
    assert other.get(title).state == "current"
    for pair in ((shelf.folder, shelf.folder), (tmp_path / "none", other.folder)):
        assert zeroseal("shelf", "sync", *pair).status in (2, 3)


def test_a_disk_that_changed_on_the_way_is_not_taken_in(
    template: Template, shelf: Shelf, other: Shelf, zeroseal: Command
) -> None:
    template.disk.chmod(0o644)
    with template.disk.open("r+b") as file:
        file.seek(-4096, os.SEEK_END)
        file.write(b"tide")
    assert sync(zeroseal, shelf, other) == {template.entry.title: "conflict"}
    assert other.templates() == []
    assert not list(other.folder.glob(".sync-*"))


def test_a_signature_that_is_required_is_verified_on_the_way(
    template: Template, shelf: Shelf, other: Shelf, tmp_path: Path, zeroseal: Command
) -> None:
    key = tmp_path / "ops"
    run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key)
    assert sync(zeroseal, shelf, other, "--trusted", f"{key}.pub") == {
        template.entry.title: "conflict"
    }


def test_a_copy_that_was_cut_off_goes_on_where_it_ended(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(resumed_copy, "_PIECE_BYTES", 1 << 16)
    source, folder = tmp_path / "source", tmp_path / "pending"
    pieces = [os.urandom(1 << 16) if n % 5 else bytes(1 << 16) for n in range(20)]
    source.write_bytes(b"".join(pieces) + b"the end")
    reads: list[int] = []
    real = HostFile.read

    def read(self: HostFile, offset_bytes: int, length: int) -> bytes:
        if self.path == source:
            reads.append(offset_bytes >> 16)
        return real(self, offset_bytes, length)

    monkeypatch.setattr(HostFile, "read", read)
    monkeypatch.setattr(resumed_copy, "share_blocks", lambda _one, _two: False)

    def until(number: int, step: Step) -> None:
        if step.done >> 16 == number:
            raise KeyboardInterrupt

    for number in (7, 13):
        with pytest.raises(KeyboardInterrupt):
            copy_resumed(source, folder, "disk", lambda step, n=number: until(n, step))  # type: ignore[misc]
    with (folder / "disk").open("r+b") as file:  # what a crash of the host may leave
        file.seek(3 << 16)
        file.write(bytes(100))
    with (folder / "pieces.jsonl").open("ab") as listing:
        listing.write(b'{"piece": 14, "bla')
    copied = copy_resumed(source, folder, "disk")
    assert copied.read_bytes() == source.read_bytes()
    assert reads == [*range(7), *range(7, 13), 3, *range(13, 21)]
    os.utime(source, (1, 1))  # another file now: begun again
    reads.clear()
    copy_resumed(source, folder, "disk")
    assert reads == list(range(21))


def test_a_killed_sync_loses_nothing_and_the_next_one_ends_it(
    template: Template, shelf: Shelf, other: Shelf, zeroseal: Command
) -> None:
    command = [sys.executable, "-m", "zeroseal", "shelf", "sync", str(shelf.folder),
               str(other.folder)]  # fmt: skip
    for seconds in (0.5, 0.7, 0.9, 1.1, 1.3):
        process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        time.sleep(seconds)
        process.kill()
        process.wait()
        assert all(item.entry == template.entry for item in other.templates())
    assert sync(zeroseal, shelf, other)[template.entry.title] in ("copy", "same")
    assert zeroseal("shelf", "verify", "--shelf", other.folder).status == 0
    assert zeroseal("shelf", "verify", "--shelf", shelf.folder).status == 0


def test_a_full_disk_is_one_sentence_and_can_be_resumed(
    template: Template, shelf: Shelf, tmp_path: Path, zeroseal: Command
) -> None:
    need("mount")
    mounted = tmp_path / "small"
    mounted.mkdir()
    run("mount", "-t", "tmpfs", "-o", "size=600k", "none", mounted)
    try:
        target = mounted / "shelf"
        done = zeroseal("shelf", "sync", shelf.folder, target)
        assert done.status == 5
        assert "no space left" in done.err
        assert Shelf(target).templates() == []
        run("mount", "-o", "remount,size=64m", mounted)
        assert zeroseal("shelf", "sync", shelf.folder, target).status == 0
        assert [item.entry for item in Shelf(target).templates()] == [template.entry]
    finally:
        run("umount", mounted)
    shutil.rmtree(mounted)
