"""Writing nodes: clusters and records taken and given, attributes set, records packed anew.

Knows nothing of names and folders; ``edit`` does. Nothing is whole on the store until
``write_all``.
"""

from __future__ import annotations

from zeroseal.errors import RefusedError
from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.allocate import Clusters, Records, write_at
from zeroseal.filesystems.ntfs.layout import RecordHeader
from zeroseal.filesystems.ntfs.nodes import Attribute, Node, load_node
from zeroseal.filesystems.ntfs.pack import (
    Packing,
    RecordPart,
    build_free_record,
    build_list,
    build_record,
    pack_node,
    part_bytes,
    record_room,
)
from zeroseal.filesystems.ntfs.runs import HOLE, count_clusters, cut_runs, merge_runs
from zeroseal.filesystems.ntfs.streams import read_stream
from zeroseal.filesystems.ntfs.volume import NtfsVolume, put_fixups
from zeroseal.messages import ntfs as messages

_GROWTH_RECORDS = 64
_ALWAYS_RESIDENT = 256  # such values lie in a record, even if that takes an extension
_WRITE_BYTES = 1 << 20
_FIRST_TABLE_EXTENSION = 16


class NodeWriter:
    """Nodes that were changed, and what is free, of one volume.

    Attributes:
        changed: nodes whose records will be packed anew, by number.
    """

    def __init__(self, volume: NtfsVolume, zero_removed: bool) -> None:
        self.volume = volume
        self.changed: dict[int, Node] = {}
        self._freed: dict[int, int] = {}  # record: the sequence number it goes on with
        self._known_sequences: dict[int, int] = {}  # of extension records
        bitmap = load_node(volume, layout.BITMAP).find(layout.DATA)
        table = load_node(volume, layout.MFT)
        marks = table.find(layout.BITMAP_ATTRIBUTE)
        if bitmap is None or marks is None:
            raise volume.damaged(messages.BITMAP_MISSING)
        self.clusters = Clusters(volume, bitmap, zero_removed)
        self._records = Records(volume, read_stream(volume, marks))
        self._table = table

    # -- nodes

    def new_node(self, flags: int) -> Node:
        """A node in a free record, without attributes yet."""
        number, sequence = self._take_record()
        head = RecordHeader.blank(
            sequence=sequence, flags=layout.IN_USE | flags, number=number & 0xFFFFFFFF
        )
        node = Node(number, head, [])
        self.changed[number] = node
        return node

    def free_node(self, node: Node) -> None:
        """Gives a node's clusters and records back."""
        for attribute in node.attributes:
            self.clusters.give(attribute.runs)
        self.clusters.give(node.list_runs)
        for extension in node.extensions:
            self._free_record(extension, self._sequence_of(extension))
        self.changed.pop(node.number, None)
        self._free_record(node.number, node.head.sequence)

    # -- attributes

    def set_value(
        self, node: Node, attribute: Attribute, content: bytes, kept_bytes: int = 0
    ) -> None:
        """Gives an attribute other content, in a record where it is small.

        Args:
            node: whose attribute it is.
            attribute: one of its attributes.
            content: what it shall hold.
            kept_bytes: room that the node's record needs for what is yet to come.
        """
        self.changed[node.number] = node
        stays_mapped = node.number < layout.FIRST_USER_RECORD and attribute.value is None
        attribute.flags &= ~(layout.COMPRESSION_MASK | layout.SPARSE | layout.ENCRYPTED)
        self._drop_holes(attribute)
        fits = len(content) <= max(_ALWAYS_RESIDENT, self.room_beside(node, attribute) - kept_bytes)
        if fits and not stays_mapped:
            self.clusters.give(attribute.runs)
            attribute.runs, attribute.value = [], content
            attribute.size = attribute.initialized = 0
            return
        self.set_mapped(node, attribute, content)

    def set_mapped(self, node: Node, attribute: Attribute, content: bytes) -> None:
        """Gives an attribute content that lies in clusters, however small it is."""
        self.changed[node.number] = node
        attribute.value = None
        self._drop_holes(attribute)
        self._fit_runs(attribute, len(content))
        attribute.size = attribute.initialized = len(content)
        self._write(attribute, content)

    def resize(self, node: Node, attribute: Attribute, size: int) -> None:
        """Cuts plain content in clusters, or lets it grow by zeros."""
        self.changed[node.number] = node
        before = attribute.size
        self._fit_runs(attribute, size)
        attribute.size = size
        attribute.initialized = min(attribute.initialized, size)
        if size < before:
            self._zero_tail(attribute)

    def write_into(self, node: Node, attribute: Attribute, offset: int, content: bytes) -> None:
        """Writes into content in clusters, which grows where it must; gaps become zeros."""
        self.changed[node.number] = node
        end = offset + len(content)
        if attribute.has_holes or attribute.value is not None:
            raise self.volume.unsupported(
                messages.STREAM_OF_RECORD_HOLES.format(number=node.number)
            )
        if end > attribute.size:
            self._fit_runs(attribute, end)
            attribute.size = end
        if offset > attribute.initialized:
            write_at(
                self.volume, attribute, attribute.initialized, bytes(offset - attribute.initialized)
            )
        attribute.initialized = max(attribute.initialized, end)
        write_at(self.volume, attribute, offset, content)
        self._zero_tail(attribute)

    def drop_attribute(self, node: Node, attribute: Attribute) -> None:
        """Takes an attribute away, and its clusters."""
        self.changed[node.number] = node
        self.clusters.give(attribute.runs)
        node.attributes.remove(attribute)

    def room_beside(self, node: Node, attribute: Attribute) -> int:
        """How long a resident attribute's value may be so that the node needs one record."""
        others = [RecordPart(a, 0, tuple(a.runs)) for a in node.attributes if a is not attribute]
        own = part_bytes(RecordPart(Attribute(attribute.type, attribute.name), 0, ()))
        room = record_room(self.volume.record_bytes) - sum(map(part_bytes, others)) - own
        return room // 8 * 8

    # -- the end

    def write_all(self) -> None:
        """Writes all records that changed, the bitmaps and the mirror."""
        for number in sorted(self.changed):
            if number != layout.MFT:
                self._write_node(self.changed[number])
        self._write_freed()
        self._write_table()
        self.clusters.finish()
        self._copy_mirror()
        self.changed.clear()

    # -- inside

    def _copy_mirror(self) -> None:
        """Brings the first records of the table to their copy."""
        volume = self.volume
        mirror = load_node(volume, layout.MIRROR).find(layout.DATA)
        if mirror is not None and mirror.value is None:
            count = mirror.size // volume.record_bytes
            copies = b"".join(volume.read_raw_record(number) for number in range(count))
            if copies != read_stream(volume, mirror):
                write_at(volume, mirror, 0, copies)

    def _drop_holes(self, attribute: Attribute) -> None:
        """Gives clusters of compressed or sparse content back: what follows is written plain."""
        if attribute.unit or attribute.has_holes:
            self.clusters.give(attribute.runs)
            attribute.runs, attribute.unit = [], 0

    def _fit_runs(self, attribute: Attribute, size: int) -> None:
        """Takes or gives clusters so that plain content of a size fits."""
        wanted, have = -(-size // self.volume.cluster_bytes), count_clusters(attribute.runs)
        if wanted > have:
            last = attribute.runs[-1] if attribute.runs else None
            near = last.lcn + last.clusters if last and last.lcn != HOLE else HOLE
            attribute.runs = merge_runs([*attribute.runs, *self.clusters.take(wanted - have, near)])
        elif wanted < have:
            self.clusters.give(cut_runs(attribute.runs, wanted, have))
            attribute.runs = cut_runs(attribute.runs, 0, wanted)

    def _write(self, attribute: Attribute, content: bytes) -> None:
        size = self.volume.cluster_bytes
        padded = -len(content) % size
        position = 0
        for run in attribute.runs:
            assert run.lcn != HOLE  # those were given back before
            for start in range(0, run.clusters * size, _WRITE_BYTES):
                piece = content[
                    position : position + min(_WRITE_BYTES, run.clusters * size - start)
                ]
                if position + len(piece) == len(content):
                    piece += bytes(padded)
                self.volume.store.write(run.lcn * size + start, piece)
                position += len(piece)

    def _zero_tail(self, attribute: Attribute) -> None:
        """Zeroes what lies behind initialized content in its last cluster."""
        size = self.volume.cluster_bytes
        end = attribute.initialized
        if end % size and not attribute.is_compressed:
            last = cut_runs(attribute.runs, end // size, end // size + 1)
            if last and last[0].lcn != HOLE:
                place = last[0].lcn * size + end % size
                self.volume.store.zero(place, size - end % size)

    def _take_record(self, first: int = 0) -> tuple[int, int]:
        """(number, sequence) of a record that is now marked in use."""
        number = self._records.find_free(first)
        if number is None:
            self._grow_table()
            number = self._records.find_free(first)
            assert number is not None  # the table grew by some
        self._records.mark(number, is_used=True)
        sequence = self._freed.pop(number, None)
        if sequence is None:
            raw = self.volume.read_raw_record(number)
            known = raw[:4] == layout.FILE_MAGIC
            sequence = int.from_bytes(raw[16:18], "little") if known else 1
        return number, sequence or 1

    def _free_record(self, number: int, sequence: int) -> None:
        self._known_sequences.pop(number, None)
        self._records.mark(number, is_used=False)
        self._freed[number] = sequence % 0xFFFF + 1

    def _grow_table(self) -> None:
        volume, data = self.volume, self._table.find(layout.DATA)
        assert data is not None  # the volume was opened by it
        first = volume.record_count
        more = max(_GROWTH_RECORDS, volume.record_count // 8)
        wanted = data.size + more * volume.record_bytes
        self._fit_runs(data, wanted)
        whole = count_clusters(data.runs) * volume.cluster_bytes
        data.size = data.initialized = whole // volume.record_bytes * volume.record_bytes
        volume.take_table(data.runs, data.size)
        self._records.grow()
        for number in range(first, volume.record_count):
            raw = put_fixups(build_free_record(number, 1, volume.record_bytes))
            volume.write_raw_record(number, raw)
        self.changed[layout.MFT] = self._table

    def _write_node(self, node: Node) -> None:
        node.head.links = len(node.all_of(layout.FILE_NAME))
        packing = self._pack(node, 0)
        self._write_records(node, packing)

    def _pack(self, node: Node, first_extension: int) -> Packing:
        """Lays a node out, and takes or gives its extension records."""
        self.clusters.give(node.list_runs)
        node.list_runs = []

        def make_list(size: int) -> Attribute:
            made = Attribute(layout.ATTRIBUTE_LIST, value=bytes(size))
            if size > record_room(self.volume.record_bytes) // 3:
                made.value = None
                self._fit_runs(made, size)
                made.size = made.initialized = size
                node.list_runs = made.runs
            return made

        packing = pack_node(node, self.volume.record_bytes, make_list)
        wanted = len(packing.records) - 1
        while len(node.extensions) > wanted:
            number = node.extensions.pop()
            self._free_record(number, self._sequence_of(number))
        while len(node.extensions) < wanted:
            number, sequence = self._take_record(first_extension)
            self._known_sequences[number] = sequence
            node.extensions.append(number)
        return packing

    def _sequence_of(self, number: int) -> int:
        if number not in self._known_sequences:
            raw = self.volume.read_record(number)
            self._known_sequences[number] = RecordHeader.parse(raw[: RecordHeader.SIZE]).sequence
        return self._known_sequences[number]

    def _write_records(self, node: Node, packing: Packing) -> None:
        volume = self.volume
        numbers = [node.number, *node.extensions]
        heads = [node.head] + [
            RecordHeader.blank(
                sequence=self._sequence_of(number),
                flags=layout.IN_USE,
                number=number & 0xFFFFFFFF,
                base=node.reference,
            )
            for number in node.extensions
        ]
        if packing.attribute_list is not None:
            references = [n | head.sequence << 48 for n, head in zip(numbers, heads, strict=True)]
            content = build_list(packing, references)
            if packing.attribute_list.value is None:
                self._write(packing.attribute_list, content)
            else:
                packing.attribute_list.value = content
        for number, head, parts in zip(numbers, heads, packing.records, strict=True):
            raw = build_record(head, parts, volume.record_bytes, volume.cluster_bytes)
            volume.write_raw_record(number, put_fixups(raw))

    def _write_freed(self) -> None:
        for number, sequence in self._freed.items():
            raw = build_free_record(number, sequence, self.volume.record_bytes)
            self.volume.write_raw_record(number, put_fixups(raw))
        self._freed.clear()

    def _write_table(self) -> None:
        """The table's own record, last: its bitmap says what all the others took."""
        table, volume = self._table, self.volume
        marks = table.find(layout.BITMAP_ATTRIBUTE)
        assert marks is not None  # seen when the writer was made
        self._store_marks(table, marks)
        packing = self._pack(table, _FIRST_TABLE_EXTENSION)
        first = next(p for p in packing.records[0] if p.attribute.type == layout.DATA)
        reach = count_clusters(first.runs) * volume.cluster_bytes // volume.record_bytes
        if any(number >= reach for number in table.extensions):
            raise RefusedError(messages.FILE_TABLE_FRAGMENTED.format(where=volume.where))
        self._store_marks(table, marks)
        table.head.links = len(table.all_of(layout.FILE_NAME))
        self._write_records(table, packing)
        self._write_freed()

    def _store_marks(self, table: Node, marks: Attribute) -> None:
        content = bytes(self._records.bitmap)
        if marks.value is not None and len(content) <= _ALWAYS_RESIDENT:
            marks.value = content
        else:
            self.set_mapped(table, marks, content)


def lies_uncompressed(attribute: Attribute) -> bool:
    """Whether content lies in clusters of its own, neither compressed nor with holes."""
    return attribute.value is None and not (attribute.is_compressed or attribute.has_holes)
