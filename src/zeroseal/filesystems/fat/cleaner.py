"""What lies beside the files of a FAT volume: free clusters, slack, names of deleted files."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.blocks.store import Store
from zeroseal.filesystems.cleaner import ByteRange, Part, count_stale, stored_in, zero_all
from zeroseal.filesystems.fat.read import FatTree
from zeroseal.filesystems.fat.slack import clean_slack, iter_slack


class FatCleaner:
    """See ``Cleaner``."""

    def __init__(self, store: Store, where: str) -> None:
        self._tree = FatTree(store, where)

    def ranges(self, part: Part) -> Iterator[ByteRange]:  # noqa: D102
        return self._tree.volume.iter_free() if part is Part.FREE_SPACE else iter(())

    def stored_bytes(self, part: Part) -> int:  # noqa: D102
        if part is Part.SLACK:
            found = iter_slack(self._tree)
            return sum(count_stale(stale, clean) for _offset, stale, clean in found)
        return stored_in(self._tree.volume.store, self.ranges(part))

    def blank(self, part: Part) -> None:  # noqa: D102
        if part is Part.SLACK:
            clean_slack(self._tree)
        else:
            zero_all(self._tree.volume.store, self.ranges(part))
