"""Changes in place happen whole or not at all: killed at any write, out of space, unflushed."""

from __future__ import annotations

import errno
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Command
from tests.containers import (
    SPECS,
    copy_of,
    fix_identifiers,
    judge_container,
    make_image,
    name_of,
    pattern,
)
from tests.killing import DISK, change, die_at
from tests.long import IS_LONG, only_long
from zeroseal.errors import InUseError, RefusedError, UnfinishedError, ZeroSealError
from zeroseal.images import host_file, output, redo
from zeroseal.images.create import ContainerSpec
from zeroseal.images.detect import open_image
from zeroseal.images.host_file import HostFile
from zeroseal.images.in_place import InPlaceChange
from zeroseal.images.redo import finish_interrupted
from zeroseal.images.redo_head import MAGIC, journal_path

ROOT = Path(__file__).resolve().parents[2]


@pytest.fixture
def quick_path(tmp_path: Path) -> Iterator[Path]:
    """A folder in memory where there is one: these tests make thousands of copies."""
    memory = Path("/dev/shm")
    if not memory.is_dir() or shutil.disk_usage(memory).free < 64 << 20:
        yield tmp_path
        return
    with tempfile.TemporaryDirectory(dir=memory) as folder:
        yield Path(folder)


@pytest.mark.parametrize("way", ["in place", "new file"])
@pytest.mark.parametrize("spec", [spec for spec in SPECS if not spec.fixed], ids=name_of)
def test_a_kill_at_every_call_leaves_before_or_after(
    quick_path: Path, spec: ContainerSpec, way: str
) -> None:
    """In a process of its own: it forks hundreds of times."""
    words = [sys.executable, "-m", "tests.killing", way, spec.format_name, str(spec.fixed)]
    done = subprocess.run(
        [*words, str(quick_path)], capture_output=True, text=True, cwd=ROOT, check=False
    )
    assert done.returncode == 0, done.stdout + done.stderr
    assert int(done.stdout) >= (145 if IS_LONG else 65)
    judge_container(quick_path / "done.disk", spec.format_name, (quick_path / "disk").read_bytes())


@dataclass
class Recorder:
    """What a commit does to the system, in its order: (kind, file, ...)."""

    events: list[tuple[Any, ...]] = field(default_factory=list)

    def install(self, monkeypatch: pytest.MonkeyPatch) -> None:
        for kind in ("write", "punch", "resize", "flush"):
            monkeypatch.setattr(HostFile, kind, self._recorded(kind, getattr(HostFile, kind)))
        real_unlink, real_flush, real_create = Path.unlink, output.flush_folder, redo._create

        def unlink(path: Path, missing_ok: bool = False) -> None:
            self.events.append(("unlink", path.name))
            real_unlink(path, missing_ok=missing_ok)

        def flush_folder(folder: Path) -> None:
            self.events.append(("flush folder", ""))
            real_flush(folder)

        def create(path: Path) -> HostFile:
            self.events.append(("create", path.name))
            return real_create(path)

        monkeypatch.setattr(Path, "unlink", unlink)
        monkeypatch.setattr(redo, "flush_folder", flush_folder)
        monkeypatch.setattr(redo, "_create", create)

    def _recorded(self, kind: str, real: Callable[..., Any]) -> Callable[..., Any]:
        def call(file: HostFile, *words: Any) -> Any:
            kept = tuple(bytes(word) if isinstance(word, memoryview) else word for word in words)
            self.events.append((kind, file.path.name, *kept))
            return real(file, *words)

        return call


def crashed_disks(
    events: list[tuple[Any, ...]], before: bytes, image: str, chance: random.Random
) -> Iterator[dict[str, bytes]]:
    """Yields what may lie on the host's disk after a crash in any moment.

    What was flushed is there. Of what was not, any part may be, in any order; names likewise.
    """
    for moment in range(len(events) + 1):
        past = events[:moment]
        flushed = {
            name: max(
                (i for i, e in enumerate(past) if e[0] == "flush" and e[1] == name), default=-1
            )
            for name in (image, f"{image}.redo")
        }
        names = max((i for i, e in enumerate(past) if e[0] == "flush folder"), default=-1)
        loose = [
            i
            for i, event in enumerate(past)
            if (event[0] in ("write", "punch", "resize") and i > flushed[event[1]])
            or (event[0] in ("create", "unlink") and i > names)
        ]
        policy: list[set[int]] = [set(), set(loose)]
        if loose:
            policy.append(set(loose) - {chance.choice(loose)})
            policy += [{i for i in loose if chance.random() < 0.5} for _ in range(2)]
        for kept in policy:
            lost = set(loose) - kept
            yield replay([event for i, event in enumerate(past) if i not in lost], before, image)


def replay(events: list[tuple[Any, ...]], before: bytes, image: str) -> dict[str, bytes]:
    files = {image: bytearray(before)}
    present = {image}
    for event in events:
        kind, name = event[:2]
        content = files.setdefault(name, bytearray())
        if kind == "create":
            present.add(name)
        elif kind == "unlink":
            present.discard(name)
        elif kind == "write":
            offset, data = event[2:]
            content.extend(bytes(max(0, offset + len(data) - len(content))))
            content[offset : offset + len(data)] = data
        elif kind == "punch":
            offset, length = event[2], min(event[3], len(content) - event[2])
            content[offset : offset + length] = bytes(max(0, length))
        elif kind == "resize":
            content[event[2] :] = bytes(max(0, event[2] - len(content)))
    return {name: bytes(files[name]) for name in present}


@pytest.mark.parametrize("spec", [ContainerSpec("raw"), ContainerSpec("qcow2")], ids=name_of)
def test_every_order_that_a_crash_leaves_is_before_or_after(
    quick_path: Path, spec: ContainerSpec, monkeypatch: pytest.MonkeyPatch
) -> None:
    fix_identifiers(monkeypatch)
    path = make_image(quick_path / "x.disk", spec, pattern(size=DISK))
    before, recorder = path.read_bytes(), Recorder()
    with monkeypatch.context() as patched:
        recorder.install(patched)
        change(path, pieces=25)
    after = path.read_bytes()
    monkeypatch.setattr(os, "fsync", lambda _descriptor: None)  # only for speed, from here on
    inode = path.stat().st_ino
    seen = set()
    for files in crashed_disks(recorder.events, before, "x.disk", random.Random(1)):
        journal_path(path).unlink(missing_ok=True)
        with path.open("r+b") as file:
            file.truncate()
            file.write(files["x.disk"])
        assert path.stat().st_ino == inode
        if "x.disk.redo" in files:
            journal_path(path).write_bytes(files["x.disk.redo"])
        outcome = finish_interrupted(path)
        content = path.read_bytes()
        assert content == (after if outcome == "carried through" else content)
        assert content == before if outcome == "dropped" else content in (before, after)
        seen.add((outcome, content == after))
    assert {
        ("", False),
        ("", True),
        ("dropped", False),
        ("carried through", True),
    } <= seen


@pytest.mark.parametrize("code", [errno.ENOSPC, pytest.param(errno.EIO, marks=only_long)])
def test_a_failing_host_leaves_the_image_before_or_after(
    quick_path: Path, code: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    fix_identifiers(monkeypatch)
    first = make_image(quick_path / "first.disk", ContainerSpec("qcow2"), pattern(size=DISK))
    done = copy_of(first, quick_path / "done.disk")
    change(done, 30)
    before, after = first.read_bytes(), done.read_bytes()
    path, number, told = quick_path / "x.disk", 0, set()
    real = HostFile._write_some
    while True:
        copy_of(first, path)
        left = [number]

        def failing(file: HostFile, *words: Any, left: list[int] = left) -> int:
            left[0] -= 1
            if left[0] < 0:
                raise OSError(code, os.strerror(code))
            return real(file, *words)

        with monkeypatch.context() as patched:
            patched.setattr(HostFile, "_write_some", failing)
            try:
                change(path, 30)
                break
            except UnfinishedError as error:
                told.add("when the cause is solved" in error.message)
                is_kept = "when the cause is solved" in error.message
        assert journal_path(path).exists() == is_kept
        assert finish_interrupted(path) == ("carried through" if is_kept else "")
        assert path.read_bytes() == (after if is_kept else before)
        number += 1
    assert told == {False, True}


def test_a_full_file_system_refuses_before_the_decision(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = make_image(tmp_path / "x.disk", ContainerSpec("raw"), pattern(size=DISK))
    before = path.read_bytes()

    def full(*_words: object) -> None:
        raise OSError(errno.ENOSPC, "full")

    monkeypatch.setattr(host_file, "take_room", full)
    with pytest.raises(UnfinishedError, match="no space left"):
        change(path)
    assert path.read_bytes() == before
    assert [item.name for item in tmp_path.iterdir()] == ["x.disk"]


def interrupted(path: Path) -> None:
    """Leaves a decided change behind, which comes with a companion."""
    for number in range(2000):
        if not die_at(number, lambda: change(path, 5, "x.seal.json")):
            break
        journal = HostFile(journal_path(path)) if journal_path(path).exists() else None
        if journal and redo._is_marked(journal):
            return
        finish_interrupted(path)
    raise AssertionError("the change was never cut off behind its decision")


@pytest.mark.filterwarnings("ignore:.*fork:DeprecationWarning")
def test_a_journal_of_another_file_is_never_laid_over_this_one(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(os, "fsync", lambda _descriptor: None)
    path = make_image(tmp_path / "x.disk", ContainerSpec("raw"), pattern(size=DISK))
    interrupted(path)
    with pytest.raises(RefusedError, match="was interrupted"):
        open_image(path)
    kept = copy_of(path, tmp_path / "kept")
    path.unlink()
    (tmp_path / "another").write_bytes(b"precious" * 1000)
    (tmp_path / "another").rename(path)
    with pytest.raises(RefusedError, match="another disk"):
        finish_interrupted(path)
    assert path.read_bytes() == b"precious" * 1000
    assert kept.stat().st_size == DISK


@pytest.mark.filterwarnings("ignore:.*fork:DeprecationWarning")
def test_what_comes_with_a_change_is_written_when_it_is_finished(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(os, "fsync", lambda _descriptor: None)
    path = make_image(tmp_path / "x.disk", ContainerSpec("raw"), pattern(size=DISK))
    interrupted(path)
    (tmp_path / "x.seal.json").write_text("an older one")
    assert journal_path(path).stat().st_mode & 0o777 == 0o600
    assert finish_interrupted(path) == "carried through"
    assert (tmp_path / "x.seal.json").read_text() == "the record"
    assert sorted(item.name for item in tmp_path.iterdir()) == ["x.disk", "x.seal.json"]
    assert finish_interrupted(path) == ""


def test_a_change_that_goes_on_is_not_finished_by_another(tmp_path: Path) -> None:
    path = make_image(tmp_path / "x.disk", ContainerSpec("raw"), pattern(size=DISK))
    with InPlaceChange(path):
        journal_path(path).write_bytes(b"half")
        with pytest.raises(InUseError):
            finish_interrupted(path)
        with pytest.raises(InUseError):
            InPlaceChange(path)
    assert finish_interrupted(path) == "dropped"


def test_a_journal_holds_nothing_of_what_is_removed_and_goes_without_a_trace(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = make_image(tmp_path / "x.disk", ContainerSpec("qcow2"), b"canary!" * (DISK // 7))
    seen: list[bytes] = []
    monkeypatch.setattr(
        redo, "_discard", lambda journal, _path: seen.append(journal.read(0, journal.size_bytes))
    )
    with InPlaceChange(path) as changing:
        changing.image.zero(0, changing.image.size_bytes)
        changing.image.write(0, b"new")
        changing.commit()
    assert len(seen) == 1
    assert b"canary!" not in seen[0]
    assert b"canary!" not in path.read_bytes()
    assert path.stat().st_blocks * 512 < 1 << 20  # what was zeroed is holes now


def test_a_link_is_not_changed_in_place(tmp_path: Path) -> None:
    path = make_image(tmp_path / "x.disk", ContainerSpec("raw"), pattern(size=DISK))
    (tmp_path / "link").symlink_to(path)
    with pytest.raises(RefusedError, match="symbolic link"):
        InPlaceChange(tmp_path / "link")


def test_random_journals_never_do_harm(tmp_path: Path) -> None:
    path = make_image(tmp_path / "x.disk", ContainerSpec("raw"), pattern(size=DISK))
    before, chance = path.read_bytes(), random.Random(2)
    for _ in range(50):
        raw = bytearray(MAGIC + chance.randbytes(chance.randrange(400)))
        journal_path(path).write_bytes(raw[: chance.randrange(len(raw))])
        try:
            assert finish_interrupted(path) == "dropped"
        except ZeroSealError:
            journal_path(path).unlink()
        assert path.read_bytes() == before


def undone(path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """An image with a decided change that was cut off before its first write."""

    def cut_off(*_words: object) -> None:
        raise RuntimeError("has a truncated name")

    with monkeypatch.context() as patched:
        patched.setattr(redo, "_carry_out", cut_off)
        with InPlaceChange(path) as changing:
            changing.image.write(3 << 20, b"decided" * 100)
            with pytest.raises(RuntimeError):
                changing.commit()
    return path


@pytest.mark.parametrize(
    "words",
    [
        ("traces", "--on", "IMAGE"), ("check", "OTHER", "--deep", "--against", "IMAGE"),
        ("report", "OTHER", "--against", "IMAGE", "--html", "OUT"), ("compare", "OTHER", "IMAGE"),
        ("clone", "IMAGE", "--name", "north", "--to", "OUT"), ("survey", "IMAGE"),
        ("export", "IMAGE", "--format", "vdi", "-o", "OUT"),
    ],
    ids=lambda words: words[0],
)  # fmt: skip
@pytest.mark.parametrize("name", ["as it was", "renamed", "hard link"])
def test_an_unfinished_change_is_noticed_wherever_the_image_is_named(
    zeroseal: Command,
    demo_disk: Path,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    words: tuple[str, ...],
    name: str,
) -> None:
    raw = tmp_path / "disk.raw"
    subprocess.run(["qemu-img", "convert", "-O", "raw", demo_disk, raw], check=True)
    image = undone(raw, monkeypatch)
    if name == "renamed":
        image = image.rename(tmp_path / "other-name.raw")
    elif name == "hard link":
        image = tmp_path / "second.raw"
        image.hardlink_to(raw)
    places = {"IMAGE": str(image), "OTHER": str(demo_disk), "OUT": str(tmp_path / "out")}
    answer = zeroseal(*[places.get(word, word) for word in words])
    assert "was completed" in answer.err
    assert image.read_bytes()[3 << 20 :].startswith(b"decided")
    assert list(tmp_path.glob("*.redo")) == []


def test_a_child_does_not_read_past_an_unfinished_change_of_its_backing_file(
    zeroseal: Command, demo_disk: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    base, child = tmp_path / "base.raw", tmp_path / "child.qcow2"
    subprocess.run(["qemu-img", "convert", "-O", "raw", demo_disk, base], check=True)
    words = ["qemu-img", "create", "-q", "-f", "qcow2", "-F", "raw", "-b", base, child]
    subprocess.run([str(word) for word in words], check=True)
    undone(base, monkeypatch)
    answer = zeroseal("survey", child)
    assert (answer.status, "zeroseal survey on that image" in answer.err) == (4, True)


def test_an_image_with_other_hard_links_is_not_sealed_in_place(
    zeroseal: Command, demo_disk: Path, tmp_path: Path
) -> None:
    image = copy_of(demo_disk, tmp_path / "disk.qcow2")
    image.chmod(0o644)
    (tmp_path / "backup.qcow2").hardlink_to(image)
    before = image.read_bytes()
    answer = zeroseal("seal", image, "--in-place")
    assert (answer.status, "other hard links" in answer.err) == (4, True)
    assert image.read_bytes() == before
