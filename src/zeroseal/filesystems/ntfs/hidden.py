"""Looking for values in what the bytes of an NTFS volume do not show.

Content may be compressed (LZNT1); a record of the file table ends each of its sectors with a mark
that stands over two bytes of its content; a text may lie across the border of two fragments of a
file. All of these are read as the file system reads them, and searched.
"""

from __future__ import annotations

from collections.abc import Iterator
from itertools import pairwise

from zeroseal.blocks.search import Searcher
from zeroseal.errors import ZeroSealError
from zeroseal.filesystems.driver import HiddenHit
from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.nodes import (
    Attribute,
    base_of,
    may_hide,
    node_from_record,
    parse_pieces,
)
from zeroseal.filesystems.ntfs.read import NtfsTree
from zeroseal.filesystems.ntfs.runs import HOLE
from zeroseal.filesystems.ntfs.streams import read_stream
from zeroseal.filesystems.ntfs.volume import NtfsVolume

_PIECE = 16 << 20
_RECORDS_AT_ONCE = 4096
_MOST_DEPTH = 256


def search_hidden(tree: NtfsTree, searcher: Searcher) -> tuple[list[HiddenHit], list[str]]:
    """(hits, sentences about what could not be read) of one volume."""
    looker = _Looker(tree, searcher)
    found = [HiddenHit(number, _path_of(tree, node)) for number, node in looker.find()]
    unread = [f"Record {node} of {tree.volume.where} cannot be read." for node in looker.unread]
    return list(dict.fromkeys(found)), unread


class _Looker:
    """Searches one volume."""

    def __init__(self, tree: NtfsTree, searcher: Searcher) -> None:
        self._volume: NtfsVolume = tree.volume
        self._searcher = searcher
        self.unread: list[int] = []

    def find(self) -> Iterator[tuple[int, int]]:
        """Yields (number of the value, node)."""
        window: list[bytes] = []
        first = 0
        for number, record in self._volume.iter_records():
            if not window:
                first = number
            window.append(record or b"")
            if len(window) >= _RECORDS_AT_ONCE:
                yield from self._in_records(window, first)
                window = []
            if record is not None and record[22] & layout.IN_USE:
                yield from self._in_content(number, record)
        yield from self._in_records(window, first)

    def _in_records(self, records: list[bytes], first: int) -> Iterator[tuple[int, int]]:
        """Hits in records; those that reach from one into the next are none."""
        size = self._volume.record_bytes
        raw = b"".join(record.ljust(size, b"\0") for record in records)
        for offset, number in self._hits(raw):
            at = offset // size
            yield number, base_of(records[at]) or first + at

    def _in_content(self, number: int, record: bytes) -> Iterator[tuple[int, int]]:
        if base_of(record):
            return
        try:
            if not may_hide(parse_pieces(self._volume, number, record)):
                return
            node = node_from_record(self._volume, number, record)
            for attribute in node.all_of(layout.DATA):
                for value in self._in_attribute(attribute):
                    yield value, number
        except ZeroSealError:
            self.unread.append(number)

    def _in_attribute(self, attribute: Attribute) -> Iterator[int]:
        if attribute.value is not None or attribute.is_encrypted:
            return
        margin = self._searcher.longest
        if attribute.is_compressed:
            for start in range(0, attribute.size_bytes, _PIECE):
                piece = read_stream(self._volume, attribute, start, _PIECE + margin)
                yield from {number for _offset, number in self._hits(piece)}
            return
        position = 0
        for before, behind in pairwise(attribute.runs):
            position += before.clusters * self._volume.cluster_bytes
            if HOLE in (before.lcn, behind.lcn):
                continue
            start = max(0, position - margin)
            piece = read_stream(self._volume, attribute, start, 2 * margin)
            yield from {number for _offset, number in self._hits(piece)}

    def _hits(self, raw: bytes) -> list[tuple[int, int]]:
        return self._searcher.find(raw)


def _path_of(tree: NtfsTree, number: int) -> str:
    """The path of a node, by its first name."""
    parts: list[str] = []
    while number != layout.ROOT and len(parts) < _MOST_DEPTH:
        try:
            names = tree.get_node(number).names()
        except ZeroSealError:
            names = []
        if not names:
            return f"/record {number} of the file table"
        head, name = names[0]
        parts.append(name)
        number = head.parent & layout.REFERENCE_MASK
    return "/" + "/".join(reversed(parts))
