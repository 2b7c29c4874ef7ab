"""The checker's look at one allocation group: its headers, its trees, what they say of blocks."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import pairwise

import numpy as np

from zeroseal.filesystems.tree import Problem
from zeroseal.filesystems.xfs import layout, trees
from zeroseal.filesystems.xfs.check_claims import Claims, joined
from zeroseal.filesystems.xfs.layout import Superblock
from zeroseal.filesystems.xfs.trees import Row, TreeKind
from zeroseal.filesystems.xfs.volume import XfsVolume
from zeroseal.messages import xfs as messages

_HEADERS = 4


class GroupCheck:
    """What a group's trees say; read when it is made.

    Raises:
        DamagedError: a header or a tree cannot be read at all.
    """

    def __init__(self, volume: XfsVolume, number: int, claims: Claims) -> None:
        self._volume, self._number, self._claims = volume, number, claims
        self._agf, self._agi = volume.read_agf(number), volume.read_agi(number)
        self._list = volume.read_list(number, self._agf)
        self._found: list[Problem] = []
        agf, agi = self._agf, self._agi
        self._free = self._walk(trees.BNO, agf.bno_root, agf.bno_levels, layout.OWN_AG)
        self._by_size = self._walk(trees.CNT, agf.cnt_root, agf.cnt_levels, layout.OWN_AG)
        self._inodes = self._walk(trees.INOBT, agi.root, agi.levels, layout.OWN_INOBT)
        self._open: list[Row] | None = None
        self._owners: list[Row] | None = None
        self._shared: list[Row] = []
        if volume.has_feature(layout.RO_FINOBT):
            self._open = self._walk(trees.FINOBT, agi.free_root, agi.free_levels, layout.OWN_INOBT)
        if volume.has_feature(layout.RO_RMAPBT):
            self._owners = self._walk(trees.RMAP, agf.rmap_root, agf.rmap_levels, layout.OWN_AG)
        if volume.has_feature(layout.RO_REFLINK):
            self._shared = self._walk(
                trees.REFCOUNT, agf.refcount_root, agf.refcount_levels, layout.OWN_REFCOUNT
            )
        self.inodes = sum(self._chunk(row)[0] for row in self._inodes)
        self.free_inodes = sum(self._chunk(row)[1] for row in self._inodes)
        self.spare_blocks = agf.free_blocks + agf.list_count + agf.tree_blocks

    def check(self) -> Iterator[Problem]:
        """Yields what contradicts itself inside the group, and claims its blocks."""
        volume, number, agf = self._volume, self._number, self._agf
        head = -(-_HEADERS * volume.superblock.sector_bytes // volume.block_bytes)
        self._claims.add_structure(volume.fsblock(number, 0), head, layout.OWN_FS)
        for first, count in self._free:
            self._claims.add_free(number, first, count)
        for block in self._list:
            self._claims.add_structure(volume.fsblock(number, block), 1, layout.OWN_AG)
        for row in self._inodes:
            self._claim_chunk(row)
        for start, count, _references in self._shared:
            if start & layout.REFCOUNT_COW:
                fsblock = volume.fsblock(number, start & ~layout.REFCOUNT_COW)
                self._claims.add_structure(fsblock, count, layout.OWN_COW)
        yield from self._found
        for what, stated, counted in (
            ("free blocks", agf.free_blocks, sum(row[1] for row in self._free)),
            ("blocks of its longest free extent", agf.longest,
             max((row[1] for row in self._free), default=0)),
            ("inodes", self._agi.inode_count, self.inodes),
            ("free inodes", self._agi.free_count, self.free_inodes),
        ):  # fmt: skip
            if stated != counted:
                yield self._problem(
                    messages.HEADER_COUNT_WRONG.format(stated=stated, what=what, counted=counted)
                )
        if sorted(self._by_size) != self._free:
            yield self._problem(messages.TWO_TREES_OF_FREE_SPACE_DIFFER)
        if self._open is not None:
            wanted = [row for row in self._inodes if self._chunk(row)[1]]
            if self._open != wanted:
                yield self._problem(messages.TREE_OF_FREE_INODES_DIFFERS)
        if self._agi.unlinked.strip(b"\xff"):
            yield self._problem(messages.UNLINKED_INODES)
        yield from self._check_copy()

    def check_against(self, claims: Claims) -> Iterator[Problem]:
        """Yields where reverse mapping and reference counts differ from what files own."""
        rows = [tuple(row) for row in self._owners or []]
        if self._owners is not None:
            expected = joined(claims.owned[self._number])
            stated = joined([(row[0], row[1], row[2], row[3]) for row in rows])
            if expected != stated:
                odd = sorted(set(expected) ^ set(stated))[0]
                yield self._problem(
                    messages.REVERSE_MAPPING_WRONG_FIRST_AT_BLOCK.format(odd=odd[0])
                )
        counted = claims.files[self._number]
        noted = np.ones(len(counted), np.uint32)
        for start, count, references in self._shared:
            if not start & layout.REFCOUNT_COW:
                noted[start : start + count] = references
        wrong = np.flatnonzero((counted > 0) & (counted != noted) | (counted == 0) & (noted > 1))
        if len(wrong):
            yield self._problem(
                messages.REFERENCE_COUNTS_WRONG_FIRST_AT_BLOCK.format(wrong=wrong[0])
            )

    # -- inside

    def _problem(self, what: str) -> Problem:
        return Problem(f"group {self._number}", what)

    def _chunk(self, row: Row) -> tuple[int, int, int]:
        """(inodes, free inodes, mask of holes) of a chunk, by its own counts."""
        volume = self._volume
        if volume.has_crc and volume.superblock.incompat & layout.INCOMPAT_SPINODES:
            return row[1] >> 8 & 0xFF, row[1] & 0xFF, row[1] >> 16
        return layout.CHUNK_INODES, row[1], 0

    def _claim_chunk(self, row: Row) -> None:
        volume, per_block = self._volume, self._volume.superblock.inodes_per_block
        count, free, holes = self._chunk(row)
        present = [n for n in range(layout.CHUNK_INODES) if not holes >> n // 4 & 1]
        marked = sum(row[2] >> n & 1 for n in present)
        if len(present) != count or marked != free:
            self._found.append(
                self._problem(messages.COUNTS_OF_INODE_CHUNK_WRONG.format(row=row[0]))
            )
        blocks = {(row[0] + n) // per_block for n in present}
        if per_block >= layout.CHUNK_INODES and row[0] % per_block:
            return  # the first chunk of the block claims it
        for block in sorted(blocks):
            self._claims.add_structure(volume.fsblock(self._number, block), 1, layout.OWN_INODES)

    def _check_copy(self) -> Iterator[Problem]:
        raw = self._volume.read_header(self._number, 0, layout.SUPERBLOCK_CRC)
        copy, first = Superblock.parse(raw[: Superblock.SIZE]), self._volume.superblock
        same = (copy.magic, copy.blocks, copy.uuid, copy.group_blocks, copy.group_count) == (
            first.magic, first.blocks, first.uuid, first.group_blocks, first.group_count,
        )  # fmt: skip
        if not same:
            yield self._problem(messages.SUPERBLOCK_COPY_OF_ANOTHER_VOLUME)

    def _walk(self, kind: TreeKind, root: int, levels: int, owner: int) -> list[Row]:
        """The records of a tree, walked level by level with all that nodes say of it verified."""
        volume, number = self._volume, self._number
        if not 1 <= levels <= layout.MAX_LEVELS:
            raise volume.damaged(
                messages.TREE_OF_GROUP_TOO_MANY_LEVELS.format(name=kind.name, number=number)
            )
        wanted: list[tuple[int, Row | None, Row | None]] = [(root, None, None)]
        rows: list[Row] = []
        for level in range(levels - 1, -1, -1):
            below: list[tuple[int, Row | None, Row | None]] = []
            places = [block for block, _low, _high in wanted]
            for index, (block, low, high) in enumerate(wanted):
                self._claims.add_structure(volume.fsblock(number, block), 1, owner)
                raw = trees.read_node(volume, number, kind, block, level)
                left = places[index - 1] if index else layout.NULL_AGBLOCK
                right = places[index + 1] if index + 1 < len(places) else layout.NULL_AGBLOCK
                links = left.to_bytes(4, "big") + right.to_bytes(4, "big")
                if raw[8:16] != links or not self._is_at_home(raw, block):
                    self._found.append(
                        self._problem(
                            messages.BLOCK_OF_TREE_IN_WRONG_PLACE.format(
                                block=block, name=kind.name
                            )
                        )
                    )
                if level:
                    below += self._children(kind, raw)
                    continue
                part = self._leaf(kind, raw)
                rows += part
                self._check_keys(kind, part, low, high)
            wanted = below
        keys = [kind.key_of(row) for row in rows]
        if kind is trees.CNT:
            keys = [(row[1], row[0]) for row in rows]
        if any(one >= two for one, two in pairwise(keys)):
            self._found.append(self._problem(messages.TREE_OUT_OF_ORDER.format(name=kind.name)))
        return rows

    def _is_at_home(self, raw: bytes, block: int) -> bool:
        if not self._volume.has_crc:
            return True
        sector = self._volume.sector_of(self._volume.fsblock(self._number, block))
        owner = int.from_bytes(raw[48:52], "big")
        return int.from_bytes(raw[16:24], "big") == sector and owner == self._number

    def _leaf(self, kind: TreeKind, raw: bytes) -> list[Row]:
        start, count = trees.header_bytes(self._volume), int.from_bytes(raw[6:8], "big")
        end = start + count * kind.record.size
        if end > len(raw):
            raise self._volume.damaged(
                messages.LEAF_OF_TREE_TOO_MANY_RECORDS.format(name=kind.name)
            )
        return list(kind.record.iter_unpack(raw[start:end]))

    def _children(self, kind: TreeKind, raw: bytes) -> Iterator[tuple[int, Row | None, Row | None]]:
        volume = self._volume
        start, count = trees.header_bytes(volume), int.from_bytes(raw[6:8], "big")
        capacity = trees.node_capacity(volume, kind)
        if not 1 <= count <= capacity:
            raise volume.damaged(messages.NODE_OF_TREE_TOO_MANY_RECORDS.format(name=kind.name))
        for number in range(count):
            key = start + number * kind.key_bytes
            pointer = start + capacity * kind.key_bytes + number * 4
            high = kind.key.unpack_from(raw, key + kind.key.size) if kind.high_key_of else None
            block = int.from_bytes(raw[pointer : pointer + 4], "big")
            yield block, kind.key.unpack_from(raw, key), high

    def _check_keys(
        self, kind: TreeKind, rows: list[Row], low: Row | None, high: Row | None
    ) -> None:
        if low is not None and rows and _plain(kind, kind.key_of(rows[0])) != _plain(kind, low):
            self._found.append(self._problem(messages.KEY_OF_TREE_WRONG.format(name=kind.name)))
        if high is not None and kind.high_key_of and rows:
            highest = max(kind.high_key_of(row) for row in rows)
            if _plain(kind, highest) != _plain(kind, high):
                self._found.append(
                    self._problem(messages.HIGH_KEY_OF_TREE_WRONG.format(name=kind.name))
                )


def _plain(kind: TreeKind, key: Row) -> Row:
    """A key without the flag that older kernels keep in it and newer ones do not."""
    return (*key[:2], key[2] & ~layout.RMAP_UNWRITTEN) if kind is trees.RMAP else key
