"""Independent judges and makers, and what a missing one means: skip on a laptop, fail in CI."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

_SBIN = os.environ["PATH"] + os.pathsep + "/usr/sbin" + os.pathsep + "/sbin"


def need(*programs: str) -> None:
    """Skips the test where a program is missing; in CI that is a failure."""
    for program in programs:
        if shutil.which(program, path=_SBIN) is None:
            if os.environ.get("CI"):
                pytest.fail(f"the oracle {program} is missing in CI")
            pytest.skip(f"needs {program}")


def run(*words: str | Path, feed: str | None = None, status: int = 0) -> str:
    """Runs a program and returns what it printed; its status must be as given."""
    need(str(words[0]))
    done = subprocess.run(
        [str(word) for word in words],
        input=feed,
        capture_output=True,
        text=True,
        errors="replace",
        env=os.environ | {"PATH": _SBIN, "SOURCE_DATE_EPOCH": "1700000000"},
        check=False,
    )
    assert done.returncode == status, f"{words}: {done.returncode}\n{done.stdout}\n{done.stderr}"
    return done.stdout


def judge_ext(volume: Path) -> None:
    """e2fsck finds nothing, and what it does not look at is right too."""
    run("e2fsck", "-fn", volume)
    header = run("dumpe2fs", "-h", volume)
    assert "needs_recovery" not in header
    assert "orphan_present" not in header
    assert "lost+found" in run("debugfs", "-R", "ls -p /", volume)


def judge_qcow2(image: Path) -> None:
    """qemu-img finds neither errors nor leaks."""
    report = json.loads(run("qemu-img", "check", "--output=json", image))
    assert not report.get("leaks")
    assert not report.get("corruptions")


def image_info(image: Path) -> dict[str, Any]:
    """What qemu-img says of an image."""
    found: dict[str, Any] = json.loads(run("qemu-img", "info", "--output=json", image))
    return found


def to_raw(image: Path, raw: Path) -> Path:
    """The virtual disk of an image, by qemu-img."""
    run("qemu-img", "convert", "-O", "raw", image, raw)
    return raw


def partition_range(raw: Path, number: int) -> tuple[int, int]:
    """(offset, length) of a partition in bytes, as sgdisk tells them."""
    told = run("sgdisk", "-i", str(number), raw)
    values = {
        line.partition(":")[0]: line.partition(":")[2].split()[0]
        for line in told.splitlines()
        if line.startswith(("First sector", "Partition size"))
    }
    return int(values["First sector"]) * 512, int(values["Partition size"]) * 512


def cut_partition(raw: Path, number: int, target: Path) -> Path:
    """One partition of a raw disk, found by sgdisk, as a file of its own."""
    return cut_range(raw, partition_range(raw, number), target)


def cut_range(raw: Path, place: tuple[int, int], target: Path) -> Path:
    """A range of a raw disk, (offset, length), as a file of its own, with holes for zeros."""
    offset, left = place
    with raw.open("rb") as disk, target.open("wb") as cut:
        disk.seek(offset)
        cut.truncate(left)
        while left:
            piece = disk.read(min(left, 1 << 20))
            left -= len(piece)
            if piece.count(0) < len(piece):
                cut.write(piece)
            else:
                cut.seek(len(piece), os.SEEK_CUR)
    return target


def find_texts(raw: Path, texts: list[bytes]) -> set[bytes]:
    """Which of the texts grep finds in a file, in one pass; shares no code with ours."""
    need("grep")
    done = subprocess.run(
        ["grep", "-a", "-o", "-h", "-F", "-f", "-", str(raw)],
        input=b"\n".join(texts),
        capture_output=True,
        check=False,
        env=os.environ | {"LC_ALL": "C"},
    )
    assert done.returncode in (0, 1), done.stderr
    return set(done.stdout.splitlines())


@contextmanager
def mounted(point: Path, *words: str | Path) -> Iterator[Path]:
    """Mounts something at a new folder, by the kernel; skips where that is not allowed."""
    point.mkdir()
    try:
        run("mount", *words, point)
    except AssertionError:
        if os.environ.get("CI"):
            raise
        pytest.skip("cannot mount here")
    try:
        yield point
    finally:
        run("umount", point)
