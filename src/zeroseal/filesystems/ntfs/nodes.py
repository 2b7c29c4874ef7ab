"""A file, put together from its base record and the extension records of its attribute list."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import NamedTuple

from zeroseal.blocks.store import Store
from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.layout import FileName, MappedHeader, RecordHeader
from zeroseal.filesystems.ntfs.names import to_text
from zeroseal.filesystems.ntfs.runs import HOLE, Run, count_clusters, merge_runs
from zeroseal.filesystems.ntfs.volume import NtfsVolume
from zeroseal.messages import ntfs as messages

_END_MARK = layout.END.to_bytes(4, "little")
_MOST_LIST_BYTES = 256 << 10  # as Windows allows


class Piece(NamedTuple):
    """An attribute, or a part of one, as it lies in one record.

    ``value`` is that of a resident attribute; others have the bytes of their run list.
    """

    type: int
    name: str
    flags: int
    instance: int
    value: bytes | None
    is_indexed: bool = False
    lowest_vcn: int = 0
    highest_vcn: int = -1
    runs_raw: bytes = b""
    unit: int = 0
    allocated: int = 0
    size: int = 0
    initialized: int = 0
    stored: int = 0  # bytes of clusters of its own, where it is compressed or sparse


@dataclass(slots=True)
class Attribute:
    """A whole attribute.

    Attributes:
        value: what a resident attribute holds; None where it lies in clusters.
        runs: the clusters of the others, in order, holes among them.
        size: of the content; behind ``initialized`` it reads as zeros.
        unit: clusters that are compressed together, as a power of two; 0 where they are not.
    """

    type: int
    name: str = ""
    flags: int = 0
    value: bytes | None = b""
    is_indexed: bool = False
    runs: list[Run] = field(default_factory=list)
    size: int = 0
    initialized: int = 0
    unit: int = 0

    @property
    def is_compressed(self) -> bool:
        """Whether its clusters hold compressed data."""
        return bool(self.flags & layout.COMPRESSION_MASK)

    @property
    def is_sparse(self) -> bool:
        """Whether it may have holes."""
        return bool(self.flags & layout.SPARSE)

    @property
    def is_encrypted(self) -> bool:
        """Whether its content is encrypted (EFS)."""
        return bool(self.flags & layout.ENCRYPTED)

    @property
    def has_holes(self) -> bool:
        """Whether some of its content is not stored."""
        return any(run.lcn == HOLE for run in self.runs)

    @property
    def size_bytes(self) -> int:
        """The length of its content."""
        return self.size if self.value is None else len(self.value)

    @property
    def stored_clusters(self) -> int:
        """How many clusters it has of its own."""
        return sum(run.clusters for run in self.runs if run.lcn != HOLE)


@dataclass(slots=True)
class Node:
    """A file or folder with all its attributes, in the order of the disk.

    Attributes:
        head: the base record's header.
        extensions: the numbers of its extension records.
        list_runs: the clusters of its attribute list, where that is not resident.
    """

    number: int
    head: RecordHeader
    attributes: list[Attribute]
    extensions: list[int] = field(default_factory=list)
    list_runs: list[Run] = field(default_factory=list)

    @property
    def reference(self) -> int:
        """Number and sequence, as other records name it."""
        return self.number | self.head.sequence << 48

    @property
    def is_folder(self) -> bool:
        """Whether it has an index of names."""
        return bool(self.head.flags & layout.IS_FOLDER)

    def find(self, kind: int, name: str = "") -> Attribute | None:
        """The attribute of a type and name."""
        return next((a for a in self.attributes if a.type == kind and a.name == name), None)

    def all_of(self, kind: int) -> list[Attribute]:
        """All attributes of a type."""
        return [attribute for attribute in self.attributes if attribute.type == kind]

    def names(self) -> list[tuple[NameHead, str]]:
        """Its names with the folders that hold them."""
        return [parse_name(a.value or b"") for a in self.all_of(layout.FILE_NAME)]

    @property
    def standard(self) -> bytes:
        """Its standard information; empty where it has none."""
        attribute = self.find(layout.STANDARD_INFORMATION)
        return (attribute.value if attribute else None) or b""

    @property
    def flags(self) -> int:
        """The flags of its standard information."""
        return int.from_bytes(self.standard[32:36], "little")

    @property
    def security_id(self) -> int:
        """The number of its security descriptor in ``$Secure``; 0 where it has one of its own."""
        return security_id_of(self.standard)


def base_of(record: bytes) -> int:
    """The node whose extension a record is; 0 for one of its own."""
    return int.from_bytes(record[32:40], "little") & layout.REFERENCE_MASK


def security_id_of(standard: bytes) -> int:
    """The number of a security descriptor from standard information; its 1.2 form has none."""
    if len(standard) < layout.STANDARD_BYTES:
        return 0
    start = layout.SECURITY_ID_OFFSET
    return int.from_bytes(standard[start : start + 4], "little")


class NameHead(NamedTuple):
    """What a name says but itself and its times; see ``FileName``."""

    parent: int
    flags: int
    extra: int
    length: int
    space: int


def parse_name(raw: bytes) -> tuple[NameHead, str]:
    """A name with its head; the caller has seen that it is whole."""
    head = NameHead._make(layout.NAME_HEAD.unpack_from(raw))
    return head, to_text(raw[FileName.SIZE : FileName.SIZE + 2 * head.length])


def parse_pieces(volume: NtfsVolume, number: int, record: bytes) -> list[Piece]:
    """The attributes of one record.

    Raises:
        DamagedError: they do not fit into it.
    """
    pieces: list[Piece] = []
    position = int.from_bytes(record[20:22], "little")
    end = min(int.from_bytes(record[24:28], "little"), len(record))
    if position < 42:
        raise volume.damaged(messages.RECORD_ATTRIBUTES_THAT_OVERLAP_HEADER.format(number=number))
    while position + 4 <= end:
        if record[position : position + 4] == _END_MARK:
            return pieces
        if position + layout.RESIDENT_BYTES > end:
            break
        kind, length, is_mapped, letters, name_at, flags, instance, size, start, indexed = (
            layout.ATTRIBUTE.unpack_from(record, position)
        )
        if length < layout.RESIDENT_BYTES or length % 8 or position + length > end:
            raise volume.damaged(messages.ATTRIBUTE_OF_RECORD_INVALID.format(number=number))
        name = ""
        if letters:
            if name_at + 2 * letters > length:
                raise volume.damaged(
                    messages.NAME_OF_ATTRIBUTE_OF_RECORD_TRUNCATED.format(number=number)
                )
            name = to_text(record[position + name_at : position + name_at + 2 * letters])
        if is_mapped:
            raw = record[position : position + length]
            pieces.append(_mapped_piece(volume, number, raw, kind, name, flags, instance))
        else:
            if start + size > length or start < layout.RESIDENT_BYTES:
                raise volume.damaged(
                    messages.VALUE_OF_ATTRIBUTE_OF_RECORD_TRUNCATED.format(number=number)
                )
            value = record[position + start : position + start + size]
            _check_value(volume, number, kind, value)
            is_indexed = bool(indexed & layout.INDEXED)
            pieces.append(
                Piece(
                    type=kind,
                    name=name,
                    flags=flags,
                    instance=instance,
                    value=value,
                    is_indexed=is_indexed,
                )
            )
        position += length
    raise volume.damaged(messages.ATTRIBUTES_OF_RECORD_NO_END_MARKER.format(number=number))


def may_hide(pieces: list[Piece]) -> bool:
    """Whether bytes of a volume do not show all of a record's content in one piece.

    So it is where content is compressed, or in fragments, or described by further records.
    """
    for piece in pieces:
        if piece.type == layout.ATTRIBUTE_LIST:
            return True
        if piece.value is None and piece.type != layout.INDEX_ALLOCATION:
            raw = piece.runs_raw
            following = 1 + (raw[0] & 0x0F) + (raw[0] >> 4) if raw else 0
            has_more = following < len(raw) and raw[following] != 0
            if piece.flags & layout.COMPRESSION_MASK or has_more:
                return True
    return False


def _mapped_piece(
    volume: NtfsVolume, number: int, raw: bytes, kind: int, name: str, flags: int, instance: int
) -> Piece:
    length = len(raw)
    if length < MappedHeader.SIZE:
        raise volume.damaged(messages.ATTRIBUTE_OF_RECORD_TRUNCATED.format(number=number))
    lowest, highest, start, unit, allocated, size, initialized = layout.MAPPED.unpack_from(raw, 16)
    if start > length or start < MappedHeader.SIZE:
        raise volume.damaged(messages.ATTRIBUTE_RUNS_TRUNCATED.format(number=number))
    has_stored = flags & (layout.SPARSE | layout.COMPRESSION_MASK) and start >= 72
    return Piece(
        kind,
        name,
        flags,
        instance,
        None,
        is_indexed=False,
        lowest_vcn=lowest,
        highest_vcn=highest,
        runs_raw=raw[start:],
        unit=unit,
        allocated=allocated,
        size=size,
        initialized=initialized,
        stored=int.from_bytes(raw[64:72], "little") if has_stored else 0,
    )


def _check_value(volume: NtfsVolume, number: int, kind: int, value: bytes) -> None:
    if kind == layout.FILE_NAME:
        least = FileName.SIZE
        if len(value) < least or least + 2 * value[64] > len(value):
            raise volume.damaged(messages.NAME_OF_RECORD_TRUNCATED.format(number=number))
    elif kind == layout.STANDARD_INFORMATION and len(value) < 48:
        raise volume.damaged(
            messages.STANDARD_INFORMATION_OF_RECORD_TRUNCATED.format(number=number)
        )


class ListEntry(NamedTuple):
    """A line of an attribute list."""

    type: int
    name: str
    vcn: int
    record: int
    sequence: int
    instance: int


def parse_list(volume: NtfsVolume, number: int, raw: bytes) -> list[ListEntry]:
    """The lines of an attribute list.

    Raises:
        DamagedError: they are out of shape.
    """
    entries, position = [], 0
    while position + layout.LIST_ENTRY_BYTES <= len(raw):
        kind, length, name_length, start, vcn, reference, instance = layout.LIST_ENTRY.unpack(
            raw[position : position + layout.LIST_ENTRY_BYTES]
        )
        name_end = start + 2 * name_length
        if length < layout.LIST_ENTRY_BYTES or length % 8 or position + length > len(raw):
            raise volume.damaged(messages.ATTRIBUTE_LIST_INVALID.format(number=number))
        if name_length and name_end > length:
            raise volume.damaged(messages.ATTRIBUTE_LIST_INVALID.format(number=number))
        name = to_text(raw[position + start : position + name_end]) if name_length else ""
        record = reference & layout.REFERENCE_MASK
        entries.append(
            ListEntry(
                type=kind,
                name=name,
                vcn=vcn,
                record=record,
                sequence=reference >> 48,
                instance=instance,
            )
        )
        position += length
    return entries


def load_node(volume: NtfsVolume, number: int) -> Node:
    """Reads a file's records.

    Raises:
        DamagedError: they contradict each other.
    """
    return node_from_record(volume, number, volume.read_record(number))


def node_from_record(volume: NtfsVolume, number: int, record: bytes) -> Node:
    """Puts a node together from its base record, which was read already."""
    head = RecordHeader.parse(record[: RecordHeader.SIZE])
    if not head.flags & layout.IN_USE:
        raise volume.damaged(messages.REFERENCED_RECORD_NOT_IN_USE.format(number=number))
    if head.base:
        raise volume.damaged(messages.REFERENCED_RECORD_IS_EXTENSION.format(number=number))
    return node_from_pieces(volume, number, head, parse_pieces(volume, number, record))


def node_from_pieces(
    volume: NtfsVolume, number: int, head: RecordHeader, pieces: list[Piece]
) -> Node:
    """Puts a node together from the attributes of its base record.

    Raises:
        DamagedError: its records contradict each other.
    """
    listed = next((piece for piece in pieces if piece.type == layout.ATTRIBUTE_LIST), None)
    if listed is None:
        return Node(number, head, join_pieces(volume, number, pieces))
    list_runs: list[Run] = []
    raw = listed.value
    if raw is None:
        list_runs = volume.parse_runs(listed.runs_raw, f"the attribute list of record {number}")
        raw = _read_list(volume, number, listed, list_runs)
    own = [piece for piece in pieces if piece.type != layout.ATTRIBUTE_LIST]
    entries = parse_list(volume, number, raw)
    extensions = list(dict.fromkeys(e.record for e in entries if e.record != number))
    found = _gather(volume, number, head, entries, own)
    return Node(number, head, join_pieces(volume, number, found), extensions, list_runs)


def _read_list(volume: NtfsVolume, number: int, piece: Piece, runs: list[Run]) -> bytes:
    if not 0 <= piece.size <= _MOST_LIST_BYTES:
        raise volume.damaged(messages.ATTRIBUTE_LIST_TOO_LARGE.format(number=number))
    size = piece.size
    if any(run.lcn == HOLE for run in runs) or count_clusters(runs) * volume.cluster_bytes < size:
        raise volume.damaged(messages.ATTRIBUTE_LIST_EXCEEDS_CLUSTERS.format(number=number))
    raw, left = b"", size
    for run in runs:
        raw += volume.store.read(
            run.lcn * volume.cluster_bytes, min(left, run.clusters * volume.cluster_bytes)
        )
        left = size - len(raw)
        if not left:
            break
    return raw


def _gather(
    volume: NtfsVolume, number: int, head: RecordHeader, entries: list[ListEntry], own: list[Piece]
) -> list[Piece]:
    """The pieces that the list names, in its order."""
    by_record = {number: {(p.type, p.instance): p for p in own}}
    found = []
    for entry in entries:
        pieces = by_record.get(entry.record)
        if pieces is None:
            pieces = by_record[entry.record] = _read_extension(volume, number, head, entry)
        piece = pieces.get((entry.type, entry.instance))
        if entry.type == layout.ATTRIBUTE_LIST:
            continue
        if piece is None or piece.name != entry.name or piece.lowest_vcn != entry.vcn:
            raise volume.damaged(
                messages.LISTED_ATTRIBUTE_MISSING.format(number=number, record=entry.record)
            )
        found.append(piece)
    return found


def _read_extension(
    volume: NtfsVolume, number: int, head: RecordHeader, entry: ListEntry
) -> dict[tuple[int, int], Piece]:
    record = volume.read_record(entry.record)
    extension = RecordHeader.parse(record[: RecordHeader.SIZE])
    is_ours = extension.base == (number | head.sequence << 48)
    if not is_ours or not extension.flags & layout.IN_USE or extension.sequence != entry.sequence:
        raise volume.damaged(
            messages.RECORD_DOES_NOT_EXTEND_RECORD.format(record=entry.record, number=number)
        )
    pieces = parse_pieces(volume, entry.record, record)
    return {(piece.type, piece.instance): piece for piece in pieces}


def join_pieces(volume: NtfsVolume, number: int, pieces: list[Piece]) -> list[Attribute]:
    """Whole attributes from their pieces.

    Raises:
        DamagedError: a part is missing, or two overlap.
    """
    attributes: list[Attribute] = []
    last: dict[tuple[int, str], tuple[Attribute, int]] = {}
    for piece in pieces:
        if piece.value is not None:
            made = Attribute(piece.type, piece.name, piece.flags, piece.value, piece.is_indexed)
            attributes.append(made)
            continue
        what = f"{layout.TYPE_NAMES.get(piece.type, 'an attribute')} of record {number}"
        runs = volume.parse_runs(piece.runs_raw, what)
        clusters = count_clusters(runs)
        if piece.lowest_vcn:
            before, next_vcn = last.get((piece.type, piece.name), (None, 0))
            if before is None or piece.lowest_vcn != next_vcn:
                raise volume.damaged(messages.PART_MISSING.format(what=what))
            before.runs = merge_runs(before.runs + runs)
            last[piece.type, piece.name] = before, next_vcn + clusters
        else:
            _check_sizes(volume, piece, what)
            whole = Attribute(
                piece.type,
                piece.name,
                piece.flags,
                None,
                is_indexed=False,
                runs=merge_runs(runs),
                size=piece.size,
                initialized=piece.initialized,
                unit=piece.unit,
            )
            attributes.append(whole)
            last[piece.type, piece.name] = whole, clusters
        if piece.highest_vcn != piece.lowest_vcn + clusters - 1 and clusters:
            raise volume.damaged(messages.RUNS_DO_NOT_MATCH_CLUSTERS.format(what=what))
    for attribute, clusters in last.values():
        if attribute.size > clusters * volume.cluster_bytes:
            raise volume.damaged(
                messages.ATTRIBUTE_OF_RECORD_LARGER_THAN_CLUSTERS.format(number=number)
            )
    return attributes


def _check_sizes(volume: NtfsVolume, piece: Piece, what: str) -> None:
    if not 0 <= piece.initialized <= piece.size or piece.unit > 16:
        raise volume.damaged(messages.SIZES_CONTRADICT.format(what=what))
    if piece.flags & layout.COMPRESSION_MASK and not piece.unit:
        raise volume.damaged(messages.COMPRESSION_UNIT_MISSING.format(what=what))


def open_volume(store: Store, where: str = "the volume") -> NtfsVolume:
    """A volume with its whole table: from its first record, then as its extensions tell it.

    Raises:
        DamagedError: the boot sector is none, or the table does not lead to itself.
        UnsupportedError: as ``NtfsVolume``.
    """
    volume = NtfsVolume(store, where)
    attribute = _load_table(volume)
    volume.take_table(attribute.runs, attribute.size)
    return volume


def _load_table(volume: NtfsVolume) -> Attribute:
    record = volume.read_record(layout.MFT)
    pieces = parse_pieces(volume, layout.MFT, record)
    first = next((p for p in pieces if p.type == layout.DATA and not p.name), None)
    if first is None or first.value is not None or first.lowest_vcn:
        raise volume.damaged(messages.FILE_TABLE_LOCATION_MISSING)
    runs = volume.parse_runs(first.runs_raw, "the table")
    if runs and runs[0].lcn == volume.boot.mft_cluster:
        volume.take_table(runs, min(first.size, count_clusters(runs) * volume.cluster_bytes))
    else:
        raise volume.damaged(messages.FILE_TABLE_LOCATIONS_DIFFER)
    node = node_from_record(volume, layout.MFT, record)
    attribute = node.find(layout.DATA)
    assert attribute is not None  # its first piece was seen just above
    return attribute
