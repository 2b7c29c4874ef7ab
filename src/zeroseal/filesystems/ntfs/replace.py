"""Putting other bytes in the place of some, all over a volume: in names, contents and rights.

New bytes are as long as old ones, so that nothing moves but what is kept in order: folders,
``$SDH`` (by hash), ``$O`` of quotas (by security identifier). What is looked at beside the bytes of
the volume: values in records, whose sectors end in marks; the borders of fragments; compressed
content.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence

from zeroseal.blocks.pipeline import search_store
from zeroseal.blocks.search import Needle
from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.allocate import write_at
from zeroseal.filesystems.ntfs.inventory import NtfsPlaceNames
from zeroseal.filesystems.ntfs.layout import DescriptorHeader
from zeroseal.filesystems.ntfs.names import to_bytes
from zeroseal.filesystems.ntfs.names_edit import NameEditor
from zeroseal.filesystems.ntfs.node_writer import NodeWriter
from zeroseal.filesystems.ntfs.nodes import (
    Attribute,
    Node,
    base_of,
    may_hide,
    node_from_record,
    parse_pieces,
)
from zeroseal.filesystems.ntfs.runs import HOLE
from zeroseal.filesystems.ntfs.security import (
    BY_HASH_INDEX,
    BY_ID_INDEX,
    STREAM,
    hash_descriptor,
    iter_descriptors,
)
from zeroseal.filesystems.ntfs.streams import read_stream

Pairs = Sequence[tuple[bytes, bytes]]
_MOST_PLACES = 1 << 20
_PIECE, _STEP = 16 << 20, 1 << 16
_QUOTA = b"$Quota"


def swap(content: bytes, pairs: Pairs) -> bytes:
    """Content with each old part replaced by its new one."""
    for old, new in pairs:
        content = content.replace(old, new)
    return content


class ByteReplacer:
    """Replaces bytes on the volume of an editor, which must have been finished.

    Args:
        editor: of the volume.
        writer: its writer.
        rename: gives an entry of a folder, (folder, name), another name.
        pairs: (old, new) of the same length, at least seven bytes.
    """

    def __init__(
        self,
        editor: NameEditor,
        writer: NodeWriter,
        rename: Callable[[int, bytes, bytes], None],
        pairs: Pairs,
    ) -> None:
        self._editor, self._writer, self._rename_entry = editor, writer, rename
        self._pairs = pairs
        self._volume = editor.volume
        self._margin = max(len(old) for old, _new in pairs) - 1

    def run(self) -> int:
        """Replaces everything; returns how many files and folders changed."""
        changed = 0
        journal = self._editor.change_journal()
        for number in sorted(self._candidates()):
            if journal is not None and number == journal.number:
                continue  # it is emptied, not edited
            node = self._editor.get_node(number)
            changed += self._replace_in(node)
        for number in self._named():
            changed += self._rename(self._editor.get_node(number))
        self._replace_descriptors()
        self._replace_quotas()
        return changed

    # -- which nodes

    def _candidates(self) -> set[int]:
        """Nodes whose attributes, but for names and indexes, may hold old bytes."""
        needles = [Needle(0, old) for old, _new in self._pairs]
        hits = search_store(self._volume.store, needles, most_each=_MOST_PLACES)
        names = NtfsPlaceNames(self._volume)
        owners = {names.owner_of(hit.offset_bytes) for hit in hits}
        found = {owner for owner in owners if owner is not None}
        for number, record in self._volume.iter_records():
            if record is None or not record[22] & layout.IN_USE:
                continue
            if base_of(record):
                continue
            pieces = parse_pieces(self._volume, number, record)
            if not self._is_in(record) and not may_hide(pieces):
                continue
            node = node_from_record(self._volume, number, record)
            if any(self._may_hold(attribute) for attribute in _contents(node)):
                found.add(number)
        return found

    def _may_hold(self, attribute: Attribute) -> bool:
        """Whether an attribute holds old bytes in a way that the volume's bytes do not show."""
        if attribute.value is not None:
            return self._is_in(attribute.value)
        if attribute.is_encrypted or not attribute.runs:
            return False
        if attribute.is_compressed:
            return any(
                self._is_in(read_stream(self._volume, attribute, start, _PIECE + self._margin))
                for start in range(0, attribute.size_bytes, _PIECE)
            )
        stored = [run for run in attribute.runs if run.lcn != HOLE]
        return len(stored) > 1 and self._is_at_border(attribute)

    def _is_at_border(self, attribute: Attribute) -> bool:
        position = 0
        for run in attribute.runs[:-1]:
            position += run.clusters * self._volume.cluster_bytes
            start = max(0, position - self._margin)
            around = read_stream(self._volume, attribute, start, 2 * self._margin)
            if self._is_in(around):
                return True
        return False

    def _is_in(self, content: bytes) -> bool:
        return any(old in content for old, _new in self._pairs)

    def _named(self) -> list[int]:
        """Nodes with a name that holds old text."""
        found = []
        for number, record in self._volume.iter_records():
            if record is None or number < layout.FIRST_USER_RECORD:
                continue
            if not record[22] & layout.IN_USE or not self._is_in(record):
                continue
            found.append(base_of(record) or number)
        return list(dict.fromkeys(found))

    # -- what is replaced

    def _replace_in(self, node: Node) -> int:
        changed = 0
        for attribute in list(_contents(node)):
            if attribute.is_encrypted:
                continue
            if attribute.value is None and not attribute.is_compressed:
                changed |= self._replace_in_clusters(node, attribute)
                continue
            content = read_stream(self._volume, attribute)
            made = swap(content, self._pairs)
            if made == content:
                continue
            changed = 1
            if attribute.value is not None:
                attribute.value = made
                self._writer.changed[node.number] = node
            else:
                self._writer.set_value(node, attribute, made)
        return changed

    def _replace_in_clusters(self, node: Node, attribute: Attribute) -> int:
        """Replaces in clusters where they are, piece by piece: a file may be larger than memory."""
        changed = 0
        for begin, stop in _stretches(attribute, self._volume.cluster_bytes):
            for start in range(begin, stop, _PIECE):
                # what begins in this piece may end in the next one
                length = min(_PIECE + self._margin, stop - start)
                content = read_stream(self._volume, attribute, start, length)
                made = swap(content, self._pairs)
                for first, end in _differing(content, made):
                    write_at(self._volume, attribute, start + first, made[first:end])
                    self._writer.changed[node.number] = node
                    changed = 1
        return changed

    def _rename(self, node: Node) -> int:
        changed = 0
        for head, name in node.names():
            raw = to_bytes(name)
            made = swap(raw, self._pairs)
            if made != raw and head.space != layout.DOS:
                self._rename_entry(head.parent & layout.REFERENCE_MASK, raw, made)
                changed = 1
        return changed

    def _replace_descriptors(self) -> None:
        """Descriptors in ``$Secure``, both copies, with their hashes and both indexes."""
        node = self._editor.get_node(layout.SECURE)
        stream = node.find(layout.DATA, STREAM)
        if stream is None:
            return
        by_hash = self._editor.open_index(layout.SECURE, BY_HASH_INDEX)
        by_id = self._editor.open_index(layout.SECURE, BY_ID_INDEX)
        for stored in list(iter_descriptors(read_stream(self._volume, stream))):
            made = swap(stored.content, self._pairs)
            if made == stored.content:
                continue
            old = stored.header
            header = DescriptorHeader.blank(
                hash=hash_descriptor(made), id=old.id, offset=old.offset, length=old.length
            )
            raw = header.build()
            for place in (old.offset, old.offset + layout.SDS_BLOCK_BYTES):
                self._writer.write_into(node, stream, place, raw + made)
            number = old.id.to_bytes(4, "little")
            listed = by_id.entries.get(number)
            if listed is not None:
                by_id.put(listed._replace(data=raw + listed.data[len(raw) :]))
            key = old.hash.to_bytes(4, "little") + number
            entry = by_hash.entries.get(key)
            if entry is not None:
                by_hash.drop(key)
                new_key = header.hash.to_bytes(4, "little") + number
                by_hash.put(entry._replace(key=new_key, data=raw + entry.data[len(raw) :]))

    def _replace_quotas(self) -> None:
        """Owners of quotas: by their identifier, and with it."""
        found = self._editor.find_entry(layout.EXTEND, _QUOTA)
        if found is None:
            return
        for name in ("$O", "$Q"):
            view = self._editor.open_index(found.number, name)
            for entry in list(view.iter_all()):
                key, data = swap(entry.key, self._pairs), swap(entry.data, self._pairs)
                if (key, data) != (entry.key, entry.data):
                    view.drop(entry.key)
                    view.put(entry._replace(key=key, data=data))


def _contents(node: Node) -> Iterable[Attribute]:
    """The attributes of a node that hold what others made: contents, rights, links."""
    kinds = (layout.DATA, layout.SECURITY_DESCRIPTOR, layout.EA, layout.REPARSE_POINT)
    skipped = node.number == layout.SECURE or (
        node.number < layout.FIRST_USER_RECORD and node.number != layout.VOLUME
    )
    for attribute in node.attributes:
        if attribute.type in kinds and not (skipped and attribute.type == layout.DATA):
            yield attribute


def _stretches(attribute: Attribute, cluster_bytes: int) -> Iterator[tuple[int, int]]:
    """(start, end) of content in clusters that no hole interrupts."""
    position, begin = 0, 0
    for run in attribute.runs:
        end = position + run.clusters * cluster_bytes
        if run.lcn == HOLE:
            if begin < position:
                yield begin, min(position, attribute.initialized)
            begin = end
        position = end
    if begin < attribute.initialized:
        yield begin, attribute.initialized


def _differing(old: bytes, new: bytes) -> Iterable[tuple[int, int]]:
    """(start, end) of steps in which contents of one length differ."""
    for start in range(0, len(old), _STEP):
        end = min(len(old), start + _STEP)
        if old[start:end] != new[start:end]:
            yield start, end
