"""What is installed on an image, and what its seal record says of that."""

from __future__ import annotations

from pathlib import Path

from zeroseal.guests.components import Contents
from zeroseal.images.detect import opened_image
from zeroseal.progress import Progress, Step, quiet
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.policy import DEFAULT_POLICY, Policy
from zeroseal.sealing.tree_image import inspected_tree


def read_contents(
    image: Path,
    policy: Policy = DEFAULT_POLICY,
    snapshot: str = "",
    progress: Progress = quiet,
) -> Contents:
    """Everything that is installed in the guest of an image; nothing is written.

    Raises:
        ImageError, RefusedError: it cannot be read, or holds no system.
    """
    progress(Step("reading what is installed", 0, 0))
    with opened_image(image, snapshot, policy.reach) as opened:
        return Inspection.read(opened).system.read_contents()


def read_contents_of_tree(root: Path) -> Contents:
    """The same of a folder or a tar archive with a root file system."""
    with inspected_tree(root) as inspection:
        return inspection.system.read_contents()
