"""The consistency checker of ext volumes, written apart from the code that edits them.

It trusts nothing that the editor computed: it walks every inode in use, claims its blocks, walks
every folder, and compares what it found with bitmaps, counters, link counts and checksums. From the
other modules it takes the declarations, the reading of single structures and the checksum formulas.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

import numpy as np

from zeroseal.blocks.bitmaps import count_set
from zeroseal.blocks.checksums import crc32c
from zeroseal.blocks.store import Store
from zeroseal.errors import DamagedError, ImageError, RefusedError
from zeroseal.filesystems.ext import checksums, layout
from zeroseal.filesystems.ext.folders import RawEntry, has_tail, is_index_block, iter_entries
from zeroseal.filesystems.ext.hashing import hash_name, settings_of
from zeroseal.filesystems.ext.index import (
    NODE_ENTRIES_OFFSET,
    ROOT_ENTRIES_OFFSET,
    parse_entries,
    parse_root,
)
from zeroseal.filesystems.ext.layout import Inode
from zeroseal.filesystems.ext.mapping import Mapping, read_mapping
from zeroseal.filesystems.ext.read import owns_blocks
from zeroseal.filesystems.ext.volume import ExtVolume, parse_inode
from zeroseal.filesystems.ext.xattrs import read_xattr_block
from zeroseal.filesystems.tree import Problem

_MOST_PROBLEMS = 50


def check_volume(store: Store, where: str = "the volume") -> list[Problem]:
    """Checks a whole volume; returns what is wrong, at most fifty problems, nothing if all is well.

    Raises:
        UnsupportedError: a feature that we do not know.
    """
    try:
        checker = _Checker(ExtVolume(store, where))
    except (DamagedError, RefusedError) as error:
        return [Problem("superblock", error.message)]
    return checker.run()


class _Checker:
    def __init__(self, volume: ExtVolume) -> None:
        self._volume = volume
        superblock = volume.superblock
        self._problems: list[Problem] = []
        self._claimed = bytearray(volume.block_count)
        self._inodes: dict[int, Inode] = {}
        self._names_found: dict[int, int] = {}
        self._subfolders: dict[int, int] = {}
        self._parents: dict[int, int] = {}
        self._shared_xattrs: dict[int, int] = {}
        self._per_group = superblock.inodes_per_group
        self._has_types = bool(superblock.incompat & layout.INCOMPAT_FILETYPE)

    def run(self) -> list[Problem]:
        """Runs all passes; a pass that finds the ground gone under it ends the check."""
        passes = (
            self._claim_structures,
            self._check_inodes,
            self._check_folders,
            self._check_links,
            self._check_block_bitmaps,
            self._check_inode_bitmaps,
            self._check_totals,
            self._check_journal,
        )
        for one in passes:
            try:
                one()
            except ImageError as error:
                self._report("structure", error.message)
                break
            if len(self._problems) >= _MOST_PROBLEMS:
                break
        return self._problems[:_MOST_PROBLEMS]

    def _report(self, where: str, what: str) -> None:
        self._problems.append(Problem(where, what))

    def _claim(self, who: str, first: int, count: int) -> None:
        if first < self._volume.superblock.first_data_block or (
            first + count > self._volume.block_count
        ):
            self._report(who, f"blocks {first} to {first + count - 1} are not on the volume")
            return
        if self._claimed.find(1, first, first + count) >= 0:
            self._report(who, f"blocks {first} to {first + count - 1} belong to something else too")
        self._claimed[first : first + count] = b"\1" * count

    # -- structures of the volume itself

    def _claim_structures(self) -> None:
        volume = self._volume
        superblock = volume.superblock
        if superblock.first_data_block:
            self._claimed[0] = 1  # the boot block, before the first group
        table_blocks = -(-volume.group_count * volume.descriptor_bytes // volume.block_bytes)
        inode_blocks = self._per_group * volume.inode_bytes // volume.block_bytes
        for group in range(volume.group_count):
            base, size = volume.group_blocks(group)
            who = f"group {group}"
            if volume.has_superblock_copy(group):
                wanted = 1 + table_blocks + superblock.reserved_gdt_blocks
                self._claim(who, base, min(wanted, size))
            descriptor = volume.get_group(group)
            self._claim(who, descriptor.block_bitmap, 1)
            self._claim(who, descriptor.inode_bitmap, 1)
            self._claim(who, descriptor.inode_table, inode_blocks)

    # -- inodes and their blocks

    def _check_inodes(self) -> None:
        for group in range(self._volume.group_count):
            for inode_no, slot in self._used_slots(group):
                self._check_inode(inode_no, slot)
        for block_no, users in self._shared_xattrs.items():
            block = read_xattr_block(self._volume, block_no)
            stored = int.from_bytes(block[4:8], "little")
            if stored != users:
                self._report(
                    f"block {block_no}",
                    f"extended attributes are used {users} times, counted {stored}",
                )

    def _used_slots(self, group: int) -> Iterator[tuple[int, bytes]]:
        """Yields (inode number, slot) of inodes that hold anything, found without a bitmap."""
        volume = self._volume
        descriptor = volume.get_group(group)
        count = self._per_group
        if volume.has_group_checksums:
            if descriptor.flags & layout.GROUP_INODE_UNINIT:
                return
            count -= descriptor.unused_inodes
        size = volume.inode_bytes
        table = volume.store.read(descriptor.inode_table * volume.block_bytes, count * size)
        slots = np.frombuffer(table, dtype=np.uint8).reshape(count, size)
        links = slots[:, 0x1A].astype(np.uint16) | slots[:, 0x1B]
        for index in np.flatnonzero(links).tolist():
            yield group * self._per_group + index + 1, table[index * size : (index + 1) * size]

    def _check_inode(self, inode_no: int, slot: bytes) -> None:
        volume = self._volume
        inode = parse_inode(slot)
        who = f"inode {inode_no}"
        self._inodes[inode_no] = inode
        if volume.has_checksums:
            value = checksums.inode_checksum(volume.inode_seed(inode_no, inode), slot)
            stored = inode.checksum_lo
            if checksums.has_high_checksum(slot):
                stored |= inode.checksum_hi << 16
            else:
                value &= 0xFFFF
            if value != stored:
                self._report(who, "its checksum is wrong")
        if inode_no == layout.RESIZE_INODE:
            self._claim_resize_inode(inode)
            return
        mapping = Mapping()
        if owns_blocks(volume, inode) or inode_no == layout.BAD_BLOCKS_INODE:
            mapping = read_mapping(volume, inode_no, inode)
        for run in mapping.runs:
            self._claim(who, run.physical, run.blocks)
        for block_no in mapping.tree_blocks:
            self._claim(who, block_no, 1)
        self._check_size(who, inode, mapping)

    def _check_size(self, who: str, inode: Inode, mapping: Mapping) -> None:
        block_bytes = self._volume.block_bytes
        blocks = mapping.block_count
        if inode.xattr_block:
            blocks += 1
            if inode.xattr_block not in self._shared_xattrs:
                self._claim(who, inode.xattr_block, 1)
            users = self._shared_xattrs.get(inode.xattr_block, 0)
            self._shared_xattrs[inode.xattr_block] = users + 1
        taken = inode.sectors
        if inode.flags & layout.INODE_HUGE_FILE:
            taken *= block_bytes // 512
        if taken != blocks * (block_bytes // 512):
            self._report(who, f"it takes {blocks} blocks, but counts {taken} sectors")
        if mapping.runs and inode.is_folder:
            end = mapping.runs[-1].logical + mapping.runs[-1].blocks
            if end * block_bytes != inode.size or mapping.runs[0].logical:
                self._report(who, f"a folder of {end} blocks says {inode.size} bytes")
        if inode.is_folder and not mapping.runs:
            self._report(who, "a folder without blocks")

    def _claim_resize_inode(self, inode: Inode) -> None:
        """The resize inode's lists are the blocks kept for descriptors, claimed already."""
        block_no = int.from_bytes(inode.block[52:56], "little")
        if block_no:
            self._claim(f"inode {layout.RESIZE_INODE}", block_no, 1)

    # -- folders

    def _check_folders(self) -> None:
        for inode_no, inode in self._inodes.items():
            if inode.is_folder:
                self._check_folder(inode_no, inode)

    def _check_folder(self, folder: int, inode: Inode) -> None:
        volume = self._volume
        blocks: dict[int, bytes] = {}
        for run in read_mapping(volume, folder, inode).runs:
            content = volume.read_block(run.physical, run.blocks)
            for number in range(run.blocks):
                start = number * volume.block_bytes
                blocks[run.logical + number] = content[start : start + volume.block_bytes]
        indexed = bool(inode.flags & layout.INODE_INDEX)
        leaves: dict[int, list[RawEntry]] = {}
        seen: set[bytes] = set()
        for logical, block in blocks.items():
            entries = list(iter_entries(block, self._has_types))
            in_index = indexed and is_index_block(logical, block)
            if not in_index:
                leaves[logical] = entries
                self._check_leaf_checksum(folder, inode, block)
            if logical == 0:
                self._check_dots(folder, entries)
                entries = entries[2:]
            if not in_index:
                self._check_names(folder, entries, seen)
        if indexed:
            self._check_index(folder, inode, blocks, leaves)

    def _check_leaf_checksum(self, folder: int, inode: Inode, block: bytes) -> None:
        if not self._volume.has_checksums:
            return
        stored = int.from_bytes(block[-4:], "little")
        seed = self._volume.inode_seed(folder, inode)
        if not has_tail(block) or checksums.folder_block_checksum(seed, block) != stored:
            self._report(f"folder {folder}", "a block's checksum is wrong or missing")

    def _check_dots(self, folder: int, entries: list[RawEntry]) -> None:
        if [entry.name for entry in entries[:2]] != [b".", b".."] or entries[0].inode != folder:
            self._report(f"folder {folder}", "it does not begin with itself and its parent")
            return
        self._parents[folder] = entries[1].inode

    def _check_names(self, folder: int, entries: list[RawEntry], seen: set[bytes]) -> None:
        for entry in entries:
            if not entry.inode:
                continue
            target = self._inodes.get(entry.inode)
            if target is None:
                self._report(f"folder {folder}", f"a name leads to free inode {entry.inode}")
                continue
            if entry.name in seen or not entry.name or b"/" in entry.name:
                self._report(f"folder {folder}", "a name is there twice, or impossible")
            seen.add(entry.name)
            self._names_found[entry.inode] = self._names_found.get(entry.inode, 0) + 1
            if target.is_folder:
                self._subfolders[folder] = self._subfolders.get(folder, 0) + 1
            if self._has_types and layout.ENTRY_TYPES.get(target.type) != entry.type_code:
                self._report(f"folder {folder}", f"inode {entry.inode} is of another type")

    def _check_index(
        self,
        folder: int,
        inode: Inode,
        blocks: dict[int, bytes],
        leaves: dict[int, list[RawEntry]],
    ) -> None:
        """Every leaf hangs in the index once, and its names' hashes lie between its neighbours."""
        root = parse_root(blocks[0])
        ranges = self._index_ranges(folder, inode, blocks, 0, ROOT_ENTRIES_OFFSET, root.levels)
        bounds = [(first, block) for first, block in ranges]
        if sorted(block for _first, block in bounds) != sorted(leaves):
            self._report(f"folder {folder}", "its index does not hold every block once")
            return
        settings = settings_of(self._volume.superblock, root.hash_version)
        for number, (first, logical) in enumerate(bounds):
            beyond = bounds[number + 1][0] if number + 1 < len(bounds) else 1 << 32
            last = beyond if beyond & 1 else beyond - 1
            for entry in leaves[logical]:
                if not entry.inode:
                    continue
                value = hash_name(entry.name, settings)[0]
                if not first & ~1 <= value <= last:
                    self._report(f"folder {folder}", "a name lies in the wrong block of its index")
                    return

    def _index_ranges(
        self,
        folder: int,
        inode: Inode,
        blocks: dict[int, bytes],
        logical: int,
        offset: int,
        levels: int,
    ) -> list[tuple[int, int]]:
        """(first hash, leaf) pairs below one index block."""
        block = blocks[logical]
        if self._volume.has_checksums:
            limit = struct.unpack_from("<H", block, offset)[0]
            place = offset + limit * 8 + 4
            stored = int.from_bytes(block[place : place + 4], "little")
            seed = self._volume.inode_seed(folder, inode)
            if checksums.index_block_checksum(seed, block, offset) != stored:
                self._report(f"folder {folder}", "its index has a wrong checksum")
        found: list[tuple[int, int]] = []
        for value, child in parse_entries(block, offset):
            if child not in blocks:
                self._report(f"folder {folder}", "its index points outside of it")
                continue
            if levels == 0:
                found.append((value, child))
                continue
            below = self._index_ranges(
                folder, inode, blocks, child, NODE_ENTRIES_OFFSET, levels - 1
            )
            found += [(value, below[0][1]), *below[1:]]
        if [value for value, _child in found] != sorted(value for value, _child in found):
            self._report(f"folder {folder}", "its index is out of order")
        return found

    # -- links and reachability

    def _check_links(self) -> None:
        first = self._volume.first_inode
        for inode_no, inode in self._inodes.items():
            names = self._names_found.get(inode_no, 0)
            if inode_no == layout.ROOT_INODE:
                names += 1
            elif inode_no < first:
                continue
            who = f"inode {inode_no}"
            expected = names
            if inode.is_folder:
                expected = 2 + self._subfolders.get(inode_no, 0)
                if names != 1:
                    self._report(who, f"a folder with {names} names")
                if inode.link_count == 1:  # dir_nlink: too many to count
                    continue
            if names == 0:
                self._report(who, "it is in use, but has no name")
            elif inode.link_count != expected:
                self._report(who, f"it counts {inode.link_count} links, {expected} were found")
        self._check_reachable()

    def _check_reachable(self) -> None:
        """Every folder must lead up to the root."""
        sound = {layout.ROOT_INODE}
        for folder in self._parents:
            path = []
            while folder not in sound:
                path.append(folder)
                folder = self._parents.get(folder, 0)
                if not folder or len(path) > len(self._parents):
                    self._report(f"inode {path[0]}", "a folder that does not lead to the root")
                    break
            sound.update(path)

    # -- bitmaps and counters

    def _check_block_bitmaps(self) -> None:
        volume = self._volume
        for group in range(volume.group_count):
            base, size = volume.group_blocks(group)
            found = np.packbits(
                np.frombuffer(self._claimed, dtype=np.uint8, count=size, offset=base),
                bitorder="little",
            ).tobytes()
            descriptor = volume.get_group(group)
            free = size - count_set(found, size)
            if free != descriptor.free_blocks:
                self._report(
                    f"group {group}", f"{free} blocks are free, it counts {descriptor.free_blocks}"
                )
            if volume.has_group_checksums and descriptor.flags & layout.GROUP_BLOCK_UNINIT:
                continue
            stored = volume.read_block(descriptor.block_bitmap)
            self._check_bitmap(group, "block", found, stored, size)

    def _check_inode_bitmaps(self) -> None:
        volume = self._volume
        used: dict[int, bytearray] = {}
        folders: dict[int, int] = {}
        for inode_no, inode in self._inodes.items():
            group, index = divmod(inode_no - 1, self._per_group)
            bits = used.setdefault(group, bytearray(self._per_group // 8))
            bits[index >> 3] |= 1 << (index & 7)
            folders[group] = folders.get(group, 0) + int(inode.is_folder)
        for group in range(volume.group_count):
            found = used.get(group, bytearray(self._per_group // 8))
            if group == 0:  # reserved inodes are marked as used, whether they are or not
                for index in range(volume.first_inode - 1):
                    found[index >> 3] |= 1 << (index & 7)
            descriptor = volume.get_group(group)
            free = self._per_group - count_set(found, self._per_group)
            counted = (descriptor.free_inodes, descriptor.folders)
            if counted != (free, folders.get(group, 0)):
                self._report(f"group {group}", "its counts of free inodes or folders are wrong")
            if volume.has_group_checksums and descriptor.flags & layout.GROUP_INODE_UNINIT:
                continue
            stored = volume.read_block(descriptor.inode_bitmap)
            self._check_bitmap(group, "inode", bytes(found), stored, self._per_group)

    def _check_bitmap(self, group: int, which: str, found: bytes, stored: bytes, size: int) -> None:
        volume = self._volume
        whole, rest = divmod(size, 8)
        same = found[:whole] == stored[:whole]
        if rest:
            mask = (1 << rest) - 1
            same = same and found[whole] & mask == stored[whole] & mask
        if not same:
            self._report(f"group {group}", f"its {which} bitmap does not fit what is in use")
        if volume.has_checksums:
            covered = volume.superblock.blocks_per_group if which == "block" else self._per_group
            value = crc32c(volume.checksum_seed, stored[: covered // 8])
            descriptor = volume.get_group(group)
            low = getattr(descriptor, f"{which}_bitmap_checksum_lo")
            high = getattr(descriptor, f"{which}_bitmap_checksum_hi")
            if low != value & 0xFFFF or (volume.descriptor_bytes >= 64 and high != value >> 16):
                self._report(f"group {group}", f"its {which} bitmap's checksum is wrong")

    def _check_totals(self) -> None:
        volume = self._volume
        superblock = volume.superblock
        groups = [volume.get_group(group) for group in range(volume.group_count)]
        counted = superblock.free_blocks_lo
        if superblock.incompat & layout.INCOMPAT_64BIT:
            counted |= superblock.free_blocks_hi << 32
        if counted != sum(group.free_blocks for group in groups):
            self._report("superblock", "its count of free blocks is wrong")
        if superblock.free_inodes != sum(group.free_inodes for group in groups):
            self._report("superblock", "its count of free inodes is wrong")

    def _check_journal(self) -> None:
        superblock = self._volume.superblock
        if not superblock.compat & layout.COMPAT_HAS_JOURNAL:
            return
        inode = self._inodes.get(superblock.journal_inode)
        if inode is None:
            self._report("journal", "its inode is free")
            return
        first = read_mapping(self._volume, superblock.journal_inode, inode).runs[0]
        raw = self._volume.read_block(first.physical)[: layout.JournalSuperblock.SIZE]
        journal = layout.JournalSuperblock.parse(raw)
        if journal.magic != layout.JOURNAL_MAGIC or journal.start:
            self._report("journal", "it is damaged, or not empty")
