"""The checker's pass over all folders: entries, indexes, links, and the way up to the root."""

from __future__ import annotations

import struct
from dataclasses import dataclass, field

import numpy as np

from zeroseal.blocks.row_types import row_type
from zeroseal.errors import UnsupportedError
from zeroseal.filesystems.ext import checksums, layout
from zeroseal.filesystems.ext.check_claims import Claims
from zeroseal.filesystems.ext.check_inodes import InodePass, Report
from zeroseal.filesystems.ext.folders import RawEntry, has_tail, iter_entries
from zeroseal.filesystems.ext.hashing import HashSettings, fold_case, hash_names, settings_of
from zeroseal.filesystems.ext.index import (
    NODE_ENTRIES_OFFSET,
    ROOT_ENTRIES_OFFSET,
    most_levels,
    parse_entries,
    parse_root,
)
from zeroseal.filesystems.ext.layout import Inode
from zeroseal.filesystems.ext.mapping import read_mapping
from zeroseal.filesystems.ext.rows import read_inode_table
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.filesystems.ext.xattrs import read_inline_data
from zeroseal.messages import ext as messages


@dataclass
class _Index:
    """A walked index: its own blocks, and (first hash, leaf) pairs in order; empty for none."""

    nodes: set[int] = field(default_factory=set)
    bounds: list[tuple[int, int]] = field(default_factory=list)
    hash_version: int = 0


class FolderPass:
    """Walks every folder, then compares link counts with the names that were found."""

    def __init__(self, volume: ExtVolume, inodes: InodePass, report: Report) -> None:
        self._volume = volume
        self._types = inodes.types
        self._links = inodes.links
        self._values = inodes.value_references
        self._report = report
        self._has_types = bool(volume.superblock.incompat & layout.INCOMPAT_FILETYPE)
        self._names_found: dict[int, int] = {}
        self._subfolders: dict[int, int] = {}
        self._parents: dict[int, int] = {}

    def has_leaf_without_sum(self, folder: int) -> bool:
        """Whether an indexed folder has a block of names that ends in no checksum."""
        inode = self._volume.read_inode(folder)
        blocks = self._read_blocks(folder, inode)
        index, seed = _Index(), self._volume.inode_seed(folder, inode)
        levels = parse_root(blocks[0]).levels if blocks else most_levels(self._volume)
        if levels >= most_levels(self._volume):
            return False  # damage that the whole check reports
        self._walk_index(folder, seed, blocks, (0, ROOT_ENTRIES_OFFSET, levels), index)
        return any(not has_tail(blocks[leaf]) for _first, leaf in index.bounds)

    def run(self) -> None:
        """Looks at all folders, then at links and reachability."""
        for number, kind in self._types.items():
            if kind == layout.MODE_FOLDER:
                self._check_folder(number, self._volume.read_inode(number))
        self._check_links()
        self._check_reachable()

    def _check_folder(self, folder: int, inode: Inode) -> None:
        if inode.is_inline:
            self._check_inline(folder, inode)
            return
        blocks = self._read_blocks(folder, inode)
        seed = self._volume.inode_seed(folder, inode)
        # what belongs to the index is told by walking it: an empty leaf may look like a node
        index = _Index()
        if inode.flags & layout.INODE_INDEX and blocks:
            root = parse_root(blocks[0])
            if root.levels >= most_levels(self._volume):
                self._report(f"folder {folder}", messages.INDEX_TOO_MANY_LEVELS)
                return
            self._walk_index(folder, seed, blocks, (0, ROOT_ENTRIES_OFFSET, root.levels), index)
            index.hash_version = root.hash_version
        leaves: dict[int, list[RawEntry]] = {}
        seen: set[bytes] = set()
        for logical, block in blocks.items():
            entries = list(iter_entries(block, self._has_types))
            if logical not in index.nodes:
                leaves[logical] = entries
                self._check_leaf_checksum(folder, seed, block)
            if logical == 0:
                self._check_dots(folder, entries)
                entries = entries[2:]
            if logical not in index.nodes:
                self._check_names(folder, entries, seen)
        if index.nodes:
            self._check_index(folder, inode, index, leaves)

    def _check_inline(self, folder: int, inode: Inode) -> None:
        """A folder whose names lie in its inode."""
        head, rest = read_inline_data(self._volume, folder, inode)
        if inode.size != len(head) + len(rest):
            self._report(
                f"folder {folder}",
                messages.FOLDER_STORED_IN_INODE.format(head=len(head) + len(rest)),
            )
        self._parents[folder] = int.from_bytes(head[: layout.INLINE_PARENT_BYTES], "little")
        seen: set[bytes] = set()
        for part in (head[layout.INLINE_PARENT_BYTES :], rest):
            self._check_names(folder, list(iter_entries(part, self._has_types)), seen)

    def _read_blocks(self, folder: int, inode: Inode) -> dict[int, bytes]:
        size = self._volume.block_bytes
        blocks: dict[int, bytes] = {}
        for run in read_mapping(self._volume, folder, inode).runs:
            content = self._volume.read_block(run.physical, run.blocks)
            for number in range(run.blocks):
                blocks[run.logical + number] = content[number * size : (number + 1) * size]
        if not blocks or list(blocks) != list(range(len(blocks))):
            self._report(f"folder {folder}", messages.NO_BLOCKS_OR_HOLES)
        elif len(blocks) * size != inode.size:
            self._report(
                f"folder {folder}",
                messages.SIZE_DOES_NOT_MATCH_BLOCKS.format(blocks=len(blocks), size=inode.size),
            )
        return blocks

    def _check_leaf_checksum(self, folder: int, seed: int, block: bytes) -> None:
        if not self._volume.has_checksums:
            return
        stored = int.from_bytes(block[-4:], "little")
        if not has_tail(block) or checksums.folder_block_checksum(seed, block) != stored:
            self._report(f"folder {folder}", messages.BLOCK_CHECKSUM_WRONG_OR_MISSING)

    def _check_dots(self, folder: int, entries: list[RawEntry]) -> None:
        if [entry.name for entry in entries[:2]] != [b".", b".."] or entries[0].inode != folder:
            self._report(f"folder {folder}", messages.FIRST_ENTRIES_WRONG)
            return
        self._parents[folder] = entries[1].inode

    def _check_names(self, folder: int, entries: list[RawEntry], seen: set[bytes]) -> None:
        for _offset, inode, _length, name, type_code in entries:
            if not inode:
                continue
            kind = self._types.get(inode)
            if kind is None:
                self._report(
                    f"folder {folder}", messages.NAME_REFERS_TO_FREE_INODE.format(inode=inode)
                )
                continue
            if name in seen or not name or b"/" in name:
                self._report(f"folder {folder}", messages.NAME_INVALID_OR_OCCURS_TWICE)
            seen.add(name)
            self._names_found[inode] = self._names_found.get(inode, 0) + 1
            if kind == layout.MODE_FOLDER:
                self._subfolders[folder] = self._subfolders.get(folder, 0) + 1
            if self._has_types and layout.ENTRY_TYPES.get(kind) != type_code:
                self._report(
                    f"folder {folder}", messages.ENTRY_FOR_INODE_WRONG_TYPE.format(inode=inode)
                )

    def _check_index(
        self, folder: int, inode: Inode, index: _Index, leaves: dict[int, list[RawEntry]]
    ) -> None:
        """Every leaf hangs in the index once, and its names' hashes lie between its neighbours."""
        if sorted(block for _first, block in index.bounds) != sorted(leaves):
            self._report(f"folder {folder}", messages.INDEX_INCOMPLETE)
            return
        hashes = [value for value, _leaf in index.bounds]
        if hashes != sorted(hashes):
            self._report(f"folder {folder}", messages.INDEX_OUT_OF_ORDER)
        settings = settings_of(self._volume.superblock, index.hash_version, inode)
        placed: list[tuple[bytes, int, int]] = []
        for number, (first, logical) in enumerate(index.bounds):
            beyond = hashes[number + 1] if number + 1 < len(hashes) else 1 << 32
            last = beyond if beyond & 1 else beyond - 1
            names = [entry.name for entry in leaves[logical] if entry.inode]
            placed += [(name, first & ~1, last) for name in names if _can_hash(name, settings)]
        values = hash_names([name for name, _first, _last in placed], settings)
        for (_name, first, last), (major, _minor) in zip(placed, values, strict=True):
            if not first <= major <= last:
                self._report(f"folder {folder}", messages.NAME_IN_WRONG_BLOCK_OF_INDEX)
                return

    def _walk_index(
        self,
        folder: int,
        seed: int,
        blocks: dict[int, bytes],
        place: tuple[int, int, int],
        index: _Index,
        first_hash: int = 0,
    ) -> None:
        """Collects nodes and leaves below ``place``: (block, offset of its entries, levels)."""
        logical, offset, levels = place
        block = blocks[logical]
        index.nodes.add(logical)
        if self._volume.has_checksums:
            limit = struct.unpack_from("<H", block, offset)[0]
            tail = offset + limit * 8 + 4
            stored = int.from_bytes(block[tail : tail + 4], "little")
            if checksums.index_block_checksum(seed, block, offset) != stored:
                self._report(f"folder {folder}", messages.CHECKSUM_OF_INDEX_WRONG)
        for number, (value, child) in enumerate(parse_entries(block, offset)):
            value = value if number else first_hash
            if child not in blocks or child in index.nodes:
                self._report(f"folder {folder}", messages.INDEX_LEAVES_FOLDER_OR_LOOPS)
            elif levels:
                below = (child, NODE_ENTRIES_OFFSET, levels - 1)
                self._walk_index(folder, seed, blocks, below, index, value)
            else:
                index.bounds.append((value, child))

    def _check_links(self) -> None:
        first = self._volume.first_inode
        superblock = self._volume.superblock
        nameless = (superblock.orphan_file_inode, superblock.project_quota_inode)
        for number, link_count in self._links.items():
            names = self._names_found.get(number, 0)
            if number == layout.ROOT_INODE:
                names += 1
            elif number < first or number in nameless or number in self._values:
                continue
            expected = names
            if self._types[number] == layout.MODE_FOLDER:
                expected = 2 + self._subfolders.get(number, 0)
                if names != 1:
                    self._report(
                        f"inode {number}", messages.FOLDER_HAS_SEVERAL_NAMES.format(names=names)
                    )
                if link_count == 1:  # dir_nlink: too many to count
                    continue
            if names == 0:
                self._report(f"inode {number}", messages.IN_USE_WITHOUT_NAME)
            elif link_count != expected:
                self._report(
                    f"inode {number}",
                    messages.LINK_COUNT_WRONG.format(link_count=link_count, expected=expected),
                )

    def _check_reachable(self) -> None:
        """Every folder must lead up to the root."""
        sound = {layout.ROOT_INODE}
        for start in self._parents:
            path, folder = [], start
            while folder not in sound:
                path.append(folder)
                folder = self._parents.get(folder, 0)
                if not folder or len(path) > len(self._parents):
                    self._report(f"inode {start}", messages.FOLDER_CANNOT_BE_REACHED_FROM_ROOT)
                    break
            sound.update(path)


def _can_hash(name: bytes, settings: HashSettings) -> bool:
    """Whether we know how the kernel folds a name's case."""
    if not settings.folds_case:
        return True
    try:
        fold_case(name)
    except UnsupportedError:
        return False
    return True


def find_folders_without_sums(volume: ExtVolume) -> list[int]:
    """Indexed folders with emptied blocks that lack the checksum which the kernel wants there.

    ``tune2fs -O metadata_csum`` leaves such blocks; e2fsck is content, and the kernel is not when a
    name is to go into one.
    """
    if not volume.has_checksums:
        return []
    claims = Claims(volume.superblock.first_data_block, volume.block_count, volume.cluster_blocks)
    folders = FolderPass(volume, InodePass(volume, claims, _no_report), _no_report)
    row = row_type({"mode": (0x0, "<u2"), "links": (0x1A, "<u2"), "flags": (0x20, "<u4")},
                     volume.inode_bytes)  # fmt: skip
    found = []
    for group in range(volume.group_count):
        rows = np.frombuffer(read_inode_table(volume, group), dtype=row)
        is_folder = (rows["mode"] & layout.MODE_TYPE_MASK) == layout.MODE_FOLDER
        is_indexed = is_folder & (rows["links"] > 0) & (rows["flags"] & layout.INODE_INDEX > 0)
        first = group * volume.superblock.inodes_per_group + 1
        numbers = [first + index for index in np.flatnonzero(is_indexed).tolist()]
        found += [number for number in numbers if folders.has_leaf_without_sum(number)]
    return found


def _no_report(_where: str, _what: str) -> None:
    """What else is wrong is for the whole check to say."""
