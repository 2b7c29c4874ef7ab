"""Survey and plan of a guest with many files, against the kernel's own walk over the mounted tree.

Run as root with e2fsprogs and mount: ``python benchmarks/survey_against_find.py [FILES ...]``. For
each number of files an ext4 guest is made by the kernel; then, in one run and in turn, ``find``
walks the mounted tree (freshly mounted, the stat of every file asked for) and ``zeroseal seal
--dry-run`` plans the seal of the same volume. Printed are ratios of the medians, never times. The
last line says what the traces cost that find nothing on the largest guest.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

SIZES = (20_000, 75_000, 300_000)
ROUNDS = 3
PER_FOLDER = 250
SYSTEM = {
    "etc/os-release": "ID=tideline\n",
    "etc/machine-id": "5f3a9c0d7e21448b9d10c3b7a6e5f401\n",
    "etc/passwd": "root:x:0:0:root:/root:/bin/sh\nada.brine:x:1000:1000::/home/ada.brine:/bin/sh\n",
    "etc/hostname": "pier-ref\n",
    "var/log/gate.log": "opened\n",
    "home/ada.brine/.bash_history": "ls\n",
}


def make_guest(folder: Path, files: int) -> Path:
    """An ext4 volume with a small system and this many files below /usr."""
    image, mounted = folder / f"guest-{files}.img", folder / "mounted"
    mounted.mkdir(exist_ok=True)
    size_mib = 128 + files * 6 // 1000
    with image.open("wb") as file:
        file.truncate(size_mib << 20)
    subprocess.run(["mke2fs", "-q", "-t", "ext4", "-N", str(files + files // 8 + 9000), image],
                   check=True)  # fmt: skip
    subprocess.run(["mount", "-o", "loop", image, mounted], check=True)
    try:
        for path, text in SYSTEM.items():
            (mounted / path).parent.mkdir(parents=True, exist_ok=True)
            (mounted / path).write_text(text)
        for number in range(files):
            place = mounted / f"usr/share/{number // PER_FOLDER:05}"
            if number % PER_FOLDER == 0:
                place.mkdir(parents=True)
            (place / f"part-{number}").write_bytes(b"tide\n")
    finally:
        subprocess.run(["umount", mounted], check=True)
    return image


def walk(image: Path, mounted: Path) -> None:
    """The kernel's walk: mount for reading, find, unmount."""
    subprocess.run(["mount", "-o", "loop,ro", image, mounted], check=True)
    try:
        subprocess.run(["find", mounted, "-xdev", "-size", "+1000000c", "-newermt", "2001-01-01"],
                       check=True, stdout=subprocess.DEVNULL)  # fmt: skip
    finally:
        subprocess.run(["umount", mounted], check=True)


def plan(image: Path) -> None:
    """Our survey and plan, with the start of the program."""
    command = [sys.executable, "-m", "zeroseal", "seal", str(image), "--dry-run", "--quiet",
               "--expect-seed"]  # fmt: skip
    subprocess.run(command, check=False, stdout=subprocess.DEVNULL)


def median(act: Callable[[], None]) -> float:
    """The median of some rounds, in seconds."""
    found = []
    for _round in range(ROUNDS):
        began = time.perf_counter()
        act()
        found.append(time.perf_counter() - began)
    return statistics.median(found)


def unused_share(image: Path) -> float:
    """What looking for traces that are not there costs, as a share of a plan in this process."""
    from zeroseal.images.detect import open_image
    from zeroseal.sealing.inspection import Inspection
    from zeroseal.sealing.policy import SealOptions, resolve
    from zeroseal.traces.finders import find_trace

    policy = resolve(SealOptions(expect_seed=True))
    opened = open_image(image)
    began = time.perf_counter()
    inspection = Inspection.read(opened)
    context = inspection.context(policy)
    unused = 0.0
    for trace in policy.catalogue:
        before = time.perf_counter()
        found = list(find_trace(trace, context, set()))
        unused += 0.0 if found else time.perf_counter() - before
    whole = time.perf_counter() - began
    opened.close()
    return unused / whole


def main() -> None:
    """Makes the guests and prints the ratios."""
    sizes = [int(word) for word in sys.argv[1:]] or list(SIZES)
    ours: list[float] = []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for files in sizes:
            image = make_guest(folder, files)
            found = median(lambda image=image: walk(image, folder / "mounted"))  # type: ignore[misc]  # bound now
            planned = median(lambda image=image: plan(image))  # type: ignore[misc]  # bound now
            ours.append(planned)
            print(f"{files} files: survey and plan / mount, find, unmount: {planned / found:.1f}")
        if len(ours) > 1:
            print(f"{sizes[-1] / sizes[0]:.1f} times the files: {ours[-1] / ours[0]:.1f}")
        print(f"all traces that find nothing / the whole plan: {unused_share(image):.3f}")


if __name__ == "__main__":
    main()
