"""Space set aside over old data (databases, disk images): slack of XFS against that of ext4.

Usage, as root: ``python benchmarks/preallocated.py FOLDER [MEGABYTES]``. The volumes are made by
the kernel: data is written and deleted, and files take its room without writing. Prints the ratios
of processor time and of peak memory, each measured in a process of its own.
"""

from __future__ import annotations

import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from zeroseal.blocks.staged import StagedStore
from zeroseal.filesystems.drivers import DRIVERS
from zeroseal.filesystems.inventory import Part
from zeroseal.images.detect import open_image

MAKERS = {"ext4": ["mkfs.ext4", "-q", "-F"], "xfs": ["mkfs.xfs", "-q", "-f"]}


def make(kind: str, megabytes: int, folder: Path) -> Path:
    """A volume whose files were set aside over deleted data."""
    volume, point = folder / f"{kind}.raw", folder / "point"
    point.mkdir(exist_ok=True)
    with volume.open("wb") as file:
        file.truncate((3 * megabytes + 320) << 20)
    subprocess.run([*MAKERS[kind], str(volume)], check=True)
    subprocess.run(["mount", "-o", "loop", str(volume), str(point)], check=True)
    try:
        with (point / "old").open("wb") as old:
            for number in range(megabytes):
                old.write(number.to_bytes(4, "big") * (1 << 18))
        subprocess.run(["sync", "-f", str(point)], check=True)
        (point / "old").unlink()
        for number in range(8):
            words = ["fallocate", "-l", f"{megabytes // 4}M", str(point / f"aside-{number}")]
            subprocess.run(words, check=True)
    finally:
        subprocess.run(["umount", str(point)], check=True)
    return volume


def clean(kind: str, volume: Path) -> None:
    """Finds, cleans and finds again; prints processor seconds and peak memory in KiB."""
    staged = StagedStore(open_image(volume))
    begin = time.process_time()
    driver = next(item for item in DRIVERS if kind in item.kinds)
    inventory = driver.take_inventory(driver.read(staged, "v"))
    found = inventory.stale_bytes(Part.SLACK)
    for patch in inventory.patches(Part.SLACK):
        patch.apply(staged)
    left = driver.take_inventory(driver.read(staged, "v")).stale_bytes(Part.SLACK)
    used = time.process_time() - begin
    print(found, left, used, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss)


def main() -> None:
    """Prints the ratios."""
    if sys.argv[1] in MAKERS:
        clean(sys.argv[1], Path(sys.argv[2]))
        return
    megabytes = int(sys.argv[2]) if len(sys.argv) > 2 else 600
    told = {}
    with tempfile.TemporaryDirectory(dir=sys.argv[1]) as name:
        for kind in MAKERS:
            volume = make(kind, megabytes, Path(name))
            words = [sys.executable, __file__, kind, str(volume)]
            told[kind] = subprocess.check_output(words, text=True).split()
            if told[kind][1] != "0":
                raise SystemExit(f"{kind}: {told[kind][1]} bytes are left")
    for place, title in ((2, "processor time"), (3, "peak memory")):
        ratio = float(told["xfs"][place]) / float(told["ext4"][place])
        print(f"{title:16} XFS / ext4 {ratio:5.2f}")


if __name__ == "__main__":
    main()
