"""Exports against ``qemu-img convert``, surveys of large empty disks, commits in place.

Usage: ``python benchmarks/containers.py IMAGE [ROUNDS]`` (needs qemu-img). Prints ratios of medians
from one run; a real disk of some gigabytes is a good IMAGE.
"""

from __future__ import annotations

import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from zeroseal.demo.scenario import SHEET, lay_out
from zeroseal.images.in_place import InPlaceChange
from zeroseal.machines.build import BuildWish, build_machine
from zeroseal.machines.sheet.load import load_sheet
from zeroseal.machines.yard import Yard

ZEROSEAL = [sys.executable, "-m", "zeroseal"]
QEMU = ["qemu-img", "convert"]


def timed(work: Callable[[], object]) -> float:
    """Seconds that some work took."""
    begin = time.perf_counter()
    work()
    return time.perf_counter() - begin


def run(*words: str | Path) -> None:
    """Runs a program that must succeed."""
    subprocess.run([str(word) for word in words], check=True, stdout=subprocess.DEVNULL)


def ratio(title: str, ours: list[float], others: list[float]) -> None:
    """Prints one line; the first of each is a warm-up."""
    middle = statistics.median(ours[1:]) / statistics.median(others[1:])
    print(f"{title:62} {middle:5.2f}", flush=True)


def exports(raw: Path, folder: Path, rounds: int) -> None:
    """Each kind of export against qemu-img, without and with a flush behind it."""
    qcow2 = folder / "source.qcow2"
    run(*QEMU, "-O", "qcow2", raw, qcow2)
    stream = ["-O", "vmdk", "-o", "subformat=streamOptimized"]
    cases = (
        ("raw to qcow2", raw, ["--format", "qcow2"], ["-O", "qcow2"]),
        ("qcow2 to raw", qcow2, ["--format", "raw"], ["-O", "raw"]),
        ("raw to compressed qcow2 (level 6)", raw, ["--format", "qcow2", "--compress"],
         ["-c", "-W", "-m", "2", "-O", "qcow2"]),
        ("raw to stream-optimized VMDK (level 6)", raw, ["--format", "vmdk", "--compress"], stream),
    )  # fmt: skip
    for case in cases:
        compare_export(*case, folder, rounds)


def compare_export(
    title: str, source: Path, ours: list[str], theirs: list[str], folder: Path, rounds: int
) -> None:
    """Times one kind of export and its counterpart in turn."""
    out, other = folder / "ours", folder / "theirs"
    is_slow = "level" in title
    times: dict[str, list[float]] = {"ours": [], "plain": [], "flushed": []}
    sizes = 0.0
    for _round in range(2 if is_slow else rounds + 1):
        command: list[str | Path] = [
            *ZEROSEAL,
            "export",
            source,
            *ours,
            "-o",
            out,
            "--no-verify",
            "--quiet",
        ]
        times["ours"].append(timed(lambda: run(*command)))  # noqa: B023 - called at once
        plain = timed(lambda: run(*QEMU, *theirs, source, other))
        times["plain"].append(plain)
        times["flushed"].append(plain + timed(lambda: run("sync", other)))
        sizes = out.stat().st_blocks / other.stat().st_blocks
        out.unlink()
        other.unlink()
        os.sync()
    ratio(f"{title} / qemu-img convert", times["ours"], times["plain"])
    ratio(f"{title} / the same and flush", times["ours"], times["flushed"])
    if is_slow:
        print(f"{'  size of ours / size of qemu-img':60} {sizes:7.3f}")


def surveys(folder: Path, rounds: int) -> None:
    """A small guest on disks of growing virtual size, against importing numpy."""
    lay_out(folder / "demo")
    sheet = load_sheet(folder / "demo" / SHEET)
    disk = build_machine(sheet, Yard(folder / "yard"), BuildWish(int(time.time()))).machine.disk
    numpy = [timed(lambda: run(sys.executable, "-c", "import numpy")) for _ in range(rounds + 3)]
    for size in ("1G", "100G", "1000G"):
        grown = folder / f"grown-{size}.qcow2"
        run(*ZEROSEAL, "export", disk, "--format", "qcow2", "-o", grown, "--disk-size", size,
            "--quiet")  # fmt: skip
        times = [
            timed(lambda grown=grown: run(*ZEROSEAL, "survey", grown))  # type: ignore[misc]
            for _ in range(rounds + 3)
        ]
        ratio(f"survey of a {size} disk / import numpy", times, numpy)


def commits(raw: Path, folder: Path, rounds: int) -> None:
    """A change in place of 1, 10 and 100 MiB of a disk, against a copy of its file."""
    path = folder / "place.qcow2"
    run(*QEMU, "-O", "qcow2", raw, path)
    copies = [
        timed(lambda: shutil.copyfile(path, folder / "copy"))
        + timed(lambda: run("sync", folder / "copy"))
        for _ in range(rounds + 1)
    ]
    for megabytes in (1, 10, 100):
        times = []
        for _round in range(rounds + 1):
            with InPlaceChange(path) as change:
                for number in range(megabytes):
                    change.image.write(number << 21, os.urandom(1 << 20))
                times.append(timed(change.commit))
        ratio(f"commit in place of {megabytes} MiB / copy of the file and flush", times, copies)


def main() -> None:
    """Runs all comparisons."""
    source = Path(sys.argv[1])
    rounds = int(sys.argv[2]) if len(sys.argv) > 2 else 3
    with tempfile.TemporaryDirectory(dir=source.parent) as name:
        folder = Path(name)
        raw = folder / "source.raw"
        run(*QEMU, "-O", "raw", source, raw)
        exports(raw, folder, rounds)
        surveys(folder, rounds)
        commits(raw, folder, rounds)


if __name__ == "__main__":
    main()
