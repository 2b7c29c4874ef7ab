"""Ratios of shelf and clones, from one run: against ``cp``, and against the tool's own start.

Usage: ``python benchmarks/templates.py SEALED.qcow2 FOLDER`` with the sealed disk of a real guest,
and a folder with room for four copies of it. Everything is measured warm, as whole processes.
"""

from __future__ import annotations

import shutil
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from statistics import median

ZEROSEAL = [sys.executable, "-m", "zeroseal"]
IMPORTS = "import zeroseal.cli.main, zeroseal.cli.show_clones, zeroseal.templates.shelf.shelf"
RUNS = 5


def run(*words: str | Path) -> None:
    """Runs a command, whose output nobody wants."""
    subprocess.run([str(word) for word in words], check=True, stdout=subprocess.DEVNULL)


def seconds(action: Callable[[int], None]) -> float:
    """The median of some runs, after one that does not count."""
    taken = []
    for number in range(RUNS + 1):
        begin = time.perf_counter()
        action(number)
        taken.append(time.perf_counter() - begin)
    return median(taken[1:])


def main() -> None:
    """Prints the ratios."""
    sealed, folder = Path(sys.argv[1]), Path(sys.argv[2])
    shelf, yard, copy = folder / "shelf", folder / "yard", folder / "copy"
    run(*ZEROSEAL, "shelf", "add", sealed, "--name", "a", "--version", "1", "--shelf", shelf)
    disk = next((shelf / "a/1").glob("disk.*[!n]"))
    at = ("--to", yard, "--shelf", shelf, "--json")
    start = seconds(lambda _n: run(sys.executable, "-c", IMPORTS))

    def cp(_number: int, flushed: bool) -> None:
        copy.unlink(missing_ok=True)
        run("cp", "--reflink=auto", "--sparse=always", disk, copy)
        if flushed:
            run("sync", copy)

    def full(number: int) -> None:
        run(*ZEROSEAL, "clone", "a", "--name", f"full-{number}", *at)
        shutil.rmtree(yard / f"full-{number}")

    linked = seconds(lambda n: run(*ZEROSEAL, "clone", "a", "--name", f"l-{n}", "--linked", *at))
    print(f"linked clone / start of the tool: {linked / start:.2f}")
    by_cp, flushed = seconds(lambda n: cp(n, flushed=False)), seconds(lambda n: cp(n, flushed=True))
    made = seconds(full)
    print(f"full clone / cp: {made / by_cp:.2f}; / cp with a flush, as ours has: ", end="")
    print(f"{made / flushed:.2f}; without our start: {(made - start) / flushed:.2f}")
    read = seconds(lambda _n: run("cat", disk))
    verify = seconds(lambda _n: run(*ZEROSEAL, "shelf", "verify", "--shelf", shelf))
    code = (
        "import sys, blake3; h = blake3.blake3(max_threads=2); f = open(sys.argv[1], 'rb')\n"
        "while piece := f.read(8 << 20): h.update(piece)"
    )
    hashed = seconds(lambda _n: run(sys.executable, "-c", code, disk))
    print(f"shelf verify / BLAKE3 on two cores: {verify / hashed:.2f}; without our start: ", end="")
    print(f"{(verify - start) / hashed:.2f}; / cat: {verify / read:.2f}")
    quick = seconds(lambda _n: run(*ZEROSEAL, "check", disk, "--level", "quick"))
    whole = seconds(lambda _n: run(*ZEROSEAL, "check", disk))
    print(f"check --level quick / start: {quick / start:.2f}; full / quick: {whole / quick:.2f}")


if __name__ == "__main__":
    main()
