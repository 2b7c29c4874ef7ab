"""Every claim about speed in one run, as one table: ours against what does the plain part of it.

Usage: ``python benchmarks/run_all.py --image DISK.qcow2 [--rounds N] [--files N ...] [--large GIB]
[--write]``: a real Linux disk in qcow2; needs qemu-img, and mke2fs for ``--files`` and ``--large``.

Both sides of a row run in turn. Ratios are of medians of wall time; the seconds beside them, of
processors and of the clock, hold for the machine of that run only. ``--write`` puts the table into
``benchmarks/README.md``.
"""

from __future__ import annotations

import argparse
import os
import platform
import random
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path

from survey_against_find import SYSTEM

README = Path(__file__).with_name("README.md")
BEGIN, END = "<!-- table -->", "<!-- end of table -->"
ZEROSEAL: list[str | Path] = [sys.executable, "-m", "zeroseal"]
FILES_IN_A_FOLDER = 500


@dataclass
class Cost:
    """What one run took; seconds, and the peak memory of its largest process in MiB."""

    wall: float
    processor: float
    peak: int


@dataclass
class Side:
    """One side of a comparison: a command, and what puts things back before each round."""

    words: Sequence[str | Path]
    before: Callable[[], object] = lambda: None
    costs: list[Cost] = field(default_factory=list)

    def run(self) -> None:
        """Runs it once and notes the cost."""
        self.before()
        self.costs.append(measure(self.words))

    @property
    def middle(self) -> Cost:
        """The medians."""
        return Cost(
            statistics.median(cost.wall for cost in self.costs),
            statistics.median(cost.processor for cost in self.costs),
            max(cost.peak for cost in self.costs),
        )


def measure(words: Sequence[str | Path]) -> Cost:
    """Runs a program that must succeed."""
    environ = {key: value for key, value in os.environ.items() if key != "PYTHONDONTWRITEBYTECODE"}
    began = time.perf_counter()
    child = subprocess.Popen([str(word) for word in words], stdout=subprocess.DEVNULL, env=environ)
    _pid, status, used = os.wait4(child.pid, 0)
    child.returncode = os.waitstatus_to_exitcode(status)
    wall = time.perf_counter() - began
    if child.returncode:
        raise SystemExit(f"{' '.join(map(str, words))} ended with {child.returncode}")
    return Cost(wall, used.ru_utime + used.ru_stime, used.ru_maxrss >> 10)


def shell(text: str) -> list[str]:
    """A line for the shell."""
    return ["sh", "-c", text]


def gone(*paths: Path) -> Callable[[], None]:
    """Removes results of an earlier round, and lets the host finish writing."""

    def remove() -> None:
        for path in paths:
            path.unlink(missing_ok=True)
            path.with_name(f"{path.name}.seal.json").unlink(missing_ok=True)
        os.sync()

    return remove


class Table:
    """The rows of the comparison."""

    def __init__(self, rounds: int) -> None:
        self._rounds = rounds
        self.lines = [
            "| work | against | ratio | to reach | seconds (processors; clock) | peak MiB |",
            "| --- | --- | --- | --- | --- | --- |",
        ]

    def compare(
        self, work: str, ours: Side, against: str = "", other: Side | None = None, goal: str = ""
    ) -> None:
        """Adds a row; the first round warms the caches and is not counted."""
        for number in range(self._rounds + 1):
            for side in (ours, *([other] if other else [])):
                side.run()
                if not number:
                    side.costs.clear()
        mine = ours.middle
        ratio, seconds = "", f"{mine.processor:.2f}; {mine.wall:.2f}"
        if other:
            theirs = other.middle
            ratio = f"{mine.wall / theirs.wall:.2f}"
            seconds += f" / {theirs.processor:.2f}; {theirs.wall:.2f}"
        self.add(work, against, ratio, goal, seconds, str(mine.peak))

    def add(self, *cells: str) -> None:
        """Adds a row as it is."""
        self.lines.append(f"| {' | '.join(cells)} |")
        print(self.lines[-1], flush=True)


def compare_seals(table: Table, source: Path, folder: Path) -> None:
    """Whole seals: as it is, compressed in three ways, in place."""
    sealed, copy = folder / "sealed.qcow2", folder / "copy.qcow2"
    convert = f"qemu-img convert -O qcow2 '{source}' '{copy}'"
    table.compare(
        "whole seal, byte search, qcow2 to qcow2",
        Side([*ZEROSEAL, "seal", source, "-o", sealed, "--quiet"], gone(sealed)),
        "`qemu-img convert` and flush",
        Side(shell(f"{convert} && sync '{copy}'"), gone(copy)),
        "1.5; 5 s of processors; 250 MiB",
    )
    packed = Side(shell(convert.replace("convert", "convert -c", 1)), gone(copy))
    small = folder / "small.qcow2"
    for kind in ("small", "fast", "zstd"):
        words = [*ZEROSEAL, "seal", source, "-o", sealed, f"--compress={kind}", "--quiet"]
        goal = "0.5" if kind == "small" else ""
        title = f"the same with `--compress {kind}`".replace(" small", "")
        table.compare(title, Side(words, gone(sealed)), "`qemu-img convert -c`", packed, goal)
        if kind == "small":
            measure(["qemu-img", "convert", "-c", "-O", "qcow2", sealed, small])
        share = sealed.stat().st_size / small.stat().st_size
        table.add(f"size with {kind}", "`convert -c` of the sealed disk", f"{share:.2f}",
                  "1.03" if kind == "small" else "", "", "")  # fmt: skip
    gone(sealed, copy, small)()


def compare_raw(table: Table, source: Path, folder: Path) -> None:
    """Seals in place, and checks of what was sealed."""
    raw, work, copy = folder / "disk.raw", folder / "work.raw", folder / "copy.raw"
    measure(["qemu-img", "convert", "-O", "raw", source, raw])

    def fresh() -> None:
        gone(work)()
        measure(["cp", "--sparse=always", raw, work])
        os.sync()

    plain = Side(["cp", "--sparse=always", raw, copy], gone(copy))
    for level, goal in (("deep", "4 s"), ("full", "2 s")):
        words = [*ZEROSEAL, "seal", work, "--in-place", "--level", level, "--quiet"]
        table.compare(f"seal in place, raw, level {level}", Side(words, fresh), "`cp`", plain, goal)
    table.compare(
        "check --deep of the sealed raw disk",
        Side([*ZEROSEAL, "check", "--deep", work, "--quiet"]),
        "`cat`, warm",
        Side(shell(f"cat '{work}' >/dev/null")),
        "3",
    )
    sealed = folder / "sealed.qcow2"
    measure([*ZEROSEAL, "seal", source, "-o", sealed, "--quiet"])
    table.compare(
        "check (full) of the sealed qcow2",
        Side([*ZEROSEAL, "check", sealed, "--quiet"]),
        "`qemu-img convert -O raw`",
        Side(["qemu-img", "convert", "-O", "raw", sealed, copy], gone(copy)),
        "1.0",
    )
    gone(raw, work, copy, sealed)()


def compare_starts(table: Table, source: Path, folder: Path) -> None:
    """What is felt as the start of the program."""
    measure([*ZEROSEAL, "demo", "--to", folder / "demo", "--quiet"])
    numpy = Side([sys.executable, "-c", "import numpy"])
    demo = folder / "demo" / "tideline-4.qcow2"
    for title, words, goal in (
        ("survey of the demo disk", ["survey", demo], "2.0"),
        ("`traces`", ["traces"], ""),
        ("`--help`", ["--help"], "0.10 s"),
    ):
        table.compare(title, Side([*ZEROSEAL, *words]), "`import numpy`", numpy, goal)
    table.compare("survey of the real disk", Side([*ZEROSEAL, "survey", source]), goal="1.2 s")


def make_guest(folder: Path, files: int) -> Path:
    """An ext4 volume with a small system, and this many files that a seal removes."""
    tree, image = folder / "tree", folder / "files.img"
    for path, text in SYSTEM.items():
        (tree / path).parent.mkdir(parents=True, exist_ok=True)
        (tree / path).write_text(text)
    for number in range(files):
        place = tree / f"var/tmp/batch/{number // FILES_IN_A_FOLDER:06}"
        if number % FILES_IN_A_FOLDER == 0:
            place.mkdir(parents=True)
        (place / f"part-{number}").write_bytes(b"tide\n")
    with image.open("wb") as file:
        file.truncate((256 << 20) + files * 6144)
    measure(["mke2fs", "-q", "-t", "ext4", "-N", str(files * 9 // 8 + 9000), "-d", tree, image])
    measure(["rm", "-r", tree])
    return image


def time_removals(table: Table, sizes: list[int], folder: Path) -> None:
    """Seals of guests with many files, all of them removed."""
    for files in sizes:
        image, sealed = make_guest(folder, files), folder / "files.sealed.img"
        words = [
            *ZEROSEAL,
            "seal",
            image,
            "-o",
            sealed,
            "--expect-seed",
            "--same-size-clones",
            "--quiet",
        ]
        cost = measure(words)
        table.add(
            f"seal that removes {files:,} files", "", f"{cost.wall / files * 1000:.2f} ms a file",
            "1 ms", f"{cost.processor:.1f}; {cost.wall:.1f}", str(cost.peak),
        )  # fmt: skip
        gone(image, sealed)()


def iter_text(gib: int) -> Iterator[bytes]:
    """Random text, in pieces of 1 MiB."""
    chance = random.Random(7)
    letters = bytes(range(97, 123)) * 9 + b" " * 22
    for _number in range(gib << 10):
        yield chance.randbytes(1 << 20).translate(letters)


def compare_large(table: Table, gib: int, folder: Path) -> None:
    """A disk of 100 GiB with much random text on it, none of it sparse on the host."""
    image, text, sealed = folder / "large.img", folder / "text", folder / "large.sealed.img"
    tree = folder / "large-tree"
    for path, content in SYSTEM.items():
        (tree / path).parent.mkdir(parents=True, exist_ok=True)
        (tree / path).write_text(content)
    with image.open("wb") as file:
        file.truncate(100 << 30)
    measure(["mke2fs", "-q", "-t", "ext4", "-E", "lazy_itable_init=1", "-d", tree, image])
    with text.open("wb") as file:
        for number, piece in enumerate(iter_text(gib), 1):
            file.write(piece)
            if number % 1024 == 0:  # a GiB at a time: the host has no room for all of it twice
                file.flush()
                command = f"write {text} /text-{number // 1024}"
                measure(["debugfs", "-w", "-R", command, image])
                file.seek(0)
    text.unlink()
    if image.stat().st_blocks * 512 < gib << 30:
        raise SystemExit("debugfs did not write the text")
    copy = folder / "large.copy.img"
    ours = measure(
        [*ZEROSEAL, "seal", image, "-o", sealed, "--expect-seed", "--same-size-clones", "--quiet"]
    )
    gone(sealed)()
    theirs = measure(shell(f"cp --sparse=always '{image}' '{copy}' && sync '{copy}'"))
    table.add(
        f"seal of 100 GiB with {gib} GiB of data", "`cp --sparse=always` and flush",
        f"{ours.wall / theirs.wall:.2f}", "the copy's speed",
        f"{ours.processor:.1f}; {ours.wall:.1f} / {theirs.processor:.1f}; {theirs.wall:.1f}",
        str(ours.peak),
    )  # fmt: skip
    gone(image, copy)()


def main() -> None:
    """Runs all of it and prints the table."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0] if __doc__ else "")
    parser.add_argument("--image", type=Path, required=True)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--files", type=int, nargs="*", default=[])
    parser.add_argument("--large", type=int, default=0, metavar="GIB")
    parser.add_argument("--write", action="store_true")
    args = parser.parse_args()
    source = args.image.resolve()
    table = Table(args.rounds)
    with tempfile.TemporaryDirectory(dir=source.parent) as name:
        folder = Path(name)
        compare_starts(table, source, folder)
        compare_seals(table, source, folder)
        compare_raw(table, source, folder)
        time_removals(table, args.files, folder)
        if args.large:
            compare_large(table, args.large, folder)
    cores = len(os.sched_getaffinity(0))
    limit = resource.getpagesize() * os.sysconf("SC_PHYS_PAGES") >> 30
    machine = f"{cores} processors, {limit} GiB, Python {platform.python_version()}"
    head = f"{datetime.now(UTC):%Y-%m-%d}, {machine}"
    text = "\n".join(["", head, "", *table.lines, ""])
    if args.write:
        before, _begin, rest = README.read_text().partition(BEGIN)
        README.write_text(f"{before}{BEGIN}\n{text}\n{END}{rest.partition(END)[2]}")


if __name__ == "__main__":
    main()
