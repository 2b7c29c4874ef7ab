"""What a deep check costs against ``cat`` of the raw disk; ratios of medians from one run.

Usage: ``python benchmarks/deep_check.py SEALED.raw ORIGINAL [ROUNDS]``: two images of one machine.
The last line has the search inside compressed files, in decompressed megabytes a second.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

from zeroseal.blocks.pipeline import search_store
from zeroseal.blocks.store import Store
from zeroseal.filesystems.drivers import read_disk
from zeroseal.filesystems.ext.slack import iter_slack
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.guests.compressors import iter_unpacked
from zeroseal.guests.linux.initramfs import skip_plain_archives
from zeroseal.images.detect import open_image
from zeroseal.progress import quiet
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.packed_files import iter_packed, search_packed_files
from zeroseal.sealing.policy import DEFAULT_POLICY
from zeroseal.sealing.signatures import signature_needles
from zeroseal.sealing.value_collection import collect_values


def median(rounds: int, work: Callable[[], object]) -> float:
    """The median seconds of some work; the first round warms the caches."""
    times = []
    for _round in range(rounds + 1):
        begin = time.perf_counter()
        work()
        times.append(time.perf_counter() - begin)
    return statistics.median(times[1:])


def cat(path: Path) -> None:
    """Reads a file and does nothing with it."""
    subprocess.run(f"cat '{path}' >/dev/null", shell=True, check=True)


def scan_slack(store: Store) -> None:
    """Looks at all slack of all ext volumes."""
    for volume in read_disk(store).volumes:
        if volume.content.kind.startswith("ext"):
            list(iter_slack(ExtVolume(volume.store, volume.name)))


def main() -> None:
    """Prints each part of the check against ``cat``."""
    path = Path(sys.argv[1])
    sealed, original = open_image(path), open_image(Path(sys.argv[2]))
    rounds = int(sys.argv[3]) if len(sys.argv) > 3 else 3
    values = collect_values(Inspection.read(original), DEFAULT_POLICY)
    needles = values.needles + signature_needles(len(values.values))
    system = Inspection.read(sealed).system
    reading = median(rounds, lambda: cat(path))
    parts = (
        ("a: places that must be zero (slack)", lambda: scan_slack(sealed)),
        (f"b, c: searching {len(needles)} forms", lambda: search_store(sealed, needles)),
    )
    total = 0.0
    for title, work in parts:
        seconds = median(rounds, work)
        total += seconds
        print(f"{title + ' / cat':50} {seconds / reading:5.2f}")
    print(f"{'a to c together / cat':50} {total / reading:5.2f}")
    unpacked = sum(
        len(piece)
        for item in iter_packed(system)
        for piece in iter_unpacked(skip_plain_archives(system.guest.read_file(item, 1 << 30)))
    )
    seconds = median(rounds, lambda: search_packed_files(system, values, quiet))
    print(f"{'d: inside compressed files, decompressed MB/s':50} {unpacked / seconds / 1e6:5.0f}")


if __name__ == "__main__":
    main()
