"""The deep check's search against reading the file; prints ratios of medians from one run.

Usage: ``python benchmarks/deep_check.py SEALED ORIGINAL [ROUNDS]``: two images of one machine.
"""

from __future__ import annotations

import statistics
import sys
import time
from collections.abc import Callable
from pathlib import Path

from zeroseal.blocks.store import Store
from zeroseal.filesystems.ext.slack import iter_slack
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.images.detect import open_image
from zeroseal.sealing.choices import SealChoices
from zeroseal.sealing.residue import find_residue
from zeroseal.sealing.subject import Subject
from zeroseal.sealing.values import collect_values
from zeroseal.volumes.disk import read_disk


def median(rounds: int, work: Callable[[], object]) -> float:
    """The median seconds of some work; the first round warms the caches."""
    times = []
    for _round in range(rounds + 1):
        begin = time.perf_counter()
        work()
        times.append(time.perf_counter() - begin)
    return statistics.median(times[1:])


def read_all(store: Store) -> None:
    """Reads all data of a disk, and does nothing with it."""
    for extent in store.iter_extents(0, store.size_bytes):
        end = extent.offset_bytes + extent.length
        for start in range(extent.offset_bytes, end if not extent.is_zero else 0, 4 << 20):
            store.read(start, min(4 << 20, end - start))


def scan_slack(store: Store) -> None:
    """Looks at all slack of all ext volumes."""
    for volume in read_disk(store).volumes:
        if volume.content.is_ext:
            list(iter_slack(ExtVolume(volume.store, volume.name)))


def main() -> None:
    """Prints each part of the check against reading the same data."""
    sealed, original = open_image(Path(sys.argv[1])), open_image(Path(sys.argv[2]))
    rounds = int(sys.argv[3]) if len(sys.argv) > 3 else 3
    values = collect_values(Subject.read(original), SealChoices())
    reading = median(rounds, lambda: read_all(sealed))
    for title, work in (
        (f"searching {len(values.needles)} forms", lambda: find_residue(sealed, values)),
        ("looking at slack", lambda: scan_slack(sealed)),
    ):
        print(f"{title + ' / reading the data':45} {median(rounds, work) / reading:5.2f}")


if __name__ == "__main__":
    main()
