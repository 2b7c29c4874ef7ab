"""Inodes of version 3 as numpy columns, for what has to look at all of them at once.

Nearly all inodes are those of files in a few pieces whose forks hold nothing else. Their fields are
taken from the bytes here, some thousand inodes at a time; whatever is not as plain is left to the
code that knows all forms.
"""

from __future__ import annotations

from functools import cached_property

import numpy as np
from numpy.typing import DTypeLike, NDArray

from zeroseal.blocks.checksums import crc32c
from zeroseal.blocks.row_types import row_type
from zeroseal.filesystems.xfs import layout
from zeroseal.filesystems.xfs.forks import EXTENT_BYTES
from zeroseal.filesystems.xfs.layout import Inode
from zeroseal.filesystems.xfs.slots import SlotBatch
from zeroseal.filesystems.xfs.volume import XfsVolume

MOST_RUNS = 4
_MIN_INODE_BYTES = 512  # of version 3
_START = 0xFFFFFFFF
_CODES = {
    "magic": "S2",
    "mode": ">u2",
    "version": "u1",
    "form": "u1",
    "links": ">u4",
    "big_extents": ">u8",
    "size": ">u8",
    "blocks": ">u8",
    "extents": ">u4",
    "attr_extents": ">u2",
    "fork_offset": "u1",
    "attr_form": "i1",
    "next_unlinked": ">u4",
    "flags2": ">u8",
    "number": ">u8",
}
_FIELDS: dict[str, tuple[int, DTypeLike]] = {
    **{name: (Inode.offset_of(name), code) for name, code in _CODES.items()},
    "runs": (Inode.SIZE, (">u8", (MOST_RUNS, 2))),
}
_OWN_FIELDS = {"generation": 4, "crc": 4, "number": 8}  # bytes of what only one inode has

Bools = NDArray[np.bool_]
Numbers = NDArray[np.int64]


def has_rows(volume: XfsVolume) -> bool:
    """Whether a volume's inodes are such as are read here."""
    return volume.has_crc and volume.superblock.inode_bytes >= _MIN_INODE_BYTES


class InodeRows:
    """A batch of inodes of a volume that ``has_rows``.

    Attributes:
        numbers, is_free: of the batch.
        mode, links, size: as they say.
        block_bytes: of the volume.
        run_count: how many extents the data fork has.
        logical, fsblock, blocks: of the first four of them, a row each; unwritten ones too.
    """

    def __init__(self, volume: XfsVolume, batch: SlotBatch) -> None:
        self._volume, self._raw = volume, batch.raw
        self._bytes, self.block_bytes = volume.superblock.inode_bytes, volume.block_bytes
        kind = row_type(_FIELDS, self._bytes)
        self._rows = rows = np.frombuffer(batch.raw, dtype=kind)
        self.numbers, self.is_free = batch.numbers, batch.is_free
        self.mode = rows["mode"].astype(np.int64)
        self.links = rows["links"].astype(np.int64)
        self.size = rows["size"].astype(np.int64)
        is_big = rows["flags2"] & layout.FLAG2_NREXT64 != 0
        self.run_count = np.where(is_big, rows["big_extents"], rows["extents"]).astype(np.int64)
        self._attr_count = np.where(is_big, rows["extents"], rows["attr_extents"])
        self._attr_start = np.where(
            rows["fork_offset"] != 0,
            Inode.SIZE + rows["fork_offset"].astype(np.int64) * 8,
            self._bytes,
        )
        high, low = rows["runs"][:, :, 0].astype(np.int64), rows["runs"][:, :, 1].astype(np.int64)
        self.logical = high >> 9 & ((1 << 54) - 1)
        self.fsblock = (high & 0x1FF) << 43 | low >> 21 & ((1 << 43) - 1)
        self.blocks = low & ((1 << 21) - 1)
        self._unwritten = high < 0

    @cached_property
    def within(self) -> Bools:
        """Which of the four extents each has."""
        within: Bools = np.arange(MOST_RUNS) < self.run_count[:, None]
        return within

    @cached_property
    def is_itself(self) -> Bools:
        """Whether each is an inode, the one that it should be, and passes its checksum."""
        rows = self._rows
        says = (rows["magic"] == layout.INODE_MAGIC) & (rows["version"] == 3)
        says &= rows["number"] == self.numbers.astype(np.uint64)
        return np.asarray(says & self._passes(), bool)

    @cached_property
    def is_empty(self) -> Bools:
        """Whether each says that it is in use by nothing."""
        return np.asarray((self.mode == 0) & (self.links == 0), bool)

    def are_but_for_their_own(self, form: bytes) -> Bools:
        """Whether each consists of these bytes, but for its number, generation and checksum."""
        content = np.frombuffer(self._raw, np.uint8).reshape(-1, self._bytes)
        same = content == np.frombuffer(form, np.uint8)
        for name, length in _OWN_FIELDS.items():
            start = Inode.offset_of(name)
            same[:, start : start + length] = True
        return np.asarray(same.all(axis=1) & self.is_itself, bool)

    @cached_property
    def has_no_attributes(self) -> Bools:
        """Whether there is no fork for attributes, or one that maps nothing."""
        rows = self._rows
        maps_nothing = (rows["attr_form"] == layout.FORM_EXTENTS) & (self._attr_count == 0)
        return np.asarray(maps_nothing & (self._attr_start <= self._bytes), bool)

    @cached_property
    def is_named(self) -> Bools:
        """Whether each is on no list of inodes without names."""
        return np.asarray(self._rows["next_unlinked"] == layout.NULL_AGINO, bool)

    @cached_property
    def is_mapped_file(self) -> Bools:
        """Whether each is a file whose few extents lie in it, in order and inside the volume."""
        volume, rows = self._volume, self._rows
        is_file = self.mode & layout.MODE_TYPE == layout.MODE_FILE
        fits = Inode.SIZE + self.run_count * EXTENT_BYTES <= self._attr_start
        few = (self.run_count <= MOST_RUNS) & fits & (self._attr_start <= self._bytes)
        ends = self.logical + self.blocks
        follows = np.ones_like(self.within)
        follows[:, 1:] = self.logical[:, 1:] >= ends[:, :-1]
        group, agblock = self.places
        count = volume.superblock.group_count
        rooms = np.array([volume.blocks_in(number) for number in range(count)], np.int64)
        inside = (group < count) & (agblock + self.blocks <= rooms[np.minimum(group, count - 1)])
        sound = (follows & inside & (self.blocks > 0)) | ~self.within
        in_itself = rows["form"] == layout.FORM_EXTENTS
        return np.asarray(is_file & in_itself & few & sound.all(axis=1), bool)

    @cached_property
    def places(self) -> tuple[Numbers, Numbers]:
        """(group, first block in it) of the extents."""
        bits = self._volume.superblock.group_log
        return self.fsblock >> bits, self.fsblock & ((1 << bits) - 1)

    @property
    def offsets(self) -> Numbers:
        """Where the extents lie on the volume, in bytes."""
        group, agblock = self.places
        return (group * self._volume.superblock.group_blocks + agblock) * self.block_bytes

    @property
    def counts_its_blocks(self) -> Bools:
        """Whether the blocks that it says it owns are those of its extents."""
        owned: Numbers = np.where(self.within, self.blocks, 0).sum(axis=1)
        return np.asarray(owned == self._rows["blocks"].astype(np.int64), bool)

    @property
    def has_unwritten(self) -> Bools:
        """Whether an extent is set aside only."""
        return np.asarray((self._unwritten & self.within).any(axis=1), bool)

    @property
    def has_clean_forks(self) -> Bools:
        """Whether zeros alone lie behind the extents, and behind attributes that lie in the inode.

        False too for attributes of any other form.
        """
        rows, count = self._rows, len(self._rows)
        content = np.frombuffer(self._raw, np.uint8).reshape(count, self._bytes)
        used = np.zeros((count, self._bytes + 1 - Inode.SIZE), np.uint16)
        np.cumsum(content[:, Inode.SIZE :] != 0, axis=1, out=used[:, 1:])
        start = np.clip(self._attr_start, Inode.SIZE, self._bytes - 2)
        stated = content[np.arange(count), start].astype(np.int64) << 8
        stated |= content[np.arange(count), start + 1]
        is_local = rows["attr_form"] == layout.FORM_LOCAL
        attr_used = np.where(is_local, self._attr_start + stated, self._attr_start)

        def marks(begin: Numbers, end: Numbers | int) -> Numbers:
            index = np.arange(count)
            first = np.clip(begin - Inode.SIZE, 0, self._bytes - Inode.SIZE)
            last = np.clip(end - Inode.SIZE, first, self._bytes - Inode.SIZE)
            return np.asarray(used[index, last].astype(np.int64) - used[index, first])

        behind_runs = marks(Inode.SIZE + self.run_count * EXTENT_BYTES, self._attr_start)
        has_fork = rows["fork_offset"] != 0
        is_known = is_local | ((rows["attr_form"] == layout.FORM_EXTENTS) & (self._attr_count == 0))
        clean = ~has_fork | (is_known & (marks(attr_used, self._bytes) == 0))
        return np.asarray((behind_runs == 0) & clean, bool)

    def _passes(self) -> Bools:
        """Whether the checksums fit; each counts its own field as zeros."""
        content = np.frombuffer(self._raw, np.uint8).reshape(-1, self._bytes).copy()
        at = layout.INODE_CRC
        stated = content[:, at : at + 4].copy().view("<u4").ravel()
        content[:, at : at + 4] = 0
        view = memoryview(content.tobytes())
        size = self._bytes
        found = [
            ~crc32c(_START, view[start : start + size]) & 0xFFFFFFFF
            for start in range(0, len(view), size)
        ]
        return np.asarray(stated == np.array(found, np.uint32), bool)
