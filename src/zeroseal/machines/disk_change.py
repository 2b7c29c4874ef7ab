"""Changing the disk of a machine in place, as its own guest would: for the simulated host only."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from zeroseal.blocks.staged import StagedStore
from zeroseal.filesystems.drivers import VolumeTrees, read_disk
from zeroseal.images.in_place import InPlaceChange
from zeroseal.sealing.inspection import Inspection
from zeroseal.sealing.proof import check_file_systems


@contextmanager
def changed_disk(path: Path, now: int) -> Iterator[Inspection]:
    """Gives the guest of a disk to be changed, and brings the changes to the disk at the end.

    What is removed is not zeroed: a real guest does not do that either. All changes are staged
    first and the result must be consistent; an error on the way leaves the disk as it was.
    """
    with InPlaceChange(path) as change:
        staged = StagedStore(change.image)
        inspection = Inspection.read(staged)
        inspection.guest.start_editing(now, zero_removed=False)
        yield inspection
        inspection.guest.finish()
        check_file_systems(read_disk(staged), VolumeTrees())
        change.take(staged)
        change.commit()
