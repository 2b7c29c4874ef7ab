"""A whole seal against a plain copy of the same image; prints ratios of medians from one run.

Usage: ``python benchmarks/seal_against_copy.py IMAGE.qcow2 [ROUNDS]`` (needs qemu-img).
"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from zeroseal.images.detect import open_image
from zeroseal.progress import quiet


def timed(work: Callable[[], object]) -> float:
    """Seconds that some work took."""
    begin = time.perf_counter()
    work()
    return time.perf_counter() - begin


def run(*words: str | Path) -> None:
    """Runs a program that must succeed."""
    subprocess.run([str(word) for word in words], check=True, stdout=subprocess.DEVNULL)


def plan_and_apply(source: Path) -> None:
    """Survey, plan and apply alone, to a staged layer that is thrown away."""
    from zeroseal.blocks.staged import StagedStore
    from zeroseal.sealing.apply import apply_plan
    from zeroseal.sealing.inspection import Inspection
    from zeroseal.sealing.plan import plan_seal
    from zeroseal.sealing.policy import DEFAULT_POLICY
    from zeroseal.sealing.readiness import assess

    image = open_image(source)
    inspection = Inspection.read(StagedStore(image), image=image)
    policy = DEFAULT_POLICY
    findings = inspection.find_all(policy)
    plan = plan_seal(inspection, findings, policy, assess(inspection, findings, policy))
    apply_plan(plan, inspection, quiet, 0)
    image.close()


def compare(source: Path, format_name: str, folder: Path, rounds: int) -> None:
    """Times both in turn, and prints the ratios."""
    sealed, copy = folder / "sealed", folder / "copy"
    seal: list[str | Path] = [sys.executable, "-m", "zeroseal", "seal", source]
    seal += ["-o", sealed, "--quiet"]
    seals, copies, flushed, parts = [], [], [], []
    for _round in range(rounds + 1):  # the first warms the caches and is not counted
        seals.append(timed(lambda: run(*seal)))
        sealed.unlink()
        sealed.with_name("sealed.seal.json").unlink()
        os.sync()
        copies.append(timed(lambda: run("qemu-img", "convert", "-O", format_name, source, copy)))
        flushed.append(copies[-1] + timed(lambda: run("sync", copy)))
        copy.unlink()
        os.sync()
        parts.append(timed(lambda: plan_and_apply(source)))
    times = {"seal": seals, "copy": copies, "flushed": flushed, "part": parts}
    middle = {name: statistics.median(values[1:]) for name, values in times.items()}
    for title, above, below in (
        ("seal / copy", "seal", "copy"),
        ("seal / copy and flush", "seal", "flushed"),
        ("survey, plan, apply / whole seal", "part", "seal"),
    ):
        print(f"{format_name:6} {title:33} {middle[above] / middle[below]:5.2f}")


def main() -> None:
    """Compares for raw and qcow2."""
    source = Path(sys.argv[1]).resolve()
    rounds = int(sys.argv[2]) if len(sys.argv) > 2 else 5
    with tempfile.TemporaryDirectory(dir=source.parent) as name:
        folder = Path(name)
        for format_name in ("raw", "qcow2"):
            given = folder / f"source.{format_name}"
            run("qemu-img", "convert", "-O", format_name, source, given)
            compare(given, format_name, folder, rounds)
            given.unlink()


if __name__ == "__main__":
    main()
