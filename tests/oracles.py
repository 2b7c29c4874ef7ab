"""Independent judges and makers, and what a missing one means: skip on a laptop, fail in CI."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
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
    if not any(f" {name}" in header for name in _UNKNOWN_TO_THIS_KERNEL):
        judge_by_kernel(volume)


# features of ext4 that the kernel of the test machines was built without
_UNKNOWN_TO_THIS_KERNEL = ("casefold", "verity", "quota", "encrypt", "64k")


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


def judge_by_kernel(volume: Path, *options: str) -> None:
    """The kernel's own driver mounts a copy read-write, reads all of it, writes, and is silent.

    It sees what checkers do not: an XFS log with another UUID, say. Nothing is asked of a machine
    that may not mount.
    """
    if os.geteuid() != 0 and not os.environ.get("CI"):
        return
    with tempfile.TemporaryDirectory(dir=volume.parent) as folder:
        copy = Path(folder) / "copy"
        run("cp", "--sparse=always", volume, copy)
        copy.chmod(0o600)
        with kernel_mount(copy, *options) as point:
            for place, _folders, files in os.walk(point):
                for name in files:
                    path = Path(place, name)
                    if not path.is_symlink() and path.is_file():
                        with path.open("rb") as file:
                            while file.read(1 << 20):
                                pass
            written = point / "written by the kernel"
            with suppress(OSError):  # a full volume
                written.mkdir()
                (written / "file").write_bytes(b"k" * 5000)
            run("rm", "-rf", written)


@contextmanager
def kernel_mount(volume: Path, *options: str) -> Iterator[Path]:
    """Mounts an ext or XFS volume by the kernel's driver, which must say nothing of damage.

    Tests run beside each other and their volumes share UUIDs: what the kernel says is told apart by
    the loop device, from a mark of this mount's own on.
    """
    point = volume.with_name(volume.name + ".mnt")
    mark = f"zero seal test {os.getpid()} {time.monotonic_ns()}"
    with suppress(OSError):
        Path("/dev/kmsg").write_text(mark + "\n")
    with mounted(point, "-o", ",".join(["loop", *options]), volume):
        device = run("findmnt", "-n", "-o", "SOURCE", point).strip().rpartition("/")[2]
        yield point
    point.rmdir()
    drivers = (f"XFS ({device})", f"EXT4-fs ({device})", f"(device {device})", f"EXT2-fs ({device}")
    lines = run("dmesg").rpartition(mark)[2].splitlines()
    said = [line for line in lines if "BTRFS" not in line]  # of a test beside this one
    odd = [line for line in said if any(driver in line for driver in drivers)]
    assert [line for line in odd if not any(word in line for word in _QUIET)] == []


_QUIET = (
    "Mounting V5", "Ending clean mount", "Unmounting Filesystem", "unmounting filesystem",
    "mounted filesystem", "EXPERIMENTAL", "without journal", "supports timestamps until",
    "mounting ext", "eprecated",
)  # fmt: skip


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
