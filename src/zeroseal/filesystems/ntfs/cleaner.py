"""What lies beside the files of an NTFS volume.

Free space becomes zeros. The log does not: an empty one is filled with ones. A free record keeps
its head with its sequence number.
"""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.blocks.store import Store
from zeroseal.filesystems.cleaner import ByteRange, Part, stored_in, zero_all
from zeroseal.filesystems.ntfs.edit import NtfsEditor
from zeroseal.filesystems.ntfs.journals import (
    change_ranges,
    clear_log,
    is_empty_log,
    log_ranges,
    volume_object_id,
)
from zeroseal.filesystems.ntfs.read import NtfsTree
from zeroseal.filesystems.ntfs.slack import SlackPass
from zeroseal.filesystems.ntfs.unused import (
    clean_free_records,
    iter_free_space,
    iter_stale_records,
)

_OBJECT_ID_BYTES = 16


class NtfsCleaner:
    """See ``Cleaner``."""

    def __init__(self, store: Store, where: str) -> None:
        self._tree = NtfsTree(store, where)
        self._volume = self._tree.volume

    def ranges(self, part: Part) -> Iterator[ByteRange]:  # noqa: D102
        volume = self._volume
        match part:
            case Part.JOURNAL:
                yield from log_ranges(volume)
                yield from change_ranges(volume, self._tree.change_journal())
            case Part.FREE_INODES:
                for number, record in iter_stale_records(volume):
                    yield volume.record_offset(number), len(record)
            case Part.FREE_SPACE:
                yield from iter_free_space(volume)
            case Part.SLACK:
                return

    def stored_bytes(self, part: Part) -> int:  # noqa: D102
        volume = self._volume
        match part:
            case Part.JOURNAL:
                log = 0 if is_empty_log(volume) else sum(n for _at, n in log_ranges(volume))
                changes = change_ranges(volume, self._tree.change_journal())
                identifier = _OBJECT_ID_BYTES if volume_object_id(volume) else 0
                return log + sum(length for _offset, length in changes) + identifier
            case Part.FREE_INODES:
                return sum(length for _offset, length in self.ranges(part))
            case Part.FREE_SPACE:
                return stored_in(volume.store, self.ranges(part))
            case Part.SLACK:
                return SlackPass(volume).stale_bytes

    def blank(self, part: Part) -> None:  # noqa: D102
        volume = self._volume
        match part:
            case Part.JOURNAL:
                self._forget_changes()
                clear_log(volume)
            case Part.FREE_INODES:
                clean_free_records(volume)
            case Part.FREE_SPACE:
                zero_all(volume.store, self.ranges(part))
            case Part.SLACK:
                SlackPass(volume).clean()

    def _forget_changes(self) -> None:
        journal = self._tree.change_journal()
        is_stored = any(change_ranges(self._volume, journal))
        if is_stored or volume_object_id(self._volume):
            editor = NtfsEditor(self._volume.store, 0, self._volume.where)
            editor.forget_changes()
            editor.finish()
            self._tree = NtfsTree(self._volume.store, self._volume.where)
            self._volume = self._tree.volume
