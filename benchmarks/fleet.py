"""Ratios of many images, from one run: a helper and a cluster against a program for each image.

Usage: ``PYTHONPATH=. python benchmarks/fleet.py IMAGE FOLDER [COUNT]`` with a small image, an empty
folder, and how many links to it are checked (100). Prints wall time as ratios, processor seconds
and peak memory of the processes of this computer, and what one image costs over its own check.
"""

from __future__ import annotations

import os
import resource
import subprocess
import sys
import time
from pathlib import Path

from tests.fleet_lab import cluster

ZEROSEAL = [sys.executable, "-m", "zeroseal"]


def measure(words: list[str]) -> tuple[float, float]:
    """(wall seconds, processor seconds of it and its children) of a command."""
    before, began = resource.getrusage(resource.RUSAGE_CHILDREN), time.perf_counter()
    subprocess.run(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False)
    taken, after = time.perf_counter() - began, resource.getrusage(resource.RUSAGE_CHILDREN)
    used = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
    return taken, used


def main() -> None:
    """Prints the ratios."""
    image, folder = Path(sys.argv[1]), Path(sys.argv[2])
    count = int(sys.argv[3]) if len(sys.argv) > 3 else 100
    images = folder / "images"
    images.mkdir(parents=True)
    for number in range(count):
        os.link(image, images / f"{number:05}{image.suffix}")
    check = [*ZEROSEAL, "check", str(images)]
    single = [measure([*ZEROSEAL, "check", str(image)]) for _ in range(5)][2]
    print(f"{count} images; a program for each takes {single[0]:.2f} s, {single[1]:.2f} s of CPU")
    for jobs in (1, 2):
        wall, used = measure([*check, "--jobs", str(jobs)])
        each = single[0] * count / jobs
        print(
            f"--jobs {jobs}: {wall / each:.2f} of a program for each at a time; "
            f"{used / count:.3f} s of CPU an image"
        )
    walls = {}
    for workers in (1, 2):
        with cluster(folder / f"dask{workers}", workers) as lab:
            measure([*check, "--on", str(lab.file)])  # its helpers are started now
            walls[workers], used = measure([*check, "--on", str(lab.file)])
            print(f"{workers} workers: {walls[workers] / (single[0] * count):.2f} of one by one")
            print(f"  {used / count:.3f} s of CPU an image here, beside the workers")
    print(f"speed-up by a second worker: {walls[1] / walls[2]:.2f}")
    peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    print(f"peak memory of the largest process: {peak:.0f} MiB")


if __name__ == "__main__":
    main()
