"""What lies in no file: free blocks, free inodes and the journal's body, as byte ranges."""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.blocks.bitmaps import find_runs
from zeroseal.blocks.patches import ByteRange
from zeroseal.filesystems.ext import journal_layout, layout
from zeroseal.filesystems.ext.allocate import Allocator, is_unwritten, structures_in
from zeroseal.filesystems.ext.journal_layout import JournalSuperblock
from zeroseal.filesystems.ext.mapping import read_mapping
from zeroseal.filesystems.ext.owned_blocks import OwnedBlocks
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.messages import ext as messages


def iter_free_space(volume: ExtVolume) -> Iterator[ByteRange]:
    """Yields the ranges of all free blocks, and what lies behind the last block.

    Free is what the bitmaps say. With bigalloc a cluster in use may have blocks that nobody owns;
    they are found by asking all inodes what they own.
    """
    if volume.cluster_blocks > 1:
        for first, count in OwnedBlocks(volume).iter_unowned():
            yield first * volume.block_bytes, count * volume.block_bytes
    else:
        yield from _iter_free_by_bitmaps(volume)
    end = volume.block_count * volume.block_bytes
    if end < volume.store.size_bytes:  # the partition is larger than its file system
        yield end, volume.store.size_bytes - end


def _iter_free_by_bitmaps(volume: ExtVolume) -> Iterator[ByteRange]:
    allocator = Allocator(volume)
    for group in range(volume.group_count):
        base, size = volume.group_blocks(group)
        if is_unwritten(volume, group):
            yield from _iter_between(structures_in(volume, group), base, base + size, volume)
            continue
        for first, count in find_runs(allocator.get_bitmap("block", group), size, value=False):
            yield (base + first) * volume.block_bytes, count * volume.block_bytes


def _iter_between(
    taken: list[tuple[int, int]], start: int, end: int, volume: ExtVolume
) -> Iterator[ByteRange]:
    """What lies between (first, end) pairs of blocks."""
    for first, behind in [*taken, (end, end)]:
        if first > start:
            yield start * volume.block_bytes, (first - start) * volume.block_bytes
        start = max(start, behind)


def iter_free_inodes(volume: ExtVolume) -> Iterator[ByteRange]:
    """Yields the ranges of inode slots that no file uses, reserved inodes left out."""
    allocator = Allocator(volume)
    per_group = volume.superblock.inodes_per_group
    for group in range(volume.group_count):
        descriptor = volume.get_group(group)
        table = descriptor.inode_table * volume.block_bytes
        if volume.has_group_checksums and descriptor.flags & layout.GROUP_INODE_UNINIT:
            yield table, per_group * volume.inode_bytes
            continue
        for first, count in find_runs(allocator.get_bitmap("inode", group), per_group, value=False):
            yield table + first * volume.inode_bytes, count * volume.inode_bytes


def iter_journal_body(volume: ExtVolume) -> Iterator[ByteRange]:
    """Yields the ranges of the journal behind its superblock.

    With an empty journal (``start`` 0) nothing in them is ever read again: the kernel writes a
    block before it looks for it.

    Raises:
        DamagedError: the journal's superblock is none, or the journal is not empty.
    """
    superblock = volume.superblock
    if not superblock.compat & layout.COMPAT_HAS_JOURNAL:
        return
    inode = volume.read_inode(superblock.journal_inode)
    runs = read_mapping(volume, superblock.journal_inode, inode).runs
    if not runs or runs[0].logical:
        raise volume.damaged(messages.JOURNAL_NO_FIRST_BLOCK)
    raw = volume.read_block(runs[0].physical)[: JournalSuperblock.SIZE]
    journal = JournalSuperblock.parse(raw)
    if journal.magic != journal_layout.MAGIC or journal.start:
        raise volume.damaged(messages.JOURNAL_NOT_EMPTY_OR_NOT_JOURNAL)
    for run in runs:
        skipped = 1 if run.logical == 0 else 0
        if run.blocks > skipped:
            start = (run.physical + skipped) * volume.block_bytes
            yield start, (run.blocks - skipped) * volume.block_bytes
