"""Packing a node: its attributes into its base record and as many extension records as it takes.

Nothing is patched: all records of a node that changed are laid out anew. What must be in the base
record comes first there; an attribute list says where the rest is. A run list that fits into no
record is cut into parts.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple

from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.layout import MappedHeader, RecordHeader
from zeroseal.filesystems.ntfs.names import to_wide
from zeroseal.filesystems.ntfs.nodes import Attribute, Node
from zeroseal.filesystems.ntfs.runs import Run, build_runs, count_clusters

_END = b"\xff\xff\xff\xff" + bytes(4)
_FIXUPS_AT = 48
_HEAD, _MAPPED, _MAPPED_WITH_STORED = layout.RESIDENT_BYTES, 64, 72
_FIRST_OF_TABLE = 3  # the table's own first runs get this part of its record
_IN_BASE = (
    layout.STANDARD_INFORMATION,
    layout.FILE_NAME,
    layout.INDEX_ROOT,
    layout.VOLUME_INFORMATION,
    layout.VOLUME_NAME,
)


class RecordPart(NamedTuple):
    """An attribute, or the part of one that lies in one record."""

    attribute: Attribute
    lowest_vcn: int = 0
    runs: tuple[Run, ...] = ()

    @property
    def sort_key(self) -> tuple[int, str, int]:
        """The order of attributes in a record and in a list."""
        return self.attribute.type, self.attribute.name.upper(), self.lowest_vcn


@dataclass
class Packing:
    """How a node lies in records: the parts in each, the base record first."""

    records: list[list[RecordPart]]
    attribute_list: Attribute | None = None


def record_room(record_bytes: int) -> int:
    """The bytes that are used of a record for attributes.

    Eight are left: an independent reader passes over the last attribute of a record that is full.
    """
    return record_bytes - attributes_offset(record_bytes) - len(_END) - 8


def attributes_offset(record_bytes: int) -> int:
    """Where attributes begin, behind the update sequence."""
    return (_FIXUPS_AT + 2 * (record_bytes // layout.FIXUP_STRIDE + 1) + 7) & ~7


def part_bytes(part: RecordPart) -> int:
    """How long a part is in its record."""
    return len(build_part(part, 0, 1))


def build_part(part: RecordPart, instance: int, cluster_bytes: int) -> bytes:
    """A part as it lies in its record."""
    attribute = part.attribute
    name = to_wide(attribute.name)
    if attribute.value is not None:
        start = _HEAD + len(name)
        start = (start + 7) & ~7
        length = (start + len(attribute.value) + 7) & ~7
        raw = bytearray(length)
        layout.RESIDENT.pack_into(
            raw, 16, len(attribute.value), start, layout.INDEXED * attribute.is_indexed
        )
        raw[start : start + len(attribute.value)] = attribute.value
        head = layout.AttributeHeader.blank(name_offset=_HEAD)
    else:
        has_stored = attribute.is_sparse or attribute.is_compressed
        name_at = _MAPPED_WITH_STORED if has_stored else _MAPPED
        start = (name_at + len(name) + 7) & ~7
        runs = build_runs(part.runs)
        length = (start + len(runs) + 7) & ~7
        raw = bytearray(length)
        raw[start : start + len(runs)] = runs
        raw[16:64] = _mapped_head(part, start, cluster_bytes)
        if has_stored and not part.lowest_vcn:
            stored = attribute.stored_clusters * cluster_bytes
            raw[64:72] = stored.to_bytes(8, "little")
        head = layout.AttributeHeader.blank(non_resident=1, name_offset=name_at)
    head.type, head.length, head.flags = attribute.type, length, attribute.flags
    head.name_length, head.instance = len(name) // 2, instance
    raw[:16] = head.build()
    raw[head.name_offset : head.name_offset + len(name)] = name
    return bytes(raw)


def _mapped_head(part: RecordPart, runs_offset: int, cluster_bytes: int) -> bytes:
    attribute = part.attribute
    head = MappedHeader.blank(
        lowest_vcn=part.lowest_vcn,
        highest_vcn=part.lowest_vcn + count_clusters(part.runs) - 1,
        runs_offset=runs_offset,
        compression_unit=attribute.unit,
    )
    if not part.lowest_vcn:
        head.allocated = count_clusters(attribute.runs) * cluster_bytes
        head.size, head.initialized = attribute.size, attribute.initialized
    return head.build()[16:64]


def pack_node(node: Node, record_bytes: int, make_list: Callable[[int], Attribute]) -> Packing:
    """Lays a node's attributes out.

    Args:
        node: what shall be packed.
        record_bytes: size of a record.
        make_list: gives the attribute of an attribute list of so many bytes, in clusters where
            they are many.
    """
    room = record_room(record_bytes)
    parts = [RecordPart(a, 0, tuple(a.runs)) for a in node.attributes]
    parts.sort(key=lambda part: part.sort_key)
    if sum(part_bytes(part) for part in parts) <= room:
        return Packing([parts])
    parts = [piece for part in parts for piece in _split(part, node, room)]
    attribute_list = make_list(sum(_entry_bytes(part) for part in parts))
    list_part = RecordPart(attribute_list, 0, tuple(attribute_list.runs))
    records = [[list_part]]
    left = [room - part_bytes(list_part)]
    rest = []
    for part in sorted(parts, key=lambda part: (not _belongs_in_base(node, part), part.sort_key)):
        size = part_bytes(part)
        if size <= left[0] and not part.lowest_vcn:
            records[0].append(part)
            left[0] -= size
        else:
            rest.append(part)
    first = 1
    for part in sorted(rest, key=lambda part: part.sort_key):
        # the parts of one attribute lie in order, some readers count on it
        first = first if part.lowest_vcn else 1
        size = part_bytes(part)
        index = next((n for n in range(first, len(left)) if size <= left[n]), None)
        if index is None:
            records.append([])
            left.append(room)
            index = len(left) - 1
        records[index].append(part)
        left[index] -= size
        first = index
    for record in records:
        record.sort(key=lambda part: part.sort_key)
    return Packing(records, attribute_list)


def _belongs_in_base(node: Node, part: RecordPart) -> bool:
    if node.number == layout.MFT and part.attribute.type == layout.DATA:
        return not part.lowest_vcn
    return part.attribute.type in _IN_BASE


def _split(part: RecordPart, node: Node, room: int) -> list[RecordPart]:
    """A part in parts that each fit into a record."""
    attribute = part.attribute
    overhead = part_bytes(RecordPart(attribute, 0, ())) + 8
    most = room - overhead
    is_table = node.number == layout.MFT and attribute.type == layout.DATA
    first = room // _FIRST_OF_TABLE if is_table else most
    if attribute.value is not None or len(build_runs(part.runs)) <= first:
        return [part]
    parts: list[RecordPart] = []
    runs: list[Run] = []
    vcn, used, limit = 0, 1, first
    for run in part.runs:
        # a run's first distance counts from 0, and may take more bytes than in its place
        size = max(len(build_runs([run])), len(build_runs([*runs[-1:], run])) - 1)
        if runs and used + size > limit:
            parts.append(RecordPart(attribute, vcn, tuple(runs)))
            vcn += count_clusters(runs)
            runs, used, limit = [], 1, most
        runs.append(run)
        used += size
    parts.append(RecordPart(attribute, vcn, tuple(runs)))
    return parts


def _entry_bytes(part: RecordPart) -> int:
    return (layout.LIST_ENTRY_BYTES + len(to_wide(part.attribute.name)) + 7) & ~7


def build_list(packing: Packing, references: list[int]) -> bytes:
    """The content of an attribute list; ``references`` are those of the records, in order."""
    lines = []
    for parts, reference in zip(packing.records, references, strict=True):
        for instance, part in enumerate(parts):
            if part.attribute is packing.attribute_list:
                continue
            name = to_wide(part.attribute.name)
            raw = bytearray(_entry_bytes(part))
            layout.LIST_ENTRY.pack_into(
                raw,
                0,
                part.attribute.type,
                len(raw),
                len(name) // 2,
                layout.LIST_ENTRY_BYTES,
                part.lowest_vcn,
                reference,
                instance,
            )
            raw[layout.LIST_ENTRY_BYTES : layout.LIST_ENTRY_BYTES + len(name)] = name
            lines.append((part.sort_key, bytes(raw)))
    return b"".join(raw for _key, raw in sorted(lines, key=lambda line: line[0]))


def build_record(
    head: RecordHeader, parts: list[RecordPart], record_bytes: int, cluster_bytes: int
) -> bytes:
    """A record without its update sequence; takes the head's sequence, links, flags and base."""
    start = attributes_offset(record_bytes)
    body = b"".join(build_part(part, n, cluster_bytes) for n, part in enumerate(parts)) + _END
    head.magic = layout.FILE_MAGIC
    head.fixup_offset = _FIXUPS_AT
    head.fixup_count = record_bytes // layout.FIXUP_STRIDE + 1
    head.attributes_offset = start
    head.used_bytes = start + len(body)
    head.allocated_bytes = record_bytes
    head.next_instance = len(parts)
    assert head.used_bytes <= record_bytes  # pack_node counted the bytes
    return head.build().ljust(start, b"\0") + body.ljust(record_bytes - start, b"\0")


def build_free_record(number: int, sequence: int, record_bytes: int, lsn: int = 0) -> bytes:
    """A record that is not in use, and holds nothing but its sequence number."""
    head = RecordHeader.blank(sequence=sequence, number=number & 0xFFFFFFFF, lsn=lsn)
    return build_record(head, [], record_bytes, 1)
