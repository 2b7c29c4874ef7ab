"""Seals every image of a folder into another one, with the library instead of the command line.

Usage: python seal_images.py IMAGES SEALED [ACCOUNT_TO_RETAIN ...]
"""

from __future__ import annotations

import sys
from pathlib import Path

from zeroseal import api


def main(images: Path, sealed: Path, accounts: tuple[str, ...]) -> int:
    """Surveys, seals and checks each image; returns how many were refused."""
    policy = api.make_policy(api.SealOptions(retained_accounts=accounts, plant_first_boot=True))
    refused = 0
    for image in sorted(images.glob("*.qcow2")):
        target = sealed / image.name
        try:
            result = api.seal(image, api.NewFile(target), policy, progress=show)
            verdict = api.check(result.output.path, api.Level.FULL).verdict
        except api.ZeroSealError as error:
            refused += 1
            print(f"{image.name}: {error.code}: {error.message}")
            continue
        treated = len(result.planned.plan.treated)
        print(f"{image.name}: {verdict.value}, {treated} findings treated")
    return refused


def show(step: api.Step) -> None:
    """Reports the progress on standard error."""
    share = f"{step.done * 100 // step.total} %" if step.total else ""
    print(f"\r{step.stage} {share}".ljust(60), end="\r", file=sys.stderr)


if __name__ == "__main__":
    sys.exit(main(Path(sys.argv[1]), Path(sys.argv[2]), tuple(sys.argv[3:])))
