"""The same guest on XFS, btrfs and ext4: ratios of survey, of plan and apply, and of a whole seal.

Usage, as root: ``python benchmarks/against_ext.py TREE.tar [ROUNDS]`` with a root file system
in a tar archive, such as one of mmdebstrap's. The volumes are made and filled by the kernel.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

from seal_against_copy import plan_and_apply, run, timed

SIZE = "3G"
MAKERS = {
    "ext4": ["mkfs.ext4", "-q", "-F"],
    "xfs": ["mkfs.xfs", "-q", "-f"],
    "btrfs": ["mkfs.btrfs", "-q", "-f"],
}


def make(kind: str, tree: Path, folder: Path) -> Path:
    """A volume of that kind with the tree on it."""
    volume, point = folder / f"{kind}.img", folder / "point"
    point.mkdir(exist_ok=True)
    run("truncate", "-s", SIZE, volume)
    run(*MAKERS[kind], volume)
    run("mount", "-o", "loop", volume, point)
    try:
        run("tar", "-C", point, "--xattrs", "--xattrs-include=*", "-xpf", tree)
        uuid = subprocess.check_output(
            ["blkid", "-p", "-s", "UUID", "-o", "value", volume], text=True
        )
        (point / "etc/fstab").write_text(f"UUID={uuid.strip()} / {kind} defaults 0 1\n")
        (point / "etc/machine-id").write_text("b81f6c0a94d24e57a3c1d2e7f05a4968\n")
    finally:
        run("umount", point)
    return volume


def seal(volume: Path, out: Path) -> None:
    """A whole seal; what the guest lacks for clones is waved through."""
    more = ["--expect-seed", "--plant-first-boot", "--quiet", "--format", "qcow2"]
    run(sys.executable, "-m", "zeroseal", "seal", volume, "-o", out, *more)
    out.unlink()
    out.with_name(out.name + ".seal.json").unlink()


def main() -> None:
    """Prints the ratios."""
    tree = Path(sys.argv[1]).resolve()
    rounds = int(sys.argv[2]) if len(sys.argv) > 2 else 3
    with tempfile.TemporaryDirectory(dir=tree.parent) as name:
        folder = Path(name)
        volumes = {kind: make(kind, tree, folder) for kind in MAKERS}
        times: dict[tuple[str, str], list[float]] = {}
        for _round in range(rounds + 1):  # the first warms the caches and is not counted
            for kind, volume in volumes.items():
                for title, work in (
                    ("survey, plan, apply", lambda v=volume: plan_and_apply(v)),
                    ("whole seal", lambda v=volume: seal(v, folder / "out.qcow2")),
                ):
                    times.setdefault((title, kind), []).append(timed(work))
        for title in ("survey, plan, apply", "whole seal"):
            middle = {kind: statistics.median(times[title, kind][1:]) for kind in MAKERS}
            for kind in ("xfs", "btrfs"):
                print(f"{title:22} {kind:5} / ext4 {middle[kind] / middle['ext4']:5.2f}")


if __name__ == "__main__":
    main()
