"""Changing a FAT volume as a tree; what goes is zeroed.

The table is kept in memory and written by ``finish``: all copies, then the hints of FAT32.
"""

from __future__ import annotations

import time
from array import array

from zeroseal.blocks.store import Store
from zeroseal.blocks.tables import build_table
from zeroseal.errors import NoSpaceError, UnsupportedError
from zeroseal.filesystems import editing
from zeroseal.filesystems.fat import layout
from zeroseal.filesystems.fat.folders import Named, build_long_entries, make_short_name
from zeroseal.filesystems.fat.layout import Entry, FsInfo
from zeroseal.filesystems.fat.read import FatTree, cluster_runs
from zeroseal.filesystems.fat.volume import FatVolume
from zeroseal.messages import fat as messages

_SIZE = layout.ENTRY_BYTES


class FatEditor(FatTree):
    """A FAT volume, changed as an ``EditableTree``; see there for the methods.

    Args:
        store: the volume; all changes go to it.
        now: the moment that changed and new entries are given, seconds since 1970.
        where: the volume's name, for messages.
        zero_removed: whether content and names that go are zeroed.
        volume: the opened volume of a tree that was read, if there is one.
    """

    def __init__(
        self,
        store: Store,
        now: int,
        where: str = "the volume",
        zero_removed: bool = True,
        volume: FatVolume | None = None,
    ) -> None:
        super().__init__(store, where, volume)
        self._date, self._time = _fat_moment(now)
        self._zero_removed = zero_removed
        self._changed = False

    def create_file(
        self, folder: int, name: bytes, content: bytes, mode: int, uid: int = 0, gid: int = 0
    ) -> int:
        """Makes a file and returns its node."""
        del mode, uid, gid
        node = self._create(folder, name, layout.ATTRIBUTE_ARCHIVE)
        self.replace_content(node, content)
        return node

    def create_folder(self, folder: int, name: bytes, mode: int, uid: int = 0, gid: int = 0) -> int:
        """Makes an empty folder and returns its node."""
        del mode, uid, gid
        node = self._create(folder, name, layout.ATTRIBUTE_FOLDER)
        (cluster,) = self._allocate(1)
        entry = self._get_entry(node)
        self._set_cluster(entry, cluster)
        self.volume.store.write(node, entry.build())
        above = 0
        if folder != self.root:
            parent = self._get_entry(folder)
            above = parent.cluster_hi << 16 | parent.cluster_lo
        dots = b""
        for dot, target in ((b".", cluster), (b"..", above)):
            item = self._new_entry(dot.ljust(11), layout.ATTRIBUTE_FOLDER)
            self._set_cluster(item, target)
            dots += item.build()
        self.volume.store.write(
            self.volume.cluster_offset(cluster), dots.ljust(self.volume.cluster_bytes, b"\0")
        )
        return node

    def create_link(self, folder: int, name: bytes, target: bytes) -> int:
        """There are no symbolic links on FAT."""
        del folder, target
        raise UnsupportedError(messages.NO_LINKS_ON_FAT.format(where=self.volume.where, name=name))

    def add_name(self, folder: int, name: bytes, node: int) -> None:
        """There are no second names on FAT."""
        del folder, node
        raise UnsupportedError(messages.NO_LINKS_ON_FAT.format(where=self.volume.where, name=name))

    def replace_content(self, node: int, content: bytes) -> None:
        """Gives a file other content; what it had is zeroed."""
        editing.check_file(self, node)
        entry = self._get_entry(node)
        self._free(self._chain_of(entry))
        size = self.volume.cluster_bytes
        clusters = self._allocate(-(-len(content) // size))
        for number, cluster in enumerate(clusters):
            piece = content[number * size : (number + 1) * size].ljust(size, b"\0")
            self.volume.store.write(self.volume.cluster_offset(cluster), piece)
        self._set_cluster(entry, clusters[0] if clusters else 0)
        entry.size = len(content)
        self._touch(entry)
        self.volume.store.write(node, entry.build())

    def zero_content(self, node: int, from_byte: int) -> None:
        """Zeroes a file's content from a byte on; its clusters stay where they are."""
        editing.check_file(self, node)
        for offset, length in self.iter_content(node, from_byte):
            self.volume.store.zero(offset, length)
        entry = self._get_entry(node)
        self._touch(entry)
        self.volume.store.write(node, entry.build())

    def rename(self, folder: int, name: bytes, new_name: bytes) -> None:
        """Gives an entry of a folder another name there; what it is stays."""
        old = self._get_item(folder, name)
        if new_name == name:
            return
        node = self._create(folder, new_name, old.entry.attributes)
        entry = self._get_entry(node)
        for field in ("created_time", "created_date", "modified_time", "modified_date",
                      "cluster_hi", "cluster_lo", "size"):  # fmt: skip
            setattr(entry, field, getattr(old.entry, field))
        self.volume.store.write(node, entry.build())
        self._remove_slots(folder, old)

    def truncate(self, node: int, size_bytes: int) -> None:
        """Cuts a file, or lets it grow by zeros."""
        editing.check_file(self, node)
        content = self.read_file(node, size_bytes)
        self.replace_content(node, content.ljust(size_bytes, b"\0"))

    def remove(self, folder: int, name: bytes) -> None:
        """Removes a name with its content."""
        editing.check_removable(self, editing.get_entry(self, folder, name))
        self.remove_tree(folder, name)

    def remove_tree(self, folder: int, name: bytes) -> int:
        """Removes a name and all beneath it; returns how many names went."""
        found = self._get_item(folder, name)
        node, removed = self._slot_offset(folder, found.slot), 1
        if found.is_folder:
            for item in self.list_folder(node):
                removed += self.remove_tree(node, item.name)
        self._free(self.file_clusters(node))
        self._remove_slots(folder, found)
        return removed

    def set_mode(self, node: int, mode: int) -> None:
        """There are no modes on FAT."""

    def set_owner(self, node: int, uid: int, gid: int) -> None:
        """There are no owners on FAT."""
        raise UnsupportedError(messages.NO_OWNERS_ON_FAT.format(where=self.volume.where))

    def finish(self) -> None:
        """Writes all copies of the table, and the hints."""
        if not self._changed:
            return
        for number in range(self.volume.boot.table_count):
            raw = self._build_table(self.volume.read_table_copy(number))
            self.volume.store.write(self.volume.table_offset(number), raw)
        self._write_hints()
        self._changed = False

    def _create(self, folder: int, name: bytes, attributes: int) -> int:
        text = name.decode("utf-8", "surrogateescape")
        if not text or len(text) > 255 or any(char in '"*/:<>?\\|' or char < " " for char in text):
            raise editing.bad_name(self, name)
        editing.check_new(self, folder, name)
        short = make_short_name(text, {item.entry.name for item in self._names(folder)})
        entries = [*build_long_entries(text, short), self._new_entry(short, attributes).build()]
        slot = self._find_room(folder, len(entries))
        for number, raw in enumerate(entries):
            self.volume.store.write(self._slot_offset(folder, slot + number), raw)
        return self._slot_offset(folder, slot + len(entries) - 1)

    def _get_item(self, folder: int, name: bytes) -> Named:
        editing.check_folder(self, folder)
        found = self._find(folder, name)
        if found is None:
            raise editing.missing(self, name)
        return found

    def _new_entry(self, name: bytes, attributes: int) -> Entry:
        entry = Entry.blank(
            name=name,
            attributes=attributes,
            created_time=self._time,
            created_date=self._date,
            accessed_date=self._date,
        )
        self._touch(entry)
        return entry

    def _touch(self, entry: Entry) -> None:
        entry.modified_date, entry.modified_time = self._date, self._time

    def _set_cluster(self, entry: Entry, cluster: int) -> None:
        entry.cluster_hi = cluster >> 16 if self.volume.bits == 32 else 0
        entry.cluster_lo = cluster & 0xFFFF

    def _find_room(self, folder: int, count: int) -> int:
        """The first of ``count`` neighbouring free slots; the folder grows where it has none."""
        content = self._content(folder)
        free = 0
        for slot in range(len(content) // _SIZE):
            is_free = content[slot * _SIZE] in (layout.END, layout.DELETED)
            free = free + 1 if is_free else 0
            if free == count:
                return slot - count + 1
        self._grow_folder(folder)
        return self._find_room(folder, count)

    def _grow_folder(self, folder: int) -> None:
        volume = self.volume
        if folder == self.root and volume.bits != 32:
            raise NoSpaceError(messages.ROOT_FOLDER_FULL.format(where=volume.where))
        first = volume.boot.root_cluster
        if folder != self.root:
            entry = self._get_entry(folder)
            first = entry.cluster_hi << 16 | entry.cluster_lo
        (cluster,) = self._allocate(1)
        volume.table[volume.chain(first)[-1]] = cluster
        volume.store.zero(volume.cluster_offset(cluster), volume.cluster_bytes)

    def _remove_slots(self, folder: int, found: Named) -> None:
        """Frees the entries of a name; behind the last one in use, all are ends again."""
        content = self._content(folder)
        behind = content[(found.slot + 1) * _SIZE :]
        is_last = not behind or behind[0] == layout.END
        for slot in range(found.first_slot, found.slot + 1):
            place = self._slot_offset(folder, slot)
            if not self._zero_removed:
                self.volume.store.write(place, bytes([layout.DELETED]))
            elif is_last:
                self.volume.store.write(place, bytes(_SIZE))
            else:
                self.volume.store.write(place, bytes([layout.DELETED]) + bytes(_SIZE - 1))

    def _allocate(self, count: int) -> list[int]:
        """Takes clusters, makes a chain of them."""
        found: list[int] = []
        if not count:
            return found
        table = self.volume.table
        for cluster in range(2, self.volume.cluster_count + 2):
            if len(found) == count:
                break
            if table[cluster] == 0:
                found.append(cluster)
        if len(found) < count:
            raise NoSpaceError(messages.FAT_FULL.format(where=self.volume.where))
        for cluster, following in zip(found, [*found[1:], self.volume.end_mark | 7], strict=True):
            table[cluster] = following
        self._changed = True
        return found

    def _free(self, chain: list[int]) -> None:
        for cluster in chain:
            self.volume.table[cluster] = 0
        self._changed = self._changed or bool(chain)
        if self._zero_removed:
            for start, count in cluster_runs(chain):
                length = count * self.volume.cluster_bytes
                self.volume.store.zero(self.volume.cluster_offset(start), length)

    def _build_table(self, old: bytes) -> bytes:
        volume = self.volume
        raw = bytearray(old)
        count = volume.cluster_count + 2
        if volume.bits == 16:
            raw[: count * 2] = build_table(array("H", volume.table), "<")
        elif volume.bits == 32:
            kept = array("I", old[: count * 4])
            wide = array(
                "I",
                [new | before & 0xF0000000 for new, before in zip(volume.table, kept, strict=True)],
            )
            raw[: count * 4] = build_table(wide, "<")
        else:
            for cluster, value in enumerate(volume.table):
                place = cluster * 3 // 2
                if cluster & 1:
                    raw[place] = raw[place] & 0x0F | (value & 0xF) << 4
                    raw[place + 1] = value >> 4
                else:
                    raw[place] = value & 0xFF
                    raw[place + 1] = raw[place + 1] & 0xF0 | value >> 8
        return bytes(raw)

    def _write_hints(self) -> None:
        volume = self.volume
        sector = volume.boot.fsinfo_sector
        if volume.bits != 32 or sector in (0, 0xFFFF):
            return
        place = sector * volume.boot.sector_bytes
        hints = FsInfo.parse(volume.store.read(place, FsInfo.SIZE))
        if (hints.lead, hints.structure) == (layout.FSINFO_LEAD, layout.FSINFO_STRUCTURE):
            hints.free_count = volume.table[2 : volume.cluster_count + 2].count(0)
            hints.next_free = 2
            volume.store.write(place, hints.build())


def _fat_moment(now: int) -> tuple[int, int]:
    """(date, time) as FAT keeps them, in UTC."""
    moment = time.gmtime(max(now, 315532800))
    date = (moment.tm_year - 1980 & 127) << 9 | moment.tm_mon << 5 | moment.tm_mday
    return date, moment.tm_hour << 11 | moment.tm_min << 5 | moment.tm_sec // 2
