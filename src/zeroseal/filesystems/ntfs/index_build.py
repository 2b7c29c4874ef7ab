"""Building an index anew from its entries in order: leaves first, then each level above.

When a block is full, the next entry goes to the level above and stands between that block and the
next. What fits into the record needs no blocks.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from zeroseal.filesystems.ntfs import layout
from zeroseal.filesystems.ntfs.index import IndexEntry
from zeroseal.filesystems.ntfs.layout import IndexBlock, IndexHeader, IndexRoot
from zeroseal.filesystems.ntfs.volume import put_fixups

_FIXUPS_AT = layout.INDEX_BLOCK_HEAD_BYTES + IndexHeader.SIZE
_FILLED = 7, 8  # so much of a block is filled, so that names may be added without a split
_SDH_TAIL = b"I\0I\0"  # what Windows leaves behind the data of that index


@dataclass
class BuiltIndex:
    """An index as it lies in its attributes; without blocks it lies in its root alone."""

    root: bytes
    blocks: list[bytes] = field(default_factory=list)

    @property
    def bitmap(self) -> bytes:
        """Which blocks are in use: all."""
        count = len(self.blocks)
        return ((1 << count) - 1).to_bytes(-(-count // 64) * 8, "little")


@dataclass
class _Block:
    entries: list[bytes] = field(default_factory=list)
    children: list[int] = field(default_factory=list)  # one more than entries; none in leaves


class IndexBuilder:
    """Builds one index.

    Args:
        root: the head of its root.
        unit_bytes: what the number of a block counts.
        is_view: whether entries have data instead of a reference.
        tail: what stands behind the data of an entry where there is room.
    """

    def __init__(self, root: IndexRoot, unit_bytes: int, is_view: bool, tail: bytes = b"") -> None:
        self._root, self._is_view, self._tail = root, is_view, tail
        self._block_bytes = root.block_bytes
        self._step = root.block_bytes // unit_bytes
        fixups = root.block_bytes // layout.FIXUP_STRIDE + 1
        self._start = (_FIXUPS_AT + 2 * fixups + 7) & ~7

    def build(self, entries: Iterable[IndexEntry], root_room: int) -> BuiltIndex:
        """Builds it; ``root_room`` is how long the root's value may be at most."""
        packed = [self._pack(entry) for entry in entries]
        flat = sum(map(len, packed)) + layout.INDEX_ENTRY_BYTES
        if IndexRoot.SIZE + IndexHeader.SIZE + flat <= root_room:
            return BuiltIndex(self._build_root(packed, None))
        levels: list[list[_Block]] = []
        children: list[int] = []
        first = 0
        while True:
            blocks, between = self._fill(packed, children)
            levels.append(blocks)
            children = [(first + number) * self._step for number in range(len(blocks))]
            first += len(blocks)
            if len(blocks) == 1:
                break
            packed = between
        built: list[bytes] = []
        for blocks in levels:
            built += [self._build_block(len(built) + n, block) for n, block in enumerate(blocks)]
        return BuiltIndex(self._build_root([], children[0]), built)

    # -- inside

    def _pack(self, entry: IndexEntry) -> bytes:
        """An entry of a leaf; ``_with_child`` makes one of an inner node of it."""
        body = entry.key + entry.data
        length = (layout.INDEX_ENTRY_BYTES + len(body) + 7) & ~7
        raw = bytearray(length)
        place = entry.reference
        if self._is_view:
            place = layout.INDEX_ENTRY_BYTES + len(entry.key) | len(entry.data) << 16
        layout.INDEX_ENTRY.pack_into(raw, 0, place, length, len(entry.key), 0)
        raw[16 : 16 + len(body)] = body
        if self._tail and length - 16 - len(body) >= len(self._tail):
            raw[-len(self._tail) :] = self._tail
        return bytes(raw)

    def _fill(self, entries: list[bytes], children: list[int]) -> tuple[list[_Block], list[bytes]]:
        """Blocks of one level, and the entries between them."""
        extra = 8 if children else 0
        end_bytes = layout.INDEX_ENTRY_BYTES + extra
        room = self._block_bytes - self._start - end_bytes
        room = room * _FILLED[0] // _FILLED[1]
        blocks, between = [_Block()], []
        used = 0
        for number, entry in enumerate(entries):
            block, size = blocks[-1], len(entry) + extra
            if children:
                block.children.append(children[number])
            if block.entries and used + size > room:
                between.append(entry)
                blocks.append(_Block())
                used = 0
            else:
                block.entries.append(entry)
                used += size
        if children:
            blocks[-1].children.append(children[-1])
        if len(blocks) > 1 and not blocks[-1].entries:
            _move_one(blocks[-2], blocks[-1], between)
        return blocks, between

    def _build_block(self, number: int, block: _Block) -> bytes:
        body = _build_entries(block.entries, block.children)
        start = layout.INDEX_BLOCK_HEAD_BYTES
        header = IndexHeader.blank(
            entries_offset=self._start - start,
            used_bytes=self._start - start + len(body),
            allocated_bytes=self._block_bytes - start,
            flags=layout.NODE_HAS_CHILDREN if block.children else 0,
        )
        head = IndexBlock.blank(
            magic=layout.INDEX_MAGIC,
            fixup_offset=_FIXUPS_AT,
            fixup_count=self._block_bytes // layout.FIXUP_STRIDE + 1,
            vcn=number * self._step,
        )
        raw = (head.build() + header.build()).ljust(self._start, b"\0") + body
        return put_fixups(raw.ljust(self._block_bytes, b"\0"))

    def _build_root(self, entries: list[bytes], child: int | None) -> bytes:
        body = _build_entries(entries, [] if child is None else [child])
        size = IndexHeader.SIZE + len(body)
        header = IndexHeader.blank(
            entries_offset=IndexHeader.SIZE,
            used_bytes=size,
            allocated_bytes=size,
            flags=0 if child is None else layout.NODE_HAS_CHILDREN,
        )
        return self._root.build() + header.build() + body


def build_empty_root(block_bytes: int, cluster_bytes: int) -> bytes:
    """The root of the index of a new folder."""
    unit = layout.FIXUP_STRIDE if cluster_bytes > block_bytes else cluster_bytes
    root = IndexRoot.blank(
        type=layout.FILE_NAME,
        collation=layout.BY_NAME,
        block_bytes=block_bytes,
        block_clusters=block_bytes // unit,
    )
    return IndexBuilder(root, unit, is_view=False).build([], block_bytes).root


def _move_one(block: _Block, last: _Block, between: list[bytes]) -> None:
    """Gives a last block that is empty the entry before it."""
    last.entries.append(between.pop())
    between.append(block.entries.pop())
    if last.children:
        last.children.insert(0, block.children.pop())


def _build_entries(entries: list[bytes], children: list[int]) -> bytes:
    if not children:
        end = layout.INDEX_ENTRY.pack(0, layout.INDEX_ENTRY_BYTES, 0, layout.ENTRY_IS_LAST)
        return b"".join(entries) + end
    pieces = []
    for entry, child in zip(entries, children[:-1], strict=True):
        reference, length, key_length, flags = layout.INDEX_ENTRY.unpack_from(entry)
        flags |= layout.ENTRY_HAS_CHILD
        head = layout.INDEX_ENTRY.pack(reference, length + 8, key_length, flags)
        pieces.append(head + entry[16:] + child.to_bytes(8, "little"))
    flags = layout.ENTRY_IS_LAST | layout.ENTRY_HAS_CHILD
    end = layout.INDEX_ENTRY.pack(0, layout.INDEX_ENTRY_BYTES + 8, 0, flags)
    return b"".join(pieces) + end + children[-1].to_bytes(8, "little")


def tail_of(name: str) -> bytes:
    """What stands behind the data of the entries of an index."""
    return _SDH_TAIL if name == "$SDH" else b""
