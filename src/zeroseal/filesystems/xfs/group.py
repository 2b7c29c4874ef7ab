"""One allocation group while it is changed: what is free, whose blocks are, its inodes.

All of it is kept as plain lists and numbers. ``write`` builds the group's trees anew from them, as
a repair does: the blocks of the old trees are taken back first, so that a full group is no
obstacle.
"""

from __future__ import annotations

from bisect import bisect_right, insort
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from zeroseal.blocks.ranges import RangeSet
from zeroseal.errors import DamagedError, NoSpaceError
from zeroseal.filesystems.xfs import layout, trees
from zeroseal.filesystems.xfs.layout import Agf, Agi
from zeroseal.filesystems.xfs.slots import Chunk, chunks_of
from zeroseal.filesystems.xfs.trees import Row, TreeKind
from zeroseal.filesystems.xfs.volume import XfsVolume, with_checksum
from zeroseal.messages import xfs as messages

_ROUNDS = 32


@dataclass(frozen=True)
class Totals:
    """What a group contributes to the superblock's counters."""

    inodes: int
    free_inodes: int
    free_blocks: int


class Group:
    """A group's state.

    Attributes:
        free: free blocks, by number in the group; those of trees and of the list left out.
        chunks: by the number of their first inode in the group.
        owners: reverse mapping, {owner: rows}; None on volumes without. Without the group's own
            trees, which are known when they are written.
        shared: (first block, blocks, count) of shared extents, and ``staged_copies`` of extents set
            aside for copies on write; empty on volumes without.

    Raises:
        DamagedError: its headers or trees contradict themselves.
    """

    def __init__(
        self, volume: XfsVolume, number: int, headers: tuple[Agf, Agi] | None = None
    ) -> None:
        self.volume, self.number = volume, number
        self.is_changed = False
        self._taken: list[int] = []
        self.chunks: dict[int, Chunk] = {}
        self._firsts: list[int] = []
        self._first_open = 0  # before it, in that order, no inode is free
        self.owners: dict[int, list[Row]] | None = None
        self.shared: list[Row] = []
        self.staged_copies: list[Row] = []
        if headers is not None:
            self._begin_blank(*headers)
            return
        self.agf, self.agi = volume.read_agf(number), volume.read_agi(number)
        if self.agi.unlinked.strip(b"\xff"):
            raise DamagedError(messages.UNLINKED_FILES_LEFT.format(where=volume.where))
        self._taken = volume.read_list(number, self.agf)
        rows = self._read(trees.BNO, self.agf.bno_root, self.agf.bno_levels)
        self._read(trees.CNT, self.agf.cnt_root, self.agf.cnt_levels)
        self.free = RangeSet((start, start + count) for start, count in rows)
        self.chunks = self._read_chunks()
        self._firsts = sorted(self.chunks)
        self.owners = self._read_owners()
        if volume.has_feature(layout.RO_REFLINK):
            for row in self._read(trees.REFCOUNT, self.agf.refcount_root, self.agf.refcount_levels):
                (self.staged_copies if row[0] & layout.REFCOUNT_COW else self.shared).append(row)
        self.before = self.totals()

    @classmethod
    def blank(cls, volume: XfsVolume, number: int) -> Group:
        """A new group, which has nothing but its headers; see ``write``."""
        blocks = volume.blocks_in(number)
        uuid = volume.uuid if volume.has_crc else bytes(16)
        agf = Agf.blank(magic=layout.AGF_MAGIC, version=1, number=number, blocks=blocks, uuid=uuid)
        agi = Agi.blank(
            magic=layout.AGI_MAGIC,
            version=1,
            number=number,
            blocks=blocks,
            newest=layout.NULL_AGINO,
            unlinked=b"\xff" * (4 * layout.UNLINKED_BUCKETS),
            uuid=uuid,
        )
        return cls(volume, number, (agf, agi))

    def _begin_blank(self, agf: Agf, agi: Agi) -> None:
        volume = self.volume
        self.agf, self.agi = agf, agi
        self.agf.bno_levels = self.agf.cnt_levels = self.agf.rmap_levels = 1
        head = -(-4 * volume.superblock.sector_bytes // volume.block_bytes)
        self.free = RangeSet([(head, agf.blocks)])
        if volume.has_feature(layout.RO_RMAPBT):
            self.owners = {layout.OWN_FS: [(0, head, layout.OWN_FS, 0)]}
        self.before = Totals(0, 0, 0)

    def totals(self) -> Totals:
        """As the headers say."""
        agf = self.agf
        free = agf.free_blocks + agf.list_count + agf.tree_blocks
        return Totals(self.agi.inode_count, self.agi.free_count, free)

    # -- blocks

    def take(self, count: int, alignment: int = 1) -> int | None:
        """Takes neighbouring blocks; returns the first, None where there are not so many."""
        for start, end in self.free:
            first = -(-start // alignment) * alignment
            if first + count <= end:
                self._take_run(first, count)
                return first
        return None

    def take_some(self, count: int) -> tuple[int, int] | None:
        """Takes as many neighbouring blocks as there are, at most ``count``: (first, count)."""
        best = max(self.free, key=lambda run: run[1] - run[0], default=None)
        if best is None:
            return None
        number = min(count, best[1] - best[0])
        self._take_run(best[0], number)
        return best[0], number

    def _take_run(self, first: int, count: int) -> None:
        self.free.discard(first, first + count)
        self.is_changed = True

    def give_back(self, first: int, count: int) -> Iterator[tuple[int, int]]:
        """Takes blocks of a file back; yields the runs that nobody else shares: they are free."""
        self.is_changed = True
        position, end = first, first + count
        for start, stop, _references in self._lower(first, end):
            if position < start:
                yield self._freed(position, start)
            position = stop
        if position < end:
            yield self._freed(position, end)

    def _freed(self, start: int, end: int) -> tuple[int, int]:
        self.free.add(start, end)
        return start, end - start

    def _lower(self, first: int, end: int) -> list[Row]:
        """Lowers the counts of shared blocks in a range; returns what was shared, in order."""
        at = max(0, bisect_right(self.shared, first, key=lambda row: row[0]) - 1)
        met: list[Row] = []
        made: list[Row] = []
        stop = at
        while stop < len(self.shared) and self.shared[stop][0] < end:
            start, count, references = self.shared[stop]
            low, high = max(start, first), min(start + count, end)
            if low >= high:
                made.append((start, count, references))
            else:
                met.append((low, high, references))
                made += [
                    (low_, high_ - low_, number)
                    for low_, high_, number in (
                        (start, low, references),
                        (low, high, references - 1),
                        (high, start + count, references),
                    )
                    if high_ > low_ and number > 1
                ]
            stop += 1
        self.shared[at:stop] = made
        return met

    # -- owners

    def set_owner(self, owner: int, is_attr: bool, rows: Iterable[Row]) -> None:
        """Says anew what a fork of an inode owns here: (first block, blocks, owner, offset)."""
        self.is_changed = True
        if self.owners is None:
            return
        flag = layout.RMAP_ATTR if is_attr else 0
        kept = [row for row in self.owners.get(owner, []) if row[3] & layout.RMAP_ATTR != flag]
        kept += rows
        if kept:
            self.owners[owner] = kept
        else:
            self.owners.pop(owner, None)

    # -- inodes

    def find_free_inode(self) -> int | None:
        """The number in the group of a free inode; None where all are in use."""
        for at in range(self._first_open, len(self._firsts)):
            chunk = self.chunks[self._firsts[at]]
            mask = chunk.free & chunk.present
            if mask:
                self._first_open = at
                return chunk.first + (mask & -mask).bit_length() - 1
        self._first_open = len(self._firsts)
        return None

    def mark_inode(self, agino: int, is_free: bool) -> None:
        """Notes that an inode is in use, or free.

        Raises:
            DamagedError: there is no such inode, or it is so already.
        """
        at = bisect_right(self._firsts, agino) - 1  # chunks need not begin at multiples of 64
        chunk = self.chunks[self._firsts[at]] if at >= 0 else None
        bit = 1 << agino - chunk.first if chunk else 0
        if chunk is None or not chunk.present & bit or bool(chunk.free & bit) == is_free:
            raise self.volume.damaged(
                messages.INODE_OF_GROUP_NOT_FREE_INODE.format(agino=agino, number=self.number)
            )
        chunk.free ^= bit
        self._first_open = min(self._first_open, at)
        self.is_changed = True

    def add_chunk(self) -> int | None:
        """Makes room for more inodes; returns the first block, None where there is none."""
        superblock = self.volume.superblock
        inodes = max(layout.CHUNK_INODES, superblock.inodes_per_block)
        blocks = inodes // superblock.inodes_per_block
        first = self.take(blocks, max(1, superblock.inode_alignment))
        if first is None:
            return None
        agino = first * superblock.inodes_per_block
        for start in range(agino, agino + inodes, layout.CHUNK_INODES):
            self.chunks[start] = Chunk(start, 0, layout.CHUNK_INODES, (1 << 64) - 1)
            insort(self._firsts, start)
        self._first_open = 0
        if self.owners is not None:
            row = (first, blocks, layout.OWN_INODES, 0)
            self.owners.setdefault(layout.OWN_INODES, []).append(row)
        return first

    # -- writing

    def write(self) -> list[int]:
        """Builds the trees anew and writes them and the headers.

        Returns:
            Blocks that were a tree's and are free now; their old content is still there.

        Raises:
            NoSpaceError: there is no room for the trees.
        """
        pool = RangeSet(self.free)
        for block in self._taken:
            pool.add(block, block + 1)
        chosen, kept, plan = self._choose(pool)
        old = set(self._taken)
        self.free = pool
        places = iter(chosen)
        built = {
            kind.name: trees.build_tree(
                self.volume, self.number, kind, rows, [next(places) for _ in range(size)]
            )
            for kind, rows, size in plan
        }
        self._write_headers(built, plan, kept)
        self._taken = chosen
        return sorted((old | set(kept)) - set(chosen[: len(chosen) - len(kept)]))

    def _choose(
        self, pool: RangeSet
    ) -> tuple[list[int], list[int], list[tuple[TreeKind, list[Row], int]]]:
        """Takes blocks for the trees and the list out of ``pool`` until they are just enough.

        Taking blocks changes how many extents are free, and so how large the trees are; the list of
        reserved blocks makes up for a difference of some blocks.
        """
        spare = 2 + self.agf.bno_levels + self.agf.cnt_levels
        spare += 1 + self.agf.rmap_levels if self.owners is not None else 0
        whole = list(pool)
        total = sum(size for _kind, _rows, size in self._plan(whole, [])) + spare
        for _ in range(_ROUNDS):
            chosen = list(_first_blocks(whole, total))
            rest = RangeSet(whole)
            for block in chosen:
                rest.discard(block, block + 1)
            plan = self._plan(list(rest), chosen)
            size = sum(count for _kind, _rows, count in plan)
            left = len(chosen) - size
            if (len(chosen) < total and left >= 0) or 2 <= left <= self.volume.list_size:
                for block in chosen:
                    pool.discard(block, block + 1)
                return chosen, chosen[size:], plan
            if len(chosen) < total:
                break
            total = size + spare
        raise NoSpaceError(
            messages.NO_ROOM_FOR_TREES.format(where=self.volume.where, number=self.number)
        )

    def _plan(
        self, free: list[tuple[int, int]], chosen: list[int]
    ) -> list[tuple[TreeKind, list[Row], int]]:
        """(kind, records, blocks) of each tree; the order in which they get ``chosen``."""
        volume = self.volume
        found: list[tuple[TreeKind, list[Row], int]] = []

        def add(kind: TreeKind, rows: list[Row]) -> None:
            found.append((kind, rows, trees.tree_size(volume, kind, len(rows))))

        chunks = [self.chunks[first] for first in sorted(self.chunks)]
        add(trees.INOBT, [self._chunk_row(chunk) for chunk in chunks])
        if volume.has_feature(layout.RO_FINOBT):
            add(trees.FINOBT, [self._chunk_row(chunk) for chunk in chunks if chunk.free_count])
        inode_blocks = sum(size for _kind, _rows, size in found)
        refcount_blocks = 0
        if volume.has_feature(layout.RO_REFLINK):
            add(trees.REFCOUNT, [*_joined(self.shared), *self.staged_copies])
            refcount_blocks = found[-1][2]
        by_block: list[Row] = [(start, end - start) for start, end in free]
        add(trees.BNO, by_block)
        add(trees.CNT, sorted(by_block, key=lambda row: (row[1], row[0])))
        if self.owners is not None:
            own = [
                *_rows_of(chosen[:inode_blocks], layout.OWN_INOBT),
                *_rows_of(
                    chosen[inode_blocks : inode_blocks + refcount_blocks], layout.OWN_REFCOUNT
                ),
                *_rows_of(chosen[inode_blocks + refcount_blocks :], layout.OWN_AG),
            ]
            rows = [row for owner, rows in self.owners.items() for row in _whole(owner, rows)]
            add(trees.RMAP, sorted([*rows, *own], key=lambda row: (row[0], row[2], row[3])))
        return found

    def _chunk_row(self, chunk: Chunk) -> Row:
        if self._is_sparse:
            middle = chunk.holes << 16 | chunk.count << 8 | chunk.free_count
        else:
            middle = chunk.free_count
        return chunk.first, middle, chunk.free

    @property
    def _is_sparse(self) -> bool:
        volume = self.volume
        return volume.has_crc and bool(volume.superblock.incompat & layout.INCOMPAT_SPINODES)

    def _write_headers(
        self,
        built: dict[str, tuple[int, int]],
        plan: list[tuple[TreeKind, list[Row], int]],
        kept: list[int],
    ) -> None:
        agf, agi, volume = self.agf, self.agi, self.volume
        sizes = {kind.name: size for kind, _rows, size in plan}
        agf.bno_root, agf.bno_levels = built[trees.BNO.name]
        agf.cnt_root, agf.cnt_levels = built[trees.CNT.name]
        agf.tree_blocks = sizes[trees.BNO.name] + sizes[trees.CNT.name] - 2
        if self.owners is not None:
            agf.rmap_root, agf.rmap_levels = built[trees.RMAP.name]
            agf.rmap_blocks = sizes[trees.RMAP.name]
            agf.tree_blocks += agf.rmap_blocks - 1
        if volume.has_feature(layout.RO_REFLINK):
            agf.refcount_root, agf.refcount_levels = built[trees.REFCOUNT.name]
            agf.refcount_blocks = sizes[trees.REFCOUNT.name]
        agf.free_blocks = self.free.total
        agf.longest = max((end - start for start, end in self.free), default=0)
        agf.list_first, agf.list_last, agf.list_count = 0, max(0, len(kept) - 1), len(kept)
        if not kept:
            agf.list_last = volume.list_size - 1
        agi.root, agi.levels = built[trees.INOBT.name]
        agi.inode_count = sum(chunk.count for chunk in self.chunks.values())
        agi.free_count = sum(chunk.free_count for chunk in self.chunks.values())
        if volume.has_feature(layout.RO_FINOBT):
            agi.free_root, agi.free_levels = built[trees.FINOBT.name]
        if volume.has_feature(layout.RO_INOBTCNT):
            agi.inobt_blocks = sizes[trees.INOBT.name]
            agi.finobt_blocks = sizes.get(trees.FINOBT.name, 0)
        self._write_header(1, agf.build(), layout.AGF_CRC)
        self._write_header(2, agi.build(), layout.AGI_CRC)
        self._write_list(kept)

    def _write_header(self, sector: int, record: bytes, crc_at: int) -> None:
        volume = self.volume
        raw = record.ljust(volume.superblock.sector_bytes, b"\0")
        if volume.has_crc:
            raw = with_checksum(raw, crc_at)
        volume.store.write(volume.header_offset(self.number, sector), raw)

    def _write_list(self, kept: list[int]) -> None:
        volume = self.volume
        slots = [*kept, *[layout.NULL_AGBLOCK] * (volume.list_size - len(kept))]
        body = b"".join(slot.to_bytes(4, "big") for slot in slots)
        if volume.has_crc:
            head = layout.AGFL_MAGIC + self.number.to_bytes(4, "big") + volume.uuid + bytes(12)
            body = head + body
        self._write_header(3, body, layout.AGFL_CRC)

    # -- reading

    def _read(self, kind: TreeKind, root: int, levels: int) -> list[Row]:
        rows, blocks = trees.read_tree(self.volume, self.number, kind, root, levels)
        self._taken += blocks
        return rows

    def _read_chunks(self) -> dict[int, Chunk]:
        rows = self._read(trees.INOBT, self.agi.root, self.agi.levels)
        if self.volume.has_feature(layout.RO_FINOBT):
            self._read(trees.FINOBT, self.agi.free_root, self.agi.free_levels)
        return {chunk.first: chunk for chunk in chunks_of(self.volume, rows)}

    def _read_owners(self) -> dict[int, list[Row]] | None:
        if not self.volume.has_feature(layout.RO_RMAPBT):
            return None
        found: dict[int, list[Row]] = {}
        for row in self._read(trees.RMAP, self.agf.rmap_root, self.agf.rmap_levels):
            if row[2] not in (layout.OWN_AG, layout.OWN_INOBT, layout.OWN_REFCOUNT):
                found.setdefault(row[2], []).append(row)
        return found


def _first_blocks(runs: list[tuple[int, int]], count: int) -> Iterator[int]:
    """The first blocks of some runs."""
    for start, end in runs:
        number = min(count, end - start)
        yield from range(start, start + number)
        count -= number
        if not count:
            return


def _rows_of(blocks: list[int], owner: int) -> list[Row]:
    """Reverse mapping of single blocks, neighbours joined."""
    return [(start, end - start, owner, 0) for start, end in RangeSet((b, b + 1) for b in blocks)]


def _whole(owner: int, rows: list[Row]) -> Iterable[Row]:
    """The rows of an owner; where it is no inode, neighbours are one."""
    if owner < layout.FIRST_SPECIAL_OWNER or owner == layout.OWN_COW:
        return rows
    joined = RangeSet((start, start + count) for start, count, _owner, _offset in rows)
    return [(start, end - start, owner, 0) for start, end in joined]


def _joined(rows: list[Row]) -> list[Row]:
    """Neighbouring shared extents of one count as one."""
    found: list[Row] = []
    for start, count, references in rows:
        if found and found[-1][0] + found[-1][1] == start and found[-1][2] == references:
            found[-1] = (found[-1][0], found[-1][1] + count, references)
        else:
            found.append((start, count, references))
    return found
