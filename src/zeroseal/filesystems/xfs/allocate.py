"""Blocks and inodes of a whole volume while it is changed; groups are opened when needed."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from zeroseal.errors import NoSpaceError
from zeroseal.filesystems.xfs import layout
from zeroseal.filesystems.xfs.forks import Run
from zeroseal.filesystems.xfs.group import Group
from zeroseal.filesystems.xfs.layout import Inode, Superblock
from zeroseal.filesystems.xfs.trees import Row
from zeroseal.filesystems.xfs.volume import XfsVolume, with_checksum
from zeroseal.messages import xfs as messages


class Allocator:
    """Gives and takes back; ``finish`` brings trees, headers and counters to the store.

    Args:
        volume: an opened volume.
        zero_removed: whether blocks that nobody needs any more are zeroed.
    """

    def __init__(self, volume: XfsVolume, zero_removed: bool) -> None:
        self._volume, self._zero_removed = volume, zero_removed
        self._groups: dict[int, Group] = {}

    def group(self, number: int) -> Group:
        """A group's state; the object is kept."""
        found = self._groups.get(number)
        if found is None:
            found = self._groups[number] = Group(self._volume, number)
        return found

    # -- blocks

    def take(self, count: int, near: int) -> list[tuple[int, int]]:
        """Takes blocks, first of the group ``near``: (first block, count) of each run.

        Raises:
            NoSpaceError: there are not so many; none is taken then.
        """
        found: list[tuple[int, int]] = []
        left = count
        for number in self._order(near):
            group = self.group(number)
            first = group.take(left) if left else None
            if first is not None:
                found.append((self._volume.fsblock(number, first), left))
                left = 0
            while left:
                some = group.take_some(left)
                if some is None:
                    break
                found.append((self._volume.fsblock(number, some[0]), some[1]))
                left -= some[1]
            if not left:
                return found
        for first, length in found:
            number, agblock = self._volume.group_of(first)
            self.group(number).free.add(agblock, agblock + length)
        raise NoSpaceError(messages.NO_FREE_BLOCKS.format(where=self._volume.where, count=count))

    def give_back(self, runs: Iterable[Run]) -> None:
        """Takes blocks of a file back; what nobody shares is zeroed."""
        for run in runs:
            number, agblock = self._volume.group_of(run.fsblock)
            for first, count in self.group(number).give_back(agblock, run.blocks):
                self.zero(self._volume.fsblock(number, first), count)

    def zero(self, fsblock: int, count: int) -> None:
        """Zeroes blocks, where what goes is to be zeroed."""
        if self._zero_removed:
            volume = self._volume
            volume.store.zero(volume.offset_of(fsblock), count * volume.block_bytes)

    def set_owner(
        self, owner: int, is_attr: bool, runs: Sequence[Run], tree: Sequence[int], before: set[int]
    ) -> None:
        """Notes what a fork of an inode owns now.

        Args:
            owner: the inode.
            is_attr: whether it is the attribute fork.
            runs: what the fork maps.
            tree: blocks of its mapping.
            before: groups in which it owned something.
        """
        volume = self._volume
        if not volume.has_feature(layout.RO_RMAPBT):
            return
        flag = layout.RMAP_ATTR if is_attr else 0
        rows: dict[int, list[Row]] = {number: [] for number in before}
        for run in runs:
            number, agblock = volume.group_of(run.fsblock)
            unwritten = layout.RMAP_UNWRITTEN if run.unwritten else 0
            _append(rows.setdefault(number, []), agblock, run.blocks, owner,
                    run.logical | flag | unwritten)  # fmt: skip
        for block in sorted(tree):
            number, agblock = volume.group_of(block)
            _append(rows.setdefault(number, []), agblock, 1, owner, flag | layout.RMAP_BMBT)
        for number, found in rows.items():
            self.group(number).set_owner(owner, is_attr, found)

    # -- inodes

    def take_inode(self, near: int) -> int:
        """Takes a free inode, first of the group ``near``; makes room for more where all are used.

        Raises:
            NoSpaceError: there is no room for more.
        """
        for number in self._order(near):
            agino = self.group(number).find_free_inode()
            if agino is not None:
                self.group(number).mark_inode(agino, is_free=False)
                return self._volume.inode_number(number, agino)
        for number in self._order(near):
            first = self.group(number).add_chunk()
            if first is not None:
                self._write_free_inodes(number, first)
                return self.take_inode(number)
        raise NoSpaceError(messages.NO_FREE_INODES.format(where=self._volume.where))

    def give_back_inode(self, number: int) -> None:
        """Takes an inode back, and writes what a free one looks like."""
        group, agino = self._volume.inode_place(number)
        self.group(group).mark_inode(agino, is_free=True)
        generation = self._volume.read_slot(number).inode.generation
        write_free_inode(self._volume, number, (generation + 1) & 0xFFFFFFFF)

    def _write_free_inodes(self, number: int, first: int) -> None:
        superblock = self._volume.superblock
        agino = first * superblock.inodes_per_block
        for offset in range(max(layout.CHUNK_INODES, superblock.inodes_per_block)):
            write_free_inode(self._volume, self._volume.inode_number(number, agino + offset), 1)

    # -- the end

    def finish(self) -> None:
        """Writes the changed groups and the superblock's counters."""
        changed = [group for group in self._groups.values() if group.is_changed]
        if not changed:
            return
        superblock = self._volume.superblock
        for group in changed:
            for block in group.write():
                self.zero(self._volume.fsblock(group.number, block), 1)
            after, before = group.totals(), group.before
            superblock.inode_count += after.inodes - before.inodes
            superblock.free_inodes += after.free_inodes - before.free_inodes
            superblock.free_blocks += after.free_blocks - before.free_blocks
            group.before, group.is_changed = after, False
        superblock.quota_flags &= ~layout.QUOTA_CHECKED  # the kernel counts again
        write_superblock(self._volume, superblock)

    def _order(self, near: int) -> list[int]:
        count = self._volume.superblock.group_count
        return [(near + number) % count for number in range(count)]


def write_superblock(volume: XfsVolume, superblock: Superblock) -> None:
    """Writes the first superblock, the one that counts."""
    volume.raw_superblock = write_copy(volume, 0, superblock, volume.raw_superblock)


def write_copy(volume: XfsVolume, group: int, superblock: Superblock, raw: bytes) -> bytes:
    """Writes the superblock of a group over the sector that it had; returns the new one."""
    raw = superblock.build() + raw[Superblock.SIZE :]
    if volume.has_crc:
        raw = with_checksum(raw, layout.SUPERBLOCK_CRC)
    volume.store.write(volume.header_offset(group, 0), raw)
    return raw


def write_free_inode(volume: XfsVolume, number: int, generation: int) -> None:
    """Writes what an inode without a file looks like: its own number and generation, no more."""
    volume.write_slot(number, free_inode(volume, number, generation), bytes(volume.fork_bytes))


def free_inode(volume: XfsVolume, number: int, generation: int) -> Inode:
    """The core of an inode without a file."""
    return Inode.blank(
        magic=layout.INODE_MAGIC,
        version=3 if volume.has_crc else 2,
        generation=generation,
        next_unlinked=layout.NULL_AGINO,
        number=number if volume.has_crc else 0,
        uuid=volume.uuid if volume.has_crc else bytes(16),
    )


def _append(rows: list[Row], agblock: int, count: int, owner: int, offset: int) -> None:
    """Adds a row of reverse mapping, joined with the one before where it goes on."""
    if rows:
        start, length, _owner, before = rows[-1]
        goes_on = before if offset & layout.RMAP_BMBT else before + length
        if start + length == agblock and goes_on == offset:
            rows[-1] = (start, length + count, owner, before)
            return
    rows.append((agblock, count, owner, offset))
