"""Giving a file other blocks: taking them, giving them back, and writing the mapping anew.

With bigalloc blocks are taken and given back in clusters. A cluster belongs to one file, and a file
that is cut may keep the first blocks of its last cluster.
"""

from __future__ import annotations

from zeroseal.blocks.ranges import RangeSet
from zeroseal.filesystems.ext import layout
from zeroseal.filesystems.ext.allocate import Allocator
from zeroseal.filesystems.ext.layout import Inode
from zeroseal.filesystems.ext.mapping import Mapping, Run, count_clusters, read_mapping
from zeroseal.filesystems.ext.mapping_edit import write_block_list, write_extents
from zeroseal.filesystems.ext.read import owns_blocks
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.filesystems.ext.xattrs import count_values

_LARGE_FILE_BYTES = 1 << 31


class ContentWriter:
    """Changes the blocks of one volume's files.

    Args:
        volume: what is changed.
        zero_removed: whether blocks that are given back are zeroed.

    Attributes:
        allocator: its bitmaps; they are written by their own ``flush``.
    """

    def __init__(self, volume: ExtVolume, zero_removed: bool) -> None:
        self.allocator = Allocator(volume)
        self._volume = volume
        self._zero_removed = zero_removed

    def replace_blocks(
        self, node: int, inode: Inode, mapping: Mapping, blocks: list[bytes]
    ) -> None:
        """Gives a node these blocks instead of those of ``mapping``, and writes the inode."""
        self._release(mapping.runs)
        volume = self._volume
        runs, logical = [], 0
        if blocks:
            near = volume.group_blocks((node - 1) // volume.superblock.inodes_per_group)
            for first, count in self.allocator.allocate_blocks(len(blocks), near[0]):
                volume.write_block(first, b"".join(blocks[logical : logical + count]))
                runs.append(Run(logical, first, count))
                logical += count
        if inode.is_folder:
            inode.size = len(blocks) * volume.block_bytes
        self.write_mapping(node, inode, runs, mapping.tree_blocks)

    def write_mapping(
        self, node: int, inode: Inode, runs: list[Run], old_tree_blocks: list[int]
    ) -> None:
        """Writes a node's mapping anew, and the inode."""
        self._release_single(old_tree_blocks)
        volume = self._volume
        near = runs[0].physical if runs else volume.superblock.first_data_block

        def take_block() -> int:
            return self.allocator.allocate_blocks(1, near)[0][0]

        if inode.flags & layout.INODE_EXTENTS:
            own_seed = volume.inode_seed(node, inode)
            taken = write_extents(volume, own_seed, inode, runs, take_block)
        else:
            taken = write_block_list(volume, inode, runs, take_block)
        clusters = count_clusters(volume, runs) + taken + (1 if inode.xattr_block else 0)
        blocks = clusters * volume.cluster_blocks + count_values(volume, node, inode)[1]
        in_blocks = inode.flags & layout.INODE_HUGE_FILE
        inode.sectors = blocks if in_blocks else blocks * (volume.block_bytes // 512)
        if inode.size >= _LARGE_FILE_BYTES and not inode.is_folder:
            volume.superblock.ro_compat |= layout.RO_LARGE_FILE
        volume.write_inode(node, inode)

    def cut(self, node: int, inode: Inode, size_bytes: int) -> None:
        """Sets a file's size, gives back the blocks behind it and zeroes the rest of the last."""
        block_bytes = self._volume.block_bytes
        end = -(-size_bytes // block_bytes)
        mapping = read_mapping(self._volume, node, inode)
        kept: list[Run] = []
        gone: list[Run] = []
        for run in mapping.runs:
            keep = max(0, min(run.blocks, end - run.logical))
            if keep:
                kept.append(run._replace(blocks=keep))
            if keep < run.blocks:
                gone.append(Run(run.logical + keep, run.physical + keep, run.blocks - keep))
        self._release(gone, kept)
        if size_bytes < inode.size and kept and kept[-1].logical + kept[-1].blocks == end:
            last = (kept[-1].physical + kept[-1].blocks - 1) * block_bytes
            within = size_bytes - (end - 1) * block_bytes
            self._volume.store.zero(last + within, block_bytes - within)
        inode.size = size_bytes
        self.write_mapping(node, inode, kept, mapping.tree_blocks)

    def append_block(self, node: int, inode: Inode, mapping: Mapping) -> int:
        """Gives a folder one more block behind its last; returns where it lies."""
        volume = self._volume
        last = mapping.runs[-1]
        logical = inode.size // volume.block_bytes
        block_no = last.physical + last.blocks
        if logical != last.logical + last.blocks or block_no % volume.cluster_blocks == 0:
            block_no = self.allocator.allocate_blocks(1, last.physical)[0][0]
        inode.size += volume.block_bytes
        runs = [*mapping.runs, Run(logical, block_no, 1)]
        self.write_mapping(node, inode, runs, mapping.tree_blocks)
        return block_no

    def free_all(self, node: int, inode: Inode) -> None:
        """Gives back all blocks of a node's content; the inode is left as it is."""
        if owns_blocks(self._volume, inode):
            mapping = read_mapping(self._volume, node, inode)
            self._release(mapping.runs)
            self._release_single(mapping.tree_blocks)

    def free_single(self, block_no: int) -> None:
        """Gives a block back that has a cluster to itself."""
        self._release_single([block_no])

    def _release(self, gone: list[Run], kept: list[Run] | None = None) -> None:
        """Gives back the clusters of runs that no kept run needs; zeroes all that is gone."""
        ratio, size = self._volume.cluster_blocks, self._volume.block_bytes
        clusters = RangeSet()
        for run in gone:
            clusters.add(run.physical // ratio, -(-(run.physical + run.blocks) // ratio))
            self._zero(run.physical * size, run.blocks * size)
        for run in kept or []:
            clusters.discard(run.physical // ratio, -(-(run.physical + run.blocks) // ratio))
        for first, end in clusters:
            self.allocator.free_clusters(first * ratio, end - first)
            self._zero(first * ratio * size, (end - first) * ratio * size)

    def _release_single(self, block_nos: list[int]) -> None:
        self._release([Run(0, block_no, 1) for block_no in block_nos])

    def _zero(self, offset_bytes: int, length: int) -> None:
        if self._zero_removed:
            self._volume.store.zero(offset_bytes, length)
