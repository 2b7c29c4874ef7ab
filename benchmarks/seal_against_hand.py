"""Survey, plan and apply against doing it by hand: mount, delete, unmount; and how both grow.

Usage: ``python benchmarks/seal_against_hand.py DISK.raw [ROUNDS]`` (root, for the mount by hand).
By hand the same places are deleted with ``rm`` in a mounted copy, and free space is filled with
zeros, which is what a careful administrator does; that leaves slack, journal and inodes.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from zeroseal.blocks.staged import StagedStore
from zeroseal.filesystems.drivers import read_disk
from zeroseal.images.detect import open_image
from zeroseal.progress import quiet
from zeroseal.sealing.apply import apply_plan
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.job import plan_inspected
from zeroseal.sealing.policy import SealOptions, resolve

CHOICES = resolve(SealOptions(expect_seed=True))
NOW = 1_800_000_000
GUEST = {
    "etc/os-release": "ID=tideline\n",
    "etc/hostname": "pier-ref\n",
    "etc/machine-id": "5f3a9c0d7e21448b9d10c3b7a6e5f401\n",
    "etc/passwd": "root:x:0:0:root:/root:/bin/sh\n",
    "etc/shadow": "root:!:1::::::\n",
}


def median(rounds: int, work: Callable[[], float]) -> float:
    """The median of what some work returns; the first round warms the caches."""
    return statistics.median([work() for _round in range(rounds + 1)][1:])


def by_us(path: Path) -> float:
    """Seconds for survey, plan and apply in a staged layer."""
    begin = time.perf_counter()
    image = open_image(path)
    staged = StagedStore(image)
    inspection = Inspection.read(staged, image=image)
    planned = plan_inspected(inspection, CHOICES, quiet)
    apply_plan(planned.plan, inspection, quiet, NOW)
    staged.close()
    image.close()
    return time.perf_counter() - begin


def by_hand(path: Path, folder: Path) -> float:
    """Seconds for mounting the root volume of a copy, deleting, filling with zeros, unmounting."""
    copy = folder / "copy.raw"
    subprocess.run(["cp", "--sparse=always", path, copy], check=True)
    store = open_image(path)
    root = next(
        volume for volume in read_disk(store).volumes if volume.content.kind.startswith("ext")
    )
    store.close()
    point = folder / "point"
    point.mkdir(exist_ok=True)
    offset = f"offset={root.offset_bytes},sizelimit={root.size_bytes}"
    begin = time.perf_counter()
    subprocess.run(["mount", "-o", f"loop,{offset}", copy, point], check=True)
    doomed = "etc/machine-id etc/ssh/ssh_host_* var/log/* var/cache/apt/* var/lib/apt/lists/* tmp/*"
    script = f"rm -rf {doomed}; dd if=/dev/zero of=fill bs=1M 2>/dev/null; sync; rm fill; sync"
    subprocess.run(script, shell=True, cwd=point, check=True)
    subprocess.run(["umount", point], check=True)
    return time.perf_counter() - begin


def made_guest(folder: Path, size: str, files: int) -> Path:
    """A small guest on a file system of some size, with files in folders of a hundred."""
    tree = folder / f"tree-{files}"
    for name, text in GUEST.items():
        (tree / name).parent.mkdir(parents=True, exist_ok=True)
        (tree / name).write_text(text)
    for number in range(files):
        place = tree / "srv" / str(number // 100) / f"f{number}"
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_text("x" * (number % 50))
    path = folder / f"{size}-{files}.raw"
    inodes = str(max(4096, files * 2))
    subprocess.run(
        ["mke2fs", "-q", "-F", "-t", "ext4", "-N", inodes, "-d", tree, path, size], check=True
    )
    return path


def main() -> None:
    """Prints the ratio to work by hand, and the growth with size and with files."""
    rounds = int(sys.argv[2]) if len(sys.argv) > 2 else 3
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        disk = Path(sys.argv[1])
        ours = median(rounds, lambda: by_us(disk))
        hand = median(rounds, lambda: by_hand(disk, folder))
        print(f"{'by hand / survey, plan and apply':50} {hand / ours:6.2f}")
        base = median(rounds, lambda: by_us(made_guest(folder, "1G", 1000)))
        for size in ("10G", "100G"):
            path = made_guest(folder, size, 1000)
            seconds = median(rounds, lambda path=path: by_us(path))  # type: ignore[misc]
            print(f"{f'the same guest on {size} / on 1G':50} {seconds / base:6.2f}")
        for files in (4000, 16_000):
            path = made_guest(folder, "1G", files)
            seconds = median(rounds, lambda path=path: by_us(path))  # type: ignore[misc]
            print(f"{f'{files} files / 1000 files':50} {seconds / base:6.2f}")


if __name__ == "__main__":
    main()
