"""The checker's look at the master file table: each record by itself, and each file's records."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from zeroseal.errors import ImageError
from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.index import FOLDER_INDEX
from zeroseal.filesystems.ntfs.layout import RecordHeader
from zeroseal.filesystems.ntfs.nodes import (
    Attribute,
    NameHead,
    Node,
    Piece,
    node_from_pieces,
    parse_pieces,
    security_id_of,
)
from zeroseal.filesystems.ntfs.runs import HOLE
from zeroseal.filesystems.ntfs.streams import read_stream
from zeroseal.filesystems.ntfs.volume import NtfsVolume
from zeroseal.filesystems.tree import Problem
from zeroseal.messages import ntfs as messages

_Found = dict[tuple[int, str], Attribute]


@dataclass(frozen=True)
class NodeSummary:
    """What the other passes need of a file in use."""

    sequence: int
    flags: int
    names: tuple[tuple[NameHead, str], ...]
    security_id: int
    object_id: bytes
    reparse_tag: int


class TablePass:
    """Reads the whole table once.

    Attributes:
        in_use: numbers of all records in use, extensions among them.
        blank_reserved: reserved records that hold zeros. Windows leaves records 16 to 23 so, and
            marks them as used in the table's bitmap; mkntfs writes them as unused records.
        nodes: what is to be known of each base record in use.
        claims: (first cluster, count, record) of everything that lies in clusters.
    """

    def __init__(self, volume: NtfsVolume) -> None:
        self._volume = volume
        self.in_use: set[int] = set()
        self.blank_reserved: set[int] = set()
        self.nodes: dict[int, NodeSummary] = {}
        self.claims: list[tuple[int, int, int]] = []
        self._extensions: dict[int, int] = {}  # record: its base, as the record says
        self._listed: dict[int, int] = {}  # the same, as attribute lists say

    def check(self) -> list[Problem]:
        """What is wrong with the records."""
        problems: list[Problem] = []
        for number, record in self._volume.iter_records():
            if record is None:
                if self._is_blank_reserved(number):
                    self.blank_reserved.add(number)
                elif number < layout.FIRST_USER_RECORD:
                    problems.append(Problem(f"record {number}", messages.INVALID))
                continue
            head = RecordHeader.parse(record[: RecordHeader.SIZE])
            if not head.flags & layout.IN_USE:
                continue
            self.in_use.add(number)
            try:
                problems += self._check_record(number, head, record)
            except (ImageError, UnicodeDecodeError) as error:
                problems.append(Problem(f"record {number}", str(error)))
        for number, base in self._extensions.items():
            if self._listed.get(number) != base:
                problems.append(Problem(f"record {number}", messages.EXTENSION_NOT_LISTED))
        for number, base in self._listed.items():
            if number not in self._extensions:
                what = "it is listed as an extension record but is not one"
                problems.append(Problem(f"record {number}, of {base}", what))
        return problems

    # -- inside

    def _is_blank_reserved(self, number: int) -> bool:
        if not layout.FIRST_RESERVED_RECORD <= number < layout.FIRST_USER_RECORD:
            return False
        return not any(self._volume.read_raw_record(number))

    def _check_record(
        self, number: int, head: RecordHeader, record: bytes
    ) -> Iterator[Problem] | list[Problem]:
        pieces = parse_pieces(self._volume, number, record)
        problems = list(self._check_head(number, head, record, pieces))
        if head.base:
            self._extensions[number] = head.base & layout.REFERENCE_MASK
            return problems
        node = node_from_pieces(self._volume, number, head, pieces)
        for extension in node.extensions:
            self._listed[extension] = number
        self._claim(node)
        found = {(attribute.type, attribute.name): attribute for attribute in node.attributes}
        self.nodes[number] = self._summarise(node, found)
        problems += self._check_node(node, found)
        problems += self._check_sizes(node, pieces, found)
        return problems

    def _check_head(
        self, number: int, head: RecordHeader, record: bytes, pieces: list[Piece]
    ) -> Iterator[Problem]:
        where = f"record {number}"
        if head.allocated_bytes != self._volume.record_bytes:
            yield Problem(
                where, messages.WRONG_ALLOCATED_SIZE.format(allocated_bytes=head.allocated_bytes)
            )
        if head.fixup_offset >= 0x30 and head.number != number & 0xFFFFFFFF:
            yield Problem(where, messages.WRONG_RECORD_NUMBER.format(number=head.number))
        if not head.sequence:
            yield Problem(where, messages.SEQUENCE_NUMBER_ZERO)
        end = head.attributes_offset
        while record[end : end + 4] != b"\xff\xff\xff\xff":  # parsed before: it has an end
            end += int.from_bytes(record[end + 4 : end + 8], "little")
        if head.used_bytes != end + 8:
            yield Problem(where, messages.ATTRIBUTES_NO_END_MARKER)
        instances = [piece.instance for piece in pieces]
        if len(set(instances)) != len(instances):
            yield Problem(where, messages.SAME_INSTANCE_NUMBER)
        if instances and max(instances) >= head.next_instance:
            yield Problem(where, messages.INSTANCE_NUMBER_NOT_ASSIGNED)
        types = [piece.type for piece in pieces]
        if types != sorted(types):
            yield Problem(where, messages.ATTRIBUTES_OUT_OF_ORDER)

    def _check_node(self, node: Node, found: _Found) -> Iterator[Problem]:
        where = f"record {node.number}"
        names = [a for a in node.attributes if a.type == layout.FILE_NAME]
        if node.head.links != len(names):
            what = f"it counts {node.head.links} names but has {len(names)}"
            yield Problem(where, what)
        if any(attribute.value is None for attribute in names):
            yield Problem(where, messages.NAME_NOT_RESIDENT)
        if not names and node.number >= layout.FIRST_USER_RECORD:
            yield Problem(where, messages.IN_USE_WITHOUT_NAME)
        if names and (layout.STANDARD_INFORMATION, "") not in found:
            yield Problem(where, messages.NO_STANDARD_INFORMATION)
        if ((layout.INDEX_ROOT, FOLDER_INDEX) in found) != node.is_folder:
            yield Problem(where, messages.TWO_FOLDER_FLAGS_CONTRADICT_EACH_OTHER)
        if len(found) + max(0, len(names) - 1) != len(node.attributes):
            yield Problem(where, messages.ATTRIBUTE_OCCURS_TWICE)

    def _check_sizes(self, node: Node, pieces: list[Piece], found: _Found) -> Iterator[Problem]:
        where, cluster_bytes = f"record {node.number}", self._volume.cluster_bytes
        for piece in pieces:
            if piece.value is not None or piece.lowest_vcn:
                continue
            attribute = found.get((piece.type, piece.name))
            if attribute is None:
                continue
            mapped = sum(run.clusters for run in attribute.runs) * cluster_bytes
            shown = _shown(piece.type, piece.name)
            if piece.allocated != mapped:
                yield Problem(
                    where,
                    messages.MAPPED_SIZE_WRONG.format(
                        shown=shown, allocated=piece.allocated, mapped=mapped
                    ),
                )
            may_have = piece.flags & (layout.SPARSE | layout.COMPRESSION_MASK)
            if attribute.has_holes and not may_have and node.number != layout.BAD_CLUSTERS:
                yield Problem(where, messages.HOLES_NOT_ALLOWED.format(shown=shown))
            if may_have and piece.stored != attribute.stored_clusters * cluster_bytes:
                yield Problem(where, messages.DOES_NOT_RECORD_STORED_SIZE.format(shown=shown))

    def _claim(self, node: Node) -> None:
        for attribute in node.attributes:
            for run in attribute.runs:
                if run.lcn != HOLE:
                    self.claims.append((run.lcn, run.clusters, node.number))
        for run in node.list_runs:
            self.claims.append((run.lcn, run.clusters, node.number))

    def _summarise(self, node: Node, found: _Found) -> NodeSummary:
        object_id = found.get((layout.OBJECT_ID, ""))
        reparse = found.get((layout.REPARSE_POINT, ""))
        tag = read_stream(self._volume, reparse, 0, 4) if reparse else b""
        standard = found.get((layout.STANDARD_INFORMATION, ""))
        return NodeSummary(
            sequence=node.head.sequence,
            flags=node.head.flags,
            names=tuple(node.names()),
            security_id=security_id_of((standard.value if standard else None) or b""),
            object_id=(object_id.value or b"")[:16] if object_id else b"",
            reparse_tag=int.from_bytes(tag, "little"),
        )


def _shown(kind: int, name: str) -> str:
    shown = layout.TYPE_NAMES.get(kind, f"attribute {kind:#x}")
    return f"{shown} {name!r}" if name else shown
