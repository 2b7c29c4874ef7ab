"""Writing where a file's content lies: extent trees and lists of block numbers, built anew.

A changed mapping is never patched. Its tree blocks are given back and the whole is built from the
sorted runs: a file that a seal edits has few of them, and there is one way to be right.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator

from zeroseal.filesystems.ext import checksums
from zeroseal.filesystems.ext.layout import (
    DIRECT_BLOCKS,
    EXTENT_BYTES,
    EXTENT_MAGIC,
    MAX_EXTENT_BLOCKS,
    ExtentHeader,
    Inode,
)
from zeroseal.filesystems.ext.mapping import Run
from zeroseal.filesystems.ext.volume import ExtVolume

_ROOT_ENTRIES = 4

TakeBlock = Callable[[], int]


def join_runs(runs: list[Run]) -> list[Run]:
    """Merges runs that follow one another in the file, on the volume and in kind."""
    joined: list[Run] = []
    for run in runs:
        last = joined[-1] if joined else None
        if (
            last
            and last.logical + last.blocks == run.logical
            and last.physical + last.blocks == run.physical
            and last.written == run.written
        ):
            joined[-1] = last._replace(blocks=last.blocks + run.blocks)
        else:
            joined.append(run)
    return joined


def write_extents(
    volume: ExtVolume, own_seed: int, inode: Inode, runs: list[Run], take_block: TakeBlock
) -> int:
    """Puts an extent tree into the inode; returns how many blocks the tree took."""
    leaf_entries = [_pack_extent(run) for run in _cut_long_runs(join_runs(runs))]
    entries = [(run.logical, packed) for run, packed in leaf_entries]
    per_block = (volume.block_bytes - EXTENT_BYTES) // EXTENT_BYTES
    taken, depth = 0, 0
    while len(entries) > _ROOT_ENTRIES:
        above = []
        for start in range(0, len(entries), per_block):
            part = entries[start : start + per_block]
            block_no = take_block()
            taken += 1
            node = _pack_node([packed for _logical, packed in part], per_block, depth)
            node = node.ljust(volume.block_bytes, b"\0")
            if volume.has_checksums:
                value = checksums.extent_block_checksum(own_seed, node)
                tail = EXTENT_BYTES + EXTENT_BYTES * per_block
                node = node[:tail] + value.to_bytes(4, "little") + node[tail + 4 :]
            volume.write_block(block_no, node)
            above.append((part[0][0], _pack_pointer(part[0][0], block_no)))
        entries = above
        depth += 1
    root = _pack_node([packed for _logical, packed in entries], _ROOT_ENTRIES, depth)
    inode.block = root.ljust(60, b"\0")
    return taken


def write_block_list(
    volume: ExtVolume, inode: Inode, runs: list[Run], take_block: TakeBlock
) -> int:
    """Puts direct and indirect block numbers into the inode; returns how many lists it took."""
    per_block = volume.block_bytes // 4
    numbers = {
        run.logical + step: run.physical + step for run in runs for step in range(run.blocks)
    }
    taken = 0

    def build(first: int, levels: int) -> int:
        """Writes the list of ``levels`` that begins at a logical block; 0 for an empty one."""
        nonlocal taken
        span = per_block**levels
        if not any(
            first <= run.logical + run.blocks - 1 and run.logical < first + span for run in runs
        ):
            return 0
        block_no = take_block()
        taken += 1
        step = span // per_block
        children = [
            numbers.get(first + index, 0)
            if levels == 1
            else build(first + index * step, levels - 1)
            for index in range(per_block)
        ]
        volume.write_block(block_no, struct.pack(f"<{per_block}I", *children))
        return block_no

    pointers = [numbers.get(logical, 0) for logical in range(DIRECT_BLOCKS)]
    first = DIRECT_BLOCKS
    for levels in (1, 2, 3):
        pointers.append(build(first, levels))
        first += per_block**levels
    inode.block = struct.pack("<15I", *pointers)
    return taken


def _cut_long_runs(runs: list[Run]) -> Iterator[Run]:
    """Cuts runs to what one extent can say; an unwritten one says one block less."""
    for run in runs:
        most = MAX_EXTENT_BLOCKS if run.written else MAX_EXTENT_BLOCKS - 1
        for start in range(0, run.blocks, most):
            count = min(most, run.blocks - start)
            yield Run(run.logical + start, run.physical + start, count, run.written)


def _pack_extent(run: Run) -> tuple[Run, bytes]:
    length = run.blocks if run.written else run.blocks + MAX_EXTENT_BLOCKS
    physical = run.physical
    packed = struct.pack("<IHHI", run.logical, length, physical >> 32, physical & 0xFFFFFFFF)
    return run, packed


def _pack_pointer(logical: int, block_no: int) -> bytes:
    return struct.pack("<IIHH", logical, block_no & 0xFFFFFFFF, block_no >> 32, 0)


def _pack_node(entries: list[bytes], max_entries: int, depth: int) -> bytes:
    header = ExtentHeader.blank(
        magic=EXTENT_MAGIC, entries=len(entries), max_entries=max_entries, depth=depth
    )
    return header.build() + b"".join(entries)
