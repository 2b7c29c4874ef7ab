"""What lies behind the end of things: of content in its clusters, of records, of index blocks.

All of it is found from the table alone, in one pass; only what may be stale is read.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

from zeroseal.blocks.bitmaps import bit_is_set
from zeroseal.blocks.patches import ByteRange, Patch, differing_patches, iter_near
from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.index import FOLDER_INDEX, Index
from zeroseal.filesystems.ntfs.layout import IndexHeader, MappedHeader
from zeroseal.filesystems.ntfs.lznt1 import stored_bytes
from zeroseal.filesystems.ntfs.nodes import Attribute, Node, load_node, node_from_record
from zeroseal.filesystems.ntfs.pack import build_free_record
from zeroseal.filesystems.ntfs.runs import HOLE, Run, cut_runs, iter_stored
from zeroseal.filesystems.ntfs.streams import iter_places, read_stream
from zeroseal.filesystems.ntfs.volume import NtfsVolume, put_fixups, take_fixups

_END_BYTES = 8
_HEAD = struct.Struct("<IIB3xH2xIH")  # of an attribute; the last two of a resident one only
_NOT_PLAIN = (layout.ATTRIBUTE_LIST, layout.INDEX_ALLOCATION, layout.END)
_END_WORD = bytes.fromhex("82794711")  # what Windows leaves behind the end mark
_SHADOW_HEADER = 0x1E00  # in the sectors of $Boot
_SHADOW_MAGIC = bytes.fromhex("6b870838 76c1 484e b7ae 04046e6cc752".replace(" ", ""))


def iter_slack(volume: NtfsVolume) -> Iterator[Patch]:
    """Yields all slack that holds anything.

    Raises:
        DamagedError: a structure contradicts itself.
    """
    found = _SlackPass(volume)
    yield from found.iter_stale_tails()
    yield from found.blocks
    yield from found.records
    yield from mirror_patches(volume, is_in_use=True)


def record_patches(
    volume: NtfsVolume, number: int, raw: bytes, clean: bytes, what: str
) -> Iterator[Patch]:
    """Patches for a record of the table; both contents with their update sequence in place."""
    step = min(volume.record_bytes, volume.cluster_bytes)
    for start in range(0, volume.record_bytes, step):
        place = volume.table_place(number * volume.record_bytes + start)
        yield from differing_patches(
            place, raw[start : start + step], clean[start : start + step], what
        )


class _SlackPass:
    """Goes over the table once.

    Attributes:
        tails: (offset, length) on the volume of what lies behind content, sorted; not yet read.
    """

    def __init__(self, volume: NtfsVolume) -> None:
        self.volume = volume
        self.records: list[Patch] = []
        self.blocks: list[Patch] = []
        self.tails: list[ByteRange] = []
        for number, record in volume.iter_records():
            if record is None or not record[22] & layout.IN_USE:
                continue
            self._look_at(number, record)
        self.tails.sort()

    def iter_stale_tails(self) -> Iterator[Patch]:
        """Yields those tails that hold something."""
        store = self.volume.store
        for group in iter_near(self.tails):
            start = group[0][0]
            end = max(offset + length for offset, length in group)
            extents = list(store.iter_extents(start, end - start))
            if all(extent.is_zero for extent in extents):
                continue
            raw = store.read(start, end - start)
            for offset, length in group:
                if raw.count(0, offset - start, offset - start + length) != length:
                    yield Patch(offset, length, "behind content", stale_bytes=length)

    # -- inside

    def _look_at(self, number: int, record: bytes) -> None:
        tails = plain_tails(self.volume, record) if number != layout.LOG_FILE else None
        if tails is not None:
            self.tails += tails
            return
        clean = clean_record(record)
        if clean != record:
            raw = self.volume.read_raw_record(number)
            self.records += record_patches(
                self.volume, number, raw, put_fixups(clean), "in the file table"
            )
        if int.from_bytes(record[32:40], "little"):
            return  # an extension: its base knows it
        node = node_from_record(self.volume, number, record)
        if node.list_runs:
            self._add_list_tail(node)
        for attribute in node.attributes:
            if attribute.value is None:
                if number != layout.LOG_FILE:
                    self.tails += _iter_tails(self.volume, attribute)
            elif attribute.type == layout.INDEX_ROOT:
                self.blocks += _iter_blocks(self.volume, node, attribute.name)

    def _add_list_tail(self, node: Node) -> None:
        """An attribute list in clusters is as long as its lines."""
        record = self.volume.read_record(node.number)
        position = int.from_bytes(record[20:22], "little")
        while int.from_bytes(record[position : position + 4], "little") != layout.ATTRIBUTE_LIST:
            position += int.from_bytes(record[position + 4 : position + 8], "little")
        size = int.from_bytes(record[position + 48 : position + 56], "little")
        runs = node.list_runs
        made = Attribute(layout.ATTRIBUTE_LIST, value=None, runs=runs, size=size, initialized=size)
        self.tails += _iter_tails(self.volume, made)


def plain_tails(volume: NtfsVolume, record: bytes) -> list[ByteRange] | None:
    """What lies behind the content of a file as nearly all are, whose record holds nothing stale.

    None: the record must be looked at in full.

    Raises:
        DamagedError: its runs lead outside.
    """
    used = int.from_bytes(record[24:28], "little")
    position = int.from_bytes(record[20:22], "little")
    if record.count(0, used) != len(record) - used:
        return None
    tails: list[ByteRange] = []
    while position + _HEAD.size <= used:
        kind, length, is_mapped, flags, size, start = _HEAD.unpack_from(record, position)
        end = position + length
        if kind in _NOT_PLAIN or length < layout.RESIDENT_BYTES or end > used:
            return None
        if is_mapped:
            if flags & layout.COMPRESSION_MASK or length < MappedHeader.SIZE:
                return None
            lowest, _highest, place, _unit, allocated, _size, known = layout.MAPPED.unpack_from(
                record, position + 16
            )
            if lowest:
                return None
            if known < allocated:
                runs = volume.parse_runs(record[position + place : end], "the runs of a file")
                tails += _behind(runs, known, volume.cluster_bytes)
        elif start + size > length or record.count(0, position + start + size, end) != (
            length - start - size
        ):
            return None
        position = end
    has_end = record[position : position + 4] == b"\xff\xff\xff\xff"
    is_clean = record[position + 4 : position + _END_BYTES] in (bytes(4), _END_WORD)
    return tails if has_end and is_clean else None


def clean_record(record: bytes) -> bytes:
    """A record without what lies behind its attributes, and behind the value of each."""
    end = int.from_bytes(record[24:28], "little")
    position = int.from_bytes(record[20:22], "little")
    clean = record
    if record.count(0, end) != len(record) - end:
        clean = record[:end].ljust(len(record), b"\0")
    holes: list[tuple[int, int]] = []
    while position + 16 <= end:
        kind = int.from_bytes(record[position : position + 4], "little")
        if kind == layout.END:
            holes.append((position + 4, position + _END_BYTES))
            break
        length = int.from_bytes(record[position + 4 : position + 8], "little")
        if length < layout.RESIDENT_BYTES or position + length > end:
            return clean  # not sound; the checker says so
        if not record[position + 8]:
            size = int.from_bytes(record[position + 16 : position + 20], "little")
            start = int.from_bytes(record[position + 20 : position + 22], "little")
            if start + size < length:
                holes.append((position + start + size, position + length))
        position += length
    patched = bytearray(clean)
    for start, stop in holes:
        if stop - start == 4 and record[start:stop] == _END_WORD:
            continue
        if record.count(0, start, stop) != stop - start:
            patched[start:stop] = bytes(stop - start)
    return bytes(patched)


def _iter_tails(volume: NtfsVolume, attribute: Attribute) -> Iterator[ByteRange]:
    """Yields what lies behind the content of an attribute in its clusters."""
    size = volume.cluster_bytes
    if attribute.is_compressed:
        yield from _iter_compressed_tails(volume, attribute)
        return
    yield from _behind(attribute.runs, attribute.initialized, size)


def _behind(runs: list[Run], known: int, cluster_bytes: int) -> Iterator[ByteRange]:
    """Yields what runs hold behind the first ``known`` bytes."""
    position = 0
    for run in runs:
        end = position + run.clusters * cluster_bytes
        start = max(position, known)
        if start < end and run.lcn != HOLE:
            yield run.lcn * cluster_bytes + start - position, end - start
        position = end


def _iter_compressed_tails(volume: NtfsVolume, attribute: Attribute) -> Iterator[ByteRange]:
    """Yields the ends of units that are compressed, and what lies behind the content."""
    clusters, size = 1 << attribute.unit, volume.cluster_bytes
    total = sum(run.clusters for run in attribute.runs)
    for vcn in range(0, total, clusters):
        stored = list(iter_stored(cut_runs(attribute.runs, vcn, vcn + clusters)))
        if not stored:
            continue
        count = sum(run.clusters for run in stored)
        if count == clusters:  # not compressed
            used = min(count * size, max(0, attribute.initialized - vcn * size))
        elif vcn * size >= attribute.initialized:
            used = 0
        else:
            raw = b"".join(volume.read_clusters(run.lcn, run.clusters) for run in stored)
            used = stored_bytes(raw, min(clusters * size, attribute.initialized - vcn * size))
        for run in stored:
            if used < run.clusters * size:
                yield run.lcn * size + used, run.clusters * size - used
            used = max(0, used - run.clusters * size)


def _iter_blocks(volume: NtfsVolume, node: Node, name: str) -> Iterator[Patch]:
    """Yields what the blocks of an index hold that they should not."""
    index = Index(volume, node, name)
    allocation = index.allocation
    if allocation is None or index.bitmap is None or allocation.value is not None:
        return
    marks = read_stream(volume, index.bitmap)
    whole = read_stream(volume, allocation)
    for number in range(len(whole) // index.block_bytes):
        offset = number * index.block_bytes
        raw = whole[offset : offset + index.block_bytes]
        if number // 8 < len(marks) and bit_is_set(marks, number):
            clean = clean_block(raw, name == FOLDER_INDEX)
        else:
            clean = bytes(len(raw))
        if clean != raw:
            yield from _content_patches(volume, allocation, offset, raw, clean)


def _content_patches(
    volume: NtfsVolume, attribute: Attribute, offset: int, raw: bytes, clean: bytes
) -> Iterator[Patch]:
    """Patches for a part of an attribute's content, in the clusters where it lies."""
    done = 0
    for place, length in iter_places(volume, attribute, offset):
        piece = slice(done, done + length)
        size = len(raw[piece])
        yield from differing_patches(place, raw[piece], clean[piece], "in an index")
        done += size
        if done == len(raw):
            return


def clean_block(raw: bytes, is_folder: bool) -> bytes:
    """A block of an index without what lies behind its entries, and behind the name of each."""
    plain = take_fixups(raw)
    if plain is None or plain[:4] != layout.INDEX_MAGIC:
        return raw  # not sound; the checker says so
    start = layout.INDEX_BLOCK_HEAD_BYTES
    head = IndexHeader.parse(plain[start : start + IndexHeader.SIZE])
    end = start + head.used_bytes
    patched = bytearray(plain)
    if end <= len(plain):
        patched[end:] = bytes(len(plain) - end)
    position = start + head.entries_offset
    while position + layout.INDEX_ENTRY_BYTES <= end:
        _place, length, key_length, flags = layout.INDEX_ENTRY.unpack_from(plain, position)
        if length < layout.INDEX_ENTRY_BYTES or position + length > end:
            break
        child = 8 if flags & layout.ENTRY_HAS_CHILD else 0
        last = bool(flags & layout.ENTRY_IS_LAST)
        if is_folder:
            used = position + layout.INDEX_ENTRY_BYTES + (0 if last else key_length)
            stop = position + length - child
            if used < stop:
                patched[used:stop] = bytes(stop - used)
        if last:
            break
        position += length
    return raw if patched == plain else put_fixups(patched)


def mirror_patches(volume: NtfsVolume, is_in_use: bool) -> Iterator[Patch]:
    """What the copy of the first records holds that the table, without its slack, does not.

    Args:
        volume: an opened volume.
        is_in_use: whether the copies of records in use are meant, or those of free ones.
    """
    mirror = load_node(volume, layout.MIRROR).find(layout.DATA)
    if mirror is None or mirror.value is not None:
        return
    size = volume.record_bytes
    copies = read_stream(volume, mirror)
    for number in range(len(copies) // size):
        raw = volume.read_raw_record(number)
        record = take_fixups(raw) if raw[:4] == layout.FILE_MAGIC else None
        if is_in_use != bool(record and record[22] & layout.IN_USE):
            continue
        clean = raw
        if record and is_in_use:
            cleaned = clean_record(record)
            clean = raw if cleaned == record else put_fixups(cleaned)
        elif not is_in_use:
            clean = clean_free_record(volume, number, raw)
        offset = number * size
        copy = copies[offset : offset + size]
        if copy != clean:
            yield from _content_patches(volume, mirror, offset, copy, clean)


def clean_free_record(volume: NtfsVolume, number: int, raw: bytes) -> bytes:
    """What a free record is to hold: what a format leaves, and its sequence number.

    By that number old references are known as such.
    """
    is_file = raw[:4] == layout.FILE_MAGIC
    if raw.count(0) == len(raw):
        return raw
    sequence = int.from_bytes(raw[16:18], "little") if is_file else 1
    clean = put_fixups(build_free_record(number, sequence, volume.record_bytes))
    return raw if _without_fixups(raw) == _without_fixups(clean) else clean


def _without_fixups(record: bytes) -> bytes:
    """A free record but for the number of its update sequence, which may be any."""
    place = record[4] | record[5] << 8
    mark = record[place : place + 2]
    if not mark.strip(b"\0") or place > 510:
        return record
    return record[:8].ljust(16, b"\0") + record[16:].replace(mark, b"\0\0")


def shadow_header(volume: NtfsVolume) -> ByteRange | None:
    """The header of shadow copies in the boot sectors, where it is."""
    raw = volume.store.read(_SHADOW_HEADER, layout.FIXUP_STRIDE)
    return (_SHADOW_HEADER, layout.FIXUP_STRIDE) if raw[:16] == _SHADOW_MAGIC else None
