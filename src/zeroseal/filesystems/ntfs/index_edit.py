"""An index that is changed: held in memory, written whole when all changes are done."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.index import FOLDER_INDEX, Index, IndexEntry, sort_key
from zeroseal.filesystems.ntfs.index_build import BuiltIndex, IndexBuilder, tail_of
from zeroseal.filesystems.ntfs.names import Upcase
from zeroseal.filesystems.ntfs.nodes import parse_name


class ViewEdit:
    """An index by its keys."""

    def __init__(self, index: Index, upcase: Upcase) -> None:
        self._index, self._upcase = index, upcase
        self.entries: dict[bytes, IndexEntry] = {e.key: e for e in index.iter_entries()}
        self.is_changed = False

    def put(self, entry: IndexEntry) -> None:
        """Adds an entry, or sets what one says."""
        self.entries[entry.key] = entry
        self.is_changed = True

    def drop(self, key: bytes) -> None:
        """Takes an entry away, if it is there."""
        if self.entries.pop(key, None) is not None:
            self.is_changed = True

    def build(self, root_room: int) -> BuiltIndex:
        """The index anew; ``root_room`` is how long its root's value may be."""
        index = self._index
        key = sort_key(index.head.collation, self._upcase.key)
        builder = IndexBuilder(index.head, index.unit_bytes, index.is_view, tail_of(index.name))
        ordered = sorted(self.iter_all(), key=lambda entry: key(entry.key))
        return builder.build(ordered, root_room)

    def iter_all(self) -> Iterator[IndexEntry]:
        """Yields all entries, in any order."""
        yield from self.entries.values()


class FolderEdit(ViewEdit):
    """A folder by its names: exactly, and without their case."""

    def __init__(self, index: Index, upcase: Upcase) -> None:
        self._index, self._upcase = index, upcase
        self.is_changed = False
        self._by_name: dict[str, IndexEntry] = {}
        self._by_fold: dict[bytes, list[str]] = {}
        for entry in index.iter_entries():
            self._note(entry)

    @property
    def is_empty(self) -> bool:
        """Whether it holds no names."""
        return not self._by_name

    def find(self, name: str) -> IndexEntry | None:
        """The entry of a name: an exact match, or else one but for its case."""
        found = self._by_name.get(name)
        if found is None:
            same = self._by_fold.get(self._upcase.fold(name))
            found = self._by_name[same[0]] if same else None
        return found

    def add(self, entry: IndexEntry) -> None:
        """Adds or replaces the entry of exactly that name."""
        name = parse_name(entry.key)[1]
        if name in self._by_name:
            self._by_name[name] = entry
        else:
            self._note(entry)
        self.is_changed = True

    def remove(self, name: str) -> None:
        """Takes the entry of exactly that name away."""
        del self._by_name[name]
        fold = self._upcase.fold(name)
        self._by_fold[fold].remove(name)
        if not self._by_fold[fold]:
            del self._by_fold[fold]
        self.is_changed = True

    def iter_all(self) -> Iterator[IndexEntry]:
        """Yields all entries, in any order."""
        yield from self._by_name.values()

    def iter_sorted(self) -> Iterator[IndexEntry]:
        """Yields all entries in the order of the index."""
        yield from sorted(self.iter_all(), key=lambda e: self._upcase.key(parse_name(e.key)[1]))

    def _note(self, entry: IndexEntry) -> None:
        name = parse_name(entry.key)[1]
        self._by_name[name] = entry
        self._by_fold.setdefault(self._upcase.fold(name), []).append(name)


def open_edit(index: Index, upcase: Upcase) -> ViewEdit:
    """The editor of an index, by its kind."""
    kind = FolderEdit if index.name == FOLDER_INDEX else ViewEdit
    return kind(index, upcase)


def is_short_name(name: str) -> bool:
    """Whether a name is a short (8.3) one already, so that it needs no other."""
    stem, dot, ending = name.partition(".")
    allowed = set("ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789!#$%&'()-@^_`{}~")
    if not 0 < len(stem) <= 8 or not set(stem) <= allowed:
        return False
    return not dot or (0 < len(ending) <= 3 and set(ending) <= allowed)


def space_of(name: str, is_first: bool) -> int:
    """The name space of a new name: a file has at most one that is short.

    A long name without a short one beside it is in the space POSIX, as those of hard links are.
    """
    return layout.WIN32_AND_DOS if is_first and is_short_name(name) else layout.POSIX
