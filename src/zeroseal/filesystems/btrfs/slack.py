"""Slack: bytes that belong to a structure in use, and that nobody reads any more.

In nodes between items and their data, in superblocks behind what they hold and in their notes of
earlier trees; in extents of data what no file shows. A sector of data that changes has another
checksum, so its leaf changes as well, and with it that leaf's own.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from zeroseal.blocks.patches import Patch, differing_patches, has_content, iter_near
from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.compression import pack, unpack
from zeroseal.filesystems.btrfs.layout import Backup, Header
from zeroseal.filesystems.btrfs.ledger import superblock_places
from zeroseal.filesystems.btrfs.node_build import ITEM_BYTES, POINTER_BYTES, with_checksum
from zeroseal.filesystems.btrfs.usage import DataUse, Usage
from zeroseal.filesystems.btrfs.volume import BtrfsVolume, Node
from zeroseal.messages import btrfs as messages

_LABEL = slice(299, 555)
_PIECE_BYTES = 1 << 20
Gap = tuple[int, int, int]  # on the volume, length, logical address


def iter_slack(volume: BtrfsVolume, usage: Usage) -> Iterator[Patch]:
    """Yields the patches that clean a volume's slack."""
    sums: dict[int, bytes] = {}
    yield from iter_data_slack(volume, usage.data.values(), sums)
    yield from iter_node_slack(volume, usage, sums)
    yield from _iter_superblock_slack(volume)


# -- data


def iter_data_slack(
    volume: BtrfsVolume, uses: Iterable[DataUse], sums: dict[int, bytes]
) -> Iterator[Patch]:
    """Yields what of extents no file shows.

    Notes in ``sums`` the checksums that sectors have then, by their addresses.
    """
    plain: list[Gap] = []
    for use in sorted(uses, key=lambda one: one.address):
        if use.packing:
            yield from _packed_slack(volume, use, sums)
            continue
        unused = use.unused()
        for place in volume.places_of(use.address, use.length):
            plain += [(place + start, end - start, use.address + start) for start, end in unused]
    yield from _plain_slack(volume, sorted(plain), sums)


def _plain_slack(volume: BtrfsVolume, gaps: list[Gap], sums: dict[int, bytes]) -> Iterator[Patch]:
    store = volume.store
    for group in iter_near(gaps):
        first, end = group[0][0], max(start + length for start, length, _address in group)
        whole = store.read(first, end - first) if end - first <= 2 * _PIECE_BYTES else None
        for start, length, address in group:
            if whole is not None:
                old = whole[start - first : start - first + length]
                is_clean = old.count(0) == length
            else:
                is_clean = not any(
                    not one.is_zero and has_content(store, one)
                    for one in store.iter_extents(start, length)
                )
            if is_clean:
                continue
            yield Patch(start, length, "slack of a file", stale_bytes=length)
            _note_sums(volume, start, length, address, sums)


def _note_sums(
    volume: BtrfsVolume, start: int, length: int, address: int, sums: dict[int, bytes]
) -> None:
    """Notes the checksums of sectors that have zeros in some range."""
    sector = volume.superblock.sector_bytes
    zeros = volume.checksum(bytes(sector))
    first = address // sector * sector
    for at in range(first, address + length, sector):
        gap_from, gap_to = max(at, address) - at, min(at + sector, address + length) - at
        if gap_to - gap_from == sector:
            sums[at] = zeros
            continue
        raw = bytearray(volume.store.read(start + at - address, sector))
        raw[gap_from:gap_to] = bytes(gap_to - gap_from)
        sums[at] = volume.checksum(bytes(raw))


def _packed_slack(volume: BtrfsVolume, use: DataUse, sums: dict[int, bytes]) -> Iterator[Patch]:
    """An extent that is packed is packed anew where a part of it is no longer shown."""
    sector = volume.superblock.sector_bytes
    unused = use.unused()
    if not len(unused):
        return
    places = volume.places_of(use.address, use.length)
    stored = volume.store.read(places[0], use.length)
    try:
        skip = min(start for start, _end in unused)
        seen = unpack(use.packing, stored, use.plain_bytes, sector, skip)
        if not any(any(seen[start:end]) for start, end in unused):
            return
        plain = bytearray(unpack(use.packing, stored, use.plain_bytes, sector))
    except ValueError as error:
        raise volume.damaged(str(error)) from error
    for start, end in unused:
        plain[start:end] = bytes(end - start)
    made = pack(use.packing, bytes(plain), use.length, sector)
    if made is None:
        raise volume.unsupported(messages.PACKED_EXTENT_CANNOT_SHRINK)
    for place in places:
        yield from differing_patches(place, volume.store.read(place, use.length), made, "slack")
    for at in range(0, use.length, sector):
        sums[use.address + at] = volume.checksum(made[at : at + sector])


# -- nodes


def iter_node_slack(volume: BtrfsVolume, usage: Usage, sums: dict[int, bytes]) -> Iterator[Patch]:
    """Yields what in nodes is not in use, and the checksums of data that are others then."""
    size = volume.superblock.node_bytes
    places = sorted(
        (place, size, address)
        for address in usage.nodes
        for place in volume.places_of(address, size)
    )
    for group in iter_near(places):
        first, end = group[0][0], group[-1][0] + size
        whole = volume.store.read(first, end - first)
        for place, _size, address in group:
            raw = whole[place - first : place - first + size]
            node = volume.read_node(address)
            clean = clean_node(volume, raw, node)
            if sums and usage.nodes[address] == layout.CHECKSUM_TREE and not node.level:
                clean = _with_sums(volume, clean, node, sums)
            if clean != raw:
                yield from differing_patches(place, raw, clean, "slack of a node")


def clean_node(volume: BtrfsVolume, raw: bytes, node: Node) -> bytes:
    """A node whose unused room is zeros."""
    count = len(node.keys)
    start = Header.SIZE + count * (POINTER_BYTES if node.level else ITEM_BYTES)
    end = len(raw)
    if not node.level and count:
        end -= sum(map(len, node.data))
    gap = raw[start:end]
    if gap.count(0) == len(gap):
        return raw
    made = bytearray(raw)
    made[start:end] = bytes(end - start)
    return with_checksum(volume, made)


def _with_sums(volume: BtrfsVolume, raw: bytes, node: Node, sums: dict[int, bytes]) -> bytes:
    """A leaf of the tree of checksums, with others for some sectors."""
    sector, size = volume.superblock.sector_bytes, volume.checksum_bytes
    made, end = bytearray(raw), len(raw)
    for key, data in zip(node.keys, node.data, strict=True):
        end -= len(data)
        if key.kind != layout.EXTENT_CHECKSUM:
            continue
        for index in range(len(data) // size):
            new = sums.get(key.offset + index * sector)
            if new is not None:
                made[end + index * size : end + (index + 1) * size] = new
    return raw if made == raw else with_checksum(volume, made)


# -- superblocks


def _iter_superblock_slack(volume: BtrfsVolume) -> Iterator[Patch]:
    """All copies hold the same, and neither earlier trees nor earlier labels."""
    clean = _clean_superblock(volume)
    for place in superblock_places(volume):
        raw = volume.store.read(place, layout.SUPERBLOCK_BYTES)
        clean.offset = place
        made = with_checksum(volume, clean.build())
        yield from differing_patches(place, raw, made, "slack of a superblock")


def _clean_superblock(volume: BtrfsVolume) -> layout.Superblock:
    top = volume.superblock
    made = bytearray(top.build())
    label = bytes(made[_LABEL]).split(b"\0")[0]
    made[_LABEL] = label.ljust(_LABEL.stop - _LABEL.start, b"\0")
    chunks_end = layout.SYSTEM_CHUNKS_AT + layout.SYSTEM_CHUNKS_BYTES
    used = layout.SYSTEM_CHUNKS_AT + top.system_chunks_bytes
    made[used:chunks_end] = bytes(chunks_end - used)
    for number in range(layout.BACKUPS):
        at = layout.BACKUPS_AT + number * Backup.SIZE
        backup = Backup.parse(bytes(made[at : at + Backup.SIZE]))
        if (backup.root, backup.root_generation) != (top.root, top.generation):
            made[at : at + Backup.SIZE] = bytes(Backup.SIZE)
    return layout.Superblock.parse(bytes(made))
