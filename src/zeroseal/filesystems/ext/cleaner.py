"""What lies beside the files of an ext volume: all of it becomes zeros."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.blocks.store import Store
from zeroseal.filesystems.cleaner import ByteRange, Part, stored_in, zero_all
from zeroseal.filesystems.ext.slack import clean_slack, iter_slack
from zeroseal.filesystems.ext.unused import iter_free_inodes, iter_free_space, iter_journal_body
from zeroseal.filesystems.ext.volume import ExtVolume


class ExtCleaner:
    """See ``Cleaner``."""

    def __init__(self, store: Store, where: str) -> None:
        self._volume = ExtVolume(store, where)

    def ranges(self, part: Part) -> Iterator[ByteRange]:  # noqa: D102
        match part:
            case Part.JOURNAL:
                return iter_journal_body(self._volume)
            case Part.FREE_INODES:
                return iter_free_inodes(self._volume)
            case Part.FREE_SPACE:
                return iter_free_space(self._volume)
            case Part.SLACK:
                return iter(())

    def stored_bytes(self, part: Part) -> int:  # noqa: D102
        if part is Part.SLACK:
            return sum(item.stale_bytes for item in iter_slack(self._volume))
        return stored_in(self._volume.store, self.ranges(part))

    def blank(self, part: Part) -> None:  # noqa: D102
        if part is Part.SLACK:
            clean_slack(self._volume)
        else:
            zero_all(self._volume.store, self.ranges(part))
