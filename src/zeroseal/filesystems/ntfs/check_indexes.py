"""The checker's look at indexes: blocks, order, and what the views of ``$Extend`` say."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from zeroseal.blocks.bitmaps import find_runs
from zeroseal.errors import ImageError
from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.check_table import TablePass
from zeroseal.filesystems.ntfs.index import Index, IndexEntry, IndexNode, sort_key
from zeroseal.filesystems.ntfs.names import Upcase
from zeroseal.filesystems.ntfs.nodes import Node, load_node
from zeroseal.filesystems.ntfs.streams import read_stream
from zeroseal.filesystems.ntfs.volume import NtfsVolume
from zeroseal.filesystems.tree import Problem
from zeroseal.messages import ntfs as messages

_MOST_DEPTH = 24
OBJECT_IDS, REPARSE_POINTS, QUOTAS = "$ObjId", "$Reparse", "$Quota"


def check_index(
    volume: NtfsVolume, node: Node, name: str, upcase: Upcase | None = None
) -> tuple[list[IndexEntry], list[Problem]]:
    """The entries of an index, and what is wrong with it.

    Raises:
        ImageError: it cannot be walked.
    """
    index = Index(volume, node, name)
    walk = _Walk(index)
    walk.enter(index.read_root(), 0)
    where = f"index {name} of record {node.number}"
    problems = [Problem(where, what) for what in walk.problems]
    problems += [Problem(where, what) for what in _check_bitmap(volume, index, walk.seen)]
    key = sort_key(index.head.collation, upcase.key if upcase else _no_names)
    last: Any = None
    for entry in walk.entries:
        now = key(entry.key)
        if last is not None and last >= now:
            problems.append(Problem(where, messages.ENTRIES_OUT_OF_ORDER_OR_DUPLICATED))
            break
        last = now
    if index.head.block_bytes != volume.index_bytes:
        problems.append(
            Problem(
                where, messages.INDEX_BLOCK_SIZE_WRONG.format(block_bytes=index.head.block_bytes)
            )
        )
    return walk.entries, problems


class _Walk:
    def __init__(self, index: Index) -> None:
        self._index = index
        self.entries: list[IndexEntry] = []
        self.problems: list[str] = []
        self.seen: set[int] = set()

    def enter(self, node: IndexNode, depth: int) -> None:
        """Notes a node's entries, and those below, in order."""
        if depth > _MOST_DEPTH:
            raise self._index.damaged(messages.TOO_MANY_LEVELS)
        children = [child for _entry, child in node.entries] + [node.last_child]
        has = {child is not None for child in children}
        if len(has) > 1:
            self.problems.append(messages.CHILDREN_OF_SOME_ENTRIES_ONLY)
        elif node.says_inner not in has:
            self.problems.append(messages.NODE_DOES_NOT_RECORD_WHETHER_CHILDREN)
        if not node.room_fits:
            self.problems.append(messages.NODE_DOES_NOT_RECORD_FREE_SPACE)
        for entry, child in node.entries:
            if child is not None:
                self._enter_child(child, depth)
            self.entries.append(entry)
        if node.last_child is not None:
            self._enter_child(node.last_child, depth)

    def _enter_child(self, vcn: int, depth: int) -> None:
        if vcn in self.seen:
            raise self._index.damaged(messages.CONTAINS_LOOP)
        self.seen.add(vcn)
        self.enter(self._index.read_block(vcn), depth + 1)


def _check_bitmap(volume: NtfsVolume, index: Index, seen: set[int]) -> Iterator[str]:
    if index.allocation is None:
        return
    if index.bitmap is None:
        yield "it has blocks but no bitmap"
        return
    raw = read_stream(volume, index.bitmap)
    blocks = index.allocation.size_bytes // index.block_bytes
    if index.allocation.size_bytes % index.block_bytes or len(raw) * 8 < blocks:
        yield "its blocks and its bitmap do not match"
        return
    per = index.block_bytes // index.unit_bytes
    marked = {
        number * per
        for first, count in find_runs(raw, len(raw) * 8, value=True)
        for number in range(first, first + count)
    }
    if seen - marked:
        yield "a block in use is marked as free"
    if marked - seen:
        yield "a block that cannot be reached is marked as in use"


def _no_names(_name: str) -> tuple[bytes, bytes]:
    raise AssertionError("an index of names is checked with the table of upper-case letters")


def check_views(volume: NtfsVolume, table: TablePass) -> list[Problem]:
    """What is wrong with the lists of object identifiers, reparse points and quotas."""
    problems: list[Problem] = []
    found = extend_files(table)
    for name, check in _VIEWS.items():
        number = found.get(name)
        if number is None:
            continue
        try:
            problems += check(volume, load_node(volume, number), table)
        except ImageError as error:
            problems.append(Problem(name, error.message))
    return problems


def extend_files(table: TablePass) -> dict[str, int]:
    """The files in ``$Extend`` by their names."""
    return {
        name: number
        for number, node in table.nodes.items()
        for head, name in node.names
        if head.parent & layout.REFERENCE_MASK == layout.EXTEND
    }


def _check_object_ids(volume: NtfsVolume, node: Node, table: TablePass) -> list[Problem]:
    entries, problems = check_index(volume, node, "$O")
    stated = {entry.key: int.from_bytes(entry.data[:8], "little") for entry in entries}
    expected = {
        item.object_id: number | item.sequence << 48
        for number, item in table.nodes.items()
        if item.object_id
    }
    return problems + _compare(OBJECT_IDS, stated, expected)


def _check_reparse(volume: NtfsVolume, node: Node, table: TablePass) -> list[Problem]:
    entries, problems = check_index(volume, node, "$R")
    stated = {entry.key[:12]: 0 for entry in entries}
    expected = {
        layout.REPARSE_KEY.pack(item.reparse_tag, number | item.sequence << 48): 0
        for number, item in table.nodes.items()
        if item.reparse_tag
    }
    return problems + _compare(REPARSE_POINTS, stated, expected)


def _compare(where: str, recorded: dict[bytes, int], expected: dict[bytes, int]) -> list[Problem]:
    problems = []
    if expected.keys() - recorded.keys():
        problems.append(Problem(where, messages.FILE_NOT_LISTED))
    if recorded.keys() - expected.keys():
        problems.append(Problem(where, messages.LISTS_ENTRY_THAT_NO_FILE))
    if any(recorded[key] != expected[key] for key in recorded.keys() & expected.keys()):
        problems.append(Problem(where, messages.LISTS_ENTRY_UNDER_WRONG_FILE))
    return problems


def _check_quotas(volume: NtfsVolume, node: Node, table: TablePass) -> list[Problem]:
    by_sid, problems = check_index(volume, node, "$O")
    by_owner, more = check_index(volume, node, "$Q")
    problems += more
    owners = {int.from_bytes(entry.key, "little") for entry in by_owner}
    if any(int.from_bytes(entry.data[:4], "little") not in owners for entry in by_sid):
        problems.append(Problem(QUOTAS, messages.OWNER_NO_ENTRY))
    return problems


_Check = Callable[[NtfsVolume, Node, TablePass], list[Problem]]
_VIEWS: dict[str, _Check] = {
    OBJECT_IDS: _check_object_ids,
    REPARSE_POINTS: _check_reparse,
    QUOTAS: _check_quotas,
}
