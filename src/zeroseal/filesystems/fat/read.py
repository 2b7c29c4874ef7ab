"""Reading a FAT volume as a tree of nodes."""

from __future__ import annotations

import calendar
from collections.abc import Iterator

from zeroseal.blocks.store import Store
from zeroseal.filesystems.fat import layout
from zeroseal.filesystems.fat.folders import Named, iter_names
from zeroseal.filesystems.fat.layout import Entry
from zeroseal.filesystems.fat.volume import FatVolume
from zeroseal.filesystems.tree import FolderEntry, Kind, NodeFacts
from zeroseal.messages import fat as messages

_MAX_FOLDER_BYTES = 65536 * layout.ENTRY_BYTES


class FatTree:
    """A FAT volume, read as a ``FileTree``; see there for the methods.

    Raises:
        ImageError, RefusedError: as ``FatVolume`` does.
    """

    root = 0

    def __init__(
        self, store: Store, where: str = "the volume", volume: FatVolume | None = None
    ) -> None:
        self.volume = volume or FatVolume(store, where)

    @property
    def where(self) -> str:
        """The volume's name, for messages."""
        return self.volume.where

    def find_child(self, folder: int, name: bytes) -> FolderEntry | None:
        """The entry of that name, in any case of letters."""
        found = self._find(folder, name)
        return self._entry_of(folder, found) if found else None

    def list_folder(self, folder: int) -> list[FolderEntry]:
        """All entries but ``.`` and ``..``."""
        return [self._entry_of(folder, item) for item in self._names(folder)]

    def get_facts(self, node: int) -> NodeFacts:
        """The node's own data; there are no modes and owners."""
        if node == self.root:
            return NodeFacts(
                kind=Kind.FOLDER, mode=0o755, uid=0, gid=0, size_bytes=0, link_count=1, changed_at=0
            )
        entry = self._get_entry(node)
        is_folder = bool(entry.attributes & layout.ATTRIBUTE_FOLDER)
        return NodeFacts(
            kind=Kind.FOLDER if is_folder else Kind.FILE,
            mode=0o755 if is_folder else 0o644,
            uid=0,
            gid=0,
            size_bytes=entry.size,
            link_count=1,
            changed_at=_seconds(entry.modified_date, entry.modified_time),
        )

    def read_file(self, node: int, limit_bytes: int | None = None) -> bytes:
        """A file's content, or its beginning."""
        entry = self._get_entry(node)
        if node == self.root or entry.attributes & layout.ATTRIBUTE_FOLDER:
            raise self.volume.damaged(messages.ENTRY_AT_BYTE_NOT_FILE.format(node=node))
        size = entry.size if limit_bytes is None else min(entry.size, limit_bytes)
        chain = self._chain_of(entry)
        if len(chain) * self.volume.cluster_bytes < entry.size:
            raise self.volume.damaged(messages.FILE_SHORTER_THAN_ITS_ENTRY.format(node=node))
        content = bytearray()
        for start, clusters in cluster_runs(chain):
            length = min(clusters * self.volume.cluster_bytes, size - len(content))
            if length > 0:
                content += self.volume.store.read(self.volume.cluster_offset(start), length)
        return bytes(content)

    def read_link(self, node: int) -> bytes:
        """There are no symbolic links."""
        raise self.volume.damaged(messages.ENTRY_AT_BYTE_NOT_SYMBOLIC_LINK.format(node=node))

    def read_attributes(self, node: int) -> dict[bytes, bytes]:
        """There are no extended attributes."""
        del node
        return {}

    def folder_ranges(self, folder: int) -> list[tuple[int, int]]:
        """(offset, length) of the pieces in which a folder lies."""
        volume = self.volume
        if folder == self.root and volume.bits != 32:
            return [(volume.root_offset, volume.root_bytes)]
        first = volume.boot.root_cluster
        if folder != self.root:
            entry = self._get_entry(folder)
            if not entry.attributes & layout.ATTRIBUTE_FOLDER:
                raise volume.damaged(messages.ENTRY_AT_BYTE_NOT_FOLDER.format(folder=folder))
            first = entry.cluster_hi << 16 | entry.cluster_lo
        chain = volume.chain(first)
        if len(chain) * volume.cluster_bytes > _MAX_FOLDER_BYTES:
            raise volume.damaged(messages.FOLDER_LONGER_THAN_FAT_ALLOWS)
        return [
            (volume.cluster_offset(start), count * volume.cluster_bytes)
            for start, count in cluster_runs(chain)
        ]

    def iter_ranges(self, node: int) -> Iterator[tuple[int, int]]:
        """Yields (offset, length) in bytes of where a node's content lies on the volume."""
        if self.get_facts(node).kind is Kind.FOLDER:
            yield from self.folder_ranges(node)
            return
        for start, count in cluster_runs(self.file_clusters(node)):
            yield self.volume.cluster_offset(start), count * self.volume.cluster_bytes

    def iter_content(self, node: int, from_byte: int) -> Iterator[tuple[int, int]]:
        """Yields (offset, length) on the volume of a file's content from a byte of it on."""
        size, position = self.volume.cluster_bytes, 0
        for cluster in self.file_clusters(node):
            skipped = max(0, from_byte - position)
            if skipped < size:
                yield self.volume.cluster_offset(cluster) + skipped, size - skipped
            position += size

    def file_clusters(self, node: int) -> list[int]:
        """The clusters of a file or folder that is not the root."""
        return self._chain_of(self._get_entry(node))

    def _chain_of(self, entry: Entry) -> list[int]:
        return self.volume.chain(entry.cluster_hi << 16 | entry.cluster_lo)

    def _content(self, folder: int) -> bytes:
        return b"".join(
            self.volume.store.read(offset, length) for offset, length in self.folder_ranges(folder)
        )

    def _slot_offset(self, folder: int, slot: int) -> int:
        """Where an entry of a folder lies on the volume, in bytes."""
        place = slot * layout.ENTRY_BYTES
        for offset, length in self.folder_ranges(folder):
            if place < length:
                return offset + place
            place -= length
        raise self.volume.damaged(messages.FOLDER_ENDS_BEFORE_LAST_ENTRY)

    def _names(self, folder: int) -> list[Named]:
        return list(iter_names(self._content(folder)))

    def _find(self, folder: int, name: bytes) -> Named | None:
        wanted = name.decode("utf-8", "surrogateescape").casefold()
        for item in self._names(folder):
            if wanted in (item.name.casefold(), item.short_name.casefold()):
                return item
        return None

    def _entry_of(self, folder: int, item: Named) -> FolderEntry:
        kind = Kind.FOLDER if item.is_folder else Kind.FILE
        name = item.name.encode("utf-8", "surrogatepass")
        return FolderEntry(name, self._slot_offset(folder, item.slot), kind)

    def _get_entry(self, node: int) -> Entry:
        if node % layout.ENTRY_BYTES or not self.volume.root_offset <= node:
            raise self.volume.damaged(messages.BYTE_DOES_NOT_HOLD_DIRECTORY_ENTRY.format(node=node))
        entry = Entry.parse(self.volume.store.read(node, layout.ENTRY_BYTES))
        if entry.name[0] in (layout.END, layout.DELETED):
            raise self.volume.damaged(messages.REFERENCED_ENTRY_IS_FREE.format(node=node))
        return entry


def cluster_runs(chain: list[int]) -> list[tuple[int, int]]:
    """(first cluster, count) of clusters that follow each other."""
    runs: list[tuple[int, int]] = []
    for cluster in chain:
        if runs and sum(runs[-1]) == cluster:
            runs[-1] = runs[-1][0], runs[-1][1] + 1
        else:
            runs.append((cluster, 1))
    return runs


def _seconds(date: int, time: int) -> int:
    """Seconds since 1970 of FAT's local time, taken as UTC."""
    year, month, day = 1980 + (date >> 9), date >> 5 & 15, date & 31
    if not 1 <= month <= 12 or not 1 <= day <= 31:
        return 0
    moment = (year, month, day, time >> 11, time >> 5 & 63, (time & 31) * 2, 0, 0, 0)
    return calendar.timegm(moment)
