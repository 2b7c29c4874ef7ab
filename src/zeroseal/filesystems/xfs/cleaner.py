"""What lies beside the files of an XFS volume.

Free space becomes zeros. The log and free inodes do not: each block of an empty log bears the
number of a round, and a free inode its own number and generation.
"""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.blocks.store import Store
from zeroseal.filesystems.cleaner import ByteRange, Part, stored_in, zero_all
from zeroseal.filesystems.xfs.log import log_range
from zeroseal.filesystems.xfs.slack import clean_slack, iter_slack
from zeroseal.filesystems.xfs.unused import (
    clean_free_inodes,
    clear_log,
    is_empty_log,
    iter_free_space,
    iter_stale_inodes,
)
from zeroseal.filesystems.xfs.volume import XfsVolume


class XfsCleaner:
    """See ``Cleaner``."""

    def __init__(self, store: Store, where: str) -> None:
        self._volume = XfsVolume(store, where)

    def ranges(self, part: Part) -> Iterator[ByteRange]:  # noqa: D102
        match part:
            case Part.JOURNAL:
                yield log_range(self._volume.superblock)
            case Part.FREE_INODES:
                for number, _generation, raw in iter_stale_inodes(self._volume):
                    yield self._volume.inode_offset(number), len(raw)
            case Part.FREE_SPACE:
                yield from iter_free_space(self._volume)
            case Part.SLACK:
                return

    def stored_bytes(self, part: Part) -> int:  # noqa: D102
        volume = self._volume
        match part:
            case Part.JOURNAL if is_empty_log(volume.store, volume):
                return 0
            case Part.JOURNAL | Part.FREE_INODES:
                return sum(length for _offset, length in self.ranges(part))
            case Part.FREE_SPACE:
                return stored_in(volume.store, self.ranges(part))
            case Part.SLACK:
                return sum(item.stale_bytes for item in iter_slack(volume))

    def blank(self, part: Part) -> None:  # noqa: D102
        match part:
            case Part.JOURNAL:
                clear_log(self._volume)
            case Part.FREE_INODES:
                clean_free_inodes(self._volume)
            case Part.FREE_SPACE:
                zero_all(self._volume.store, self.ranges(part))
            case Part.SLACK:
                clean_slack(self._volume)
