"""Changing an ext volume as a tree: create, replace, truncate, remove; what goes is zeroed.

Content, names and inodes that are removed are overwritten with zeros in the same step. Times of
what is changed are one fixed moment; times of the folders around it stay, because a row of edit
times would be a trace itself. Bitmaps and counters are written by ``finish``.
"""

from __future__ import annotations

from zeroseal.blocks.store import Store
from zeroseal.filesystems.ext import layout
from zeroseal.filesystems.ext.allocate import Allocator
from zeroseal.filesystems.ext.checksums import folder_block_checksum, xattr_block_checksum
from zeroseal.filesystems.ext.folders import (
    check_name,
    empty_block,
    has_tail,
    insert_entry,
    is_index_block,
    pack_entry,
    remove_entry,
)
from zeroseal.filesystems.ext.hashing import hash_name, settings_of
from zeroseal.filesystems.ext.index import FolderShape, Name, build_index, find_leaf, parse_root
from zeroseal.filesystems.ext.layout import Inode, XattrBlockHeader
from zeroseal.filesystems.ext.mapping import Mapping, Run, read_mapping
from zeroseal.filesystems.ext.mapping_edit import write_block_list, write_extents
from zeroseal.filesystems.ext.read import ExtTree, owns_blocks
from zeroseal.filesystems.ext.xattrs import read_xattr_block

_MAX_FOLDER_LINKS = 65000
_DEFAULT_EXTRA_ISIZE = 32
_LARGE_FILE_BYTES = 1 << 31


class ExtEditor(ExtTree):
    """An ext volume, changed as an ``EditableTree``; see there for the methods.

    Args:
        store: the volume; all changes go to it.
        now: the moment that changed and new inodes are given, seconds since 1970.
        where: the volume's name, for messages.
        zero_removed: whether content and inodes that go are zeroed; without it they stay behind as
            a kernel leaves them.

    Raises:
        UnsupportedError: it has a feature that we can read but not change.
    """

    def __init__(
        self, store: Store, now: int, where: str = "the volume", zero_removed: bool = True
    ) -> None:
        super().__init__(store, where)
        self.volume.check_editable()
        self._now = now
        self._zero_removed = zero_removed
        self._allocator = Allocator(self.volume)

    def create_file(
        self, folder: int, name: bytes, content: bytes, mode: int, uid: int = 0, gid: int = 0
    ) -> int:
        """Makes a file and returns its inode number."""
        node = self._create(folder, name, layout.MODE_FILE | mode, uid, gid)
        self.replace_content(node, content)
        return node

    def create_folder(self, folder: int, name: bytes, mode: int, uid: int = 0, gid: int = 0) -> int:
        """Makes an empty folder and returns its inode number."""
        node = self._create(folder, name, layout.MODE_FOLDER | mode, uid, gid, links=2)
        inode = self.volume.read_inode(node)
        size = self.volume.block_bytes
        code = layout.ENTRY_TYPES[layout.MODE_FOLDER] if self._has_types else 0
        block = empty_block(size, self.volume.has_checksums)
        end = size - (layout.TAIL_BYTES if self.volume.has_checksums else 0)
        block[:12] = pack_entry(node, 12, b".", code, size)
        block[12:end] = pack_entry(folder, end - 12, b"..", code, size)
        self._replace_blocks(node, inode, Mapping(), [bytes(block)])
        self._write_leaf(
            node, inode, read_mapping(self.volume, node, inode).runs[0].physical, block
        )
        self._change_links(folder, +1)
        return node

    def create_link(self, folder: int, name: bytes, target: bytes) -> int:
        """Makes a symbolic link and returns its inode number."""
        if not 0 < len(target) < self.volume.block_bytes:
            raise ValueError(f"{target!r} cannot be a link's target")
        node = self._create(folder, name, layout.MODE_LINK | 0o777, 0, 0)
        if len(target) >= 60:
            self.replace_content(node, target)
            return node
        inode = self.volume.read_inode(node)
        inode.flags &= ~layout.INODE_EXTENTS
        inode.block = target.ljust(60, b"\0")
        inode.size = len(target)
        self.volume.write_inode(node, inode)
        return node

    def add_name(self, folder: int, name: bytes, node: int) -> None:
        """Gives a file one more name."""
        inode = self._get_inode(node)
        if inode.is_folder:
            raise ValueError("a folder cannot have a second name")
        self._insert_name(folder, Name(name, node, layout.ENTRY_TYPES[inode.type]))
        self._change_links(node, +1)

    def replace_content(self, node: int, content: bytes) -> None:
        """Gives a file other content; what it had is zeroed."""
        inode = self._get_inode(node)
        mapping = read_mapping(self.volume, node, inode)
        size = self.volume.block_bytes
        blocks = [
            content[start : start + size].ljust(size, b"\0")
            for start in range(0, len(content), size)
        ]
        inode.size = len(content)
        self._touch(inode)
        self._replace_blocks(node, inode, mapping, blocks)

    def truncate(self, node: int, size_bytes: int) -> None:
        """Cuts a file, zeroing what goes, or lets it grow by a hole."""
        inode = self._get_inode(node)
        block_bytes = self.volume.block_bytes
        end = -(-size_bytes // block_bytes)
        mapping = read_mapping(self.volume, node, inode)
        kept: list[Run] = []
        for run in mapping.runs:
            keep = max(0, min(run.blocks, end - run.logical))
            if keep:
                kept.append(run._replace(blocks=keep))
            if keep < run.blocks:
                self._free(run.physical + keep, run.blocks - keep)
        if size_bytes < inode.size and kept and kept[-1].logical + kept[-1].blocks == end:
            last = (kept[-1].physical + kept[-1].blocks - 1) * block_bytes
            within = size_bytes - (end - 1) * block_bytes
            self.volume.store.zero(last + within, block_bytes - within)
        inode.size = size_bytes
        self._touch(inode)
        self._write_mapping(node, inode, kept, mapping.tree_blocks)

    def remove(self, folder: int, name: bytes) -> None:
        """Removes a name; the last one takes the content with it."""
        node = self._get_child(folder, name)
        if self._get_inode(node).is_folder and self.list_folder(node):
            raise ValueError(f"folder {name!r} is not empty")
        self.remove_tree(folder, name)

    def remove_tree(self, folder: int, name: bytes) -> int:
        """Removes a name and all beneath it; returns how many names went."""
        top = self._get_child(folder, name)
        self._remove_name(folder, name)
        if self._get_inode(top).is_folder:
            self._change_links(folder, -1)
        removed, pending, seen = 0, [top], set()
        while pending:
            node = pending.pop()
            inode = self._get_inode(node)
            if inode.is_folder:
                if node in seen:
                    raise self.volume.damaged(f"folder {node} is inside itself")
                seen.add(node)
                pending += [entry.node for entry in self.list_folder(node)]
            removed += 1
            if inode.is_folder or inode.link_count <= 1:
                self._free_inode(node, inode)
            else:
                self._change_links(node, -1)
        return removed

    def set_mode(self, node: int, mode: int) -> None:
        """Sets the permission bits."""
        inode = self._get_inode(node)
        inode.mode = inode.type | (mode & 0o7777)
        self._touch(inode, modified=False)
        self.volume.write_inode(node, inode)

    def set_owner(self, node: int, uid: int, gid: int) -> None:
        """Sets owner and group."""
        inode = self._get_inode(node)
        _set_owner(inode, uid, gid)
        self._touch(inode, modified=False)
        self.volume.write_inode(node, inode)

    def finish(self) -> None:
        """Brings bitmaps and counters to the store."""
        self._allocator.flush()

    def _create(
        self, folder: int, name: bytes, mode: int, uid: int, gid: int, links: int = 1
    ) -> int:
        check_name(name)
        volume = self.volume
        is_folder = mode & layout.MODE_TYPE_MASK == layout.MODE_FOLDER
        near = (folder - 1) // volume.superblock.inodes_per_group
        node = self._allocator.allocate_inode(near, is_folder)
        uses_extents = bool(volume.superblock.incompat & layout.INCOMPAT_EXTENTS)
        inode = Inode.blank(
            mode=mode,
            link_count=links,
            flags=layout.INODE_EXTENTS if uses_extents else 0,
            generation=(self._now * 2654435761 + node) & 0xFFFFFFFF,
            created_at=self._now & 0xFFFFFFFF,
        )
        if volume.inode_bytes > layout.INODE_BASE_BYTES:
            inode.extra_isize = volume.superblock.want_extra_isize or _DEFAULT_EXTRA_ISIZE
        _set_owner(inode, uid, gid)
        self._touch(inode)
        inode.accessed_at = inode.changed_at
        if uses_extents:
            write_extents(volume, 0, inode, [], lambda: 0)
        volume.write_inode(node, inode)
        type_code = layout.ENTRY_TYPES[mode & layout.MODE_TYPE_MASK]
        self._insert_name(folder, Name(name, node, type_code))
        return node

    def _get_child(self, folder: int, name: bytes) -> int:
        entry = self.find_child(folder, name)
        if entry is None:
            raise ValueError(f"folder {folder} has no entry {name!r}")
        return entry.node

    def _touch(self, inode: Inode, modified: bool = True) -> None:
        """Gives an inode our one time; a short inode has attributes where the rest would be."""
        inode.changed_at = self._now & 0xFFFFFFFF
        if inode.has_extra_times:
            inode.changed_extra = self._now >> 32
        if modified:
            inode.modified_at = self._now & 0xFFFFFFFF
            if inode.has_extra_times:
                inode.modified_extra = self._now >> 32

    def _change_links(self, node: int, difference: int) -> None:
        inode = self.volume.read_inode(node)
        uncounted = inode.is_folder and inode.link_count == 1  # dir_nlink: too many to count
        if not uncounted:
            inode.link_count += difference
            if inode.is_folder and inode.link_count >= _MAX_FOLDER_LINKS:
                inode.link_count = 1
            self.volume.write_inode(node, inode)

    def _insert_name(self, folder: int, item: Name) -> None:
        check_name(item.name)
        if self.find_child(folder, item.name):
            raise ValueError(f"folder {folder} has an entry {item.name!r} already")
        inode = self._get_inode(folder)
        mapping = read_mapping(self.volume, folder, inode)
        if inode.flags & layout.INODE_INDEX:
            fitted = self._insert_indexed(folder, inode, mapping, item)
        else:
            fitted = self._insert_anywhere(folder, inode, mapping, item)
        if fitted:
            return
        if inode.flags & layout.INODE_INDEX or (
            self.volume.superblock.compat & layout.COMPAT_DIR_INDEX
        ):
            self._rebuild_index(folder, inode, mapping, item)
        else:
            self._append_leaf(folder, inode, mapping, item)

    def _insert_anywhere(self, folder: int, inode: Inode, mapping: Mapping, item: Name) -> bool:
        return any(
            self._insert_into(folder, inode, run.physical + number, item)
            for run in reversed(mapping.runs)
            for number in range(run.blocks)
        )

    def _insert_indexed(self, folder: int, inode: Inode, mapping: Mapping, item: Name) -> bool:
        def read_logical(logical: int) -> bytes:
            return self.volume.read_block(self._physical(folder, mapping, logical))

        root = parse_root(read_logical(0))
        settings = settings_of(self.volume.superblock, root.hash_version)
        leaf = find_leaf(read_logical, hash_name(item.name, settings)[0])
        return self._insert_into(folder, inode, self._physical(folder, mapping, leaf), item)

    def _physical(self, folder: int, mapping: Mapping, logical: int) -> int:
        for run in mapping.runs:
            if run.logical <= logical < run.logical + run.blocks:
                return run.physical + logical - run.logical
        raise self.volume.damaged(f"the index of folder {folder} points outside of it")

    def _insert_into(self, folder: int, inode: Inode, block_no: int, item: Name) -> bool:
        block = bytearray(self.volume.read_block(block_no))
        code = item.type_code if self._has_types else 0
        if not insert_entry(block, item.inode, item.name, code, self._has_types):
            return False
        self._write_leaf(folder, inode, block_no, block)
        return True

    def _append_leaf(self, folder: int, inode: Inode, mapping: Mapping, item: Name) -> None:
        block = empty_block(self.volume.block_bytes, self.volume.has_checksums)
        code = item.type_code if self._has_types else 0
        insert_entry(block, item.inode, item.name, code, self._has_types)
        block_no = self._allocator.allocate_blocks(1, mapping.runs[-1].physical)[0][0]
        logical = inode.size // self.volume.block_bytes
        inode.size += self.volume.block_bytes
        runs = [*mapping.runs, Run(logical, block_no, 1)]
        self._write_mapping(folder, inode, runs, mapping.tree_blocks)
        self._write_leaf(folder, inode, block_no, block)

    def _rebuild_index(self, folder: int, inode: Inode, mapping: Mapping, item: Name) -> None:
        """Lays all names of a folder out anew, in as many blocks as that takes."""
        names, parent = [item], folder
        for logical, _block_no, block in self._iter_folder_blocks(folder):
            for entry in self._entries(folder, block):
                if entry.name == b"..":
                    parent = entry.inode
                elif entry.inode and entry.name != b".":
                    names.append(Name(entry.name, entry.inode, entry.type_code))
            if logical == 0 and inode.flags & layout.INODE_INDEX:
                version = parse_root(block).hash_version
            elif logical == 0:
                version = self.volume.superblock.default_hash
        volume = self.volume
        own_seed = volume.inode_seed(folder, inode) if volume.has_checksums else None
        shape = FolderShape(volume.block_bytes, self._has_types, own_seed)
        settings = settings_of(volume.superblock, version)
        blocks = build_index(names, folder, parent, settings, shape)
        inode.flags |= layout.INODE_INDEX
        self._replace_blocks(folder, inode, mapping, blocks)

    def _remove_name(self, folder: int, name: bytes) -> None:
        inode = self._get_inode(folder)
        is_indexed = bool(inode.flags & layout.INODE_INDEX)
        for logical, block_no, content in self._iter_folder_blocks(folder, holding=name):
            if is_indexed and is_index_block(logical, content):
                continue
            for entry in self._entries(folder, content):
                if entry.inode and entry.name == name:
                    block = bytearray(content)
                    remove_entry(block, entry.offset, self._has_types)
                    self._write_leaf(folder, inode, block_no, block)
                    return

    def _write_leaf(self, folder: int, inode: Inode, block_no: int, block: bytearray) -> None:
        if self.volume.has_checksums and has_tail(block):
            seed = self.volume.inode_seed(folder, inode)
            block[-4:] = folder_block_checksum(seed, bytes(block)).to_bytes(4, "little")
        self.volume.write_block(block_no, bytes(block))

    def _replace_blocks(
        self, node: int, inode: Inode, mapping: Mapping, blocks: list[bytes]
    ) -> None:
        """Gives a node these blocks instead of those of ``mapping``, and writes the inode."""
        for run in mapping.runs:
            self._free(run.physical, run.blocks)
        runs, logical = [], 0
        if blocks:
            near = self.volume.group_blocks((node - 1) // self.volume.superblock.inodes_per_group)
            for first, count in self._allocator.allocate_blocks(len(blocks), near[0]):
                self.volume.write_block(first, b"".join(blocks[logical : logical + count]))
                runs.append(Run(logical, first, count))
                logical += count
        if inode.is_folder:
            inode.size = len(blocks) * self.volume.block_bytes
        self._write_mapping(node, inode, runs, mapping.tree_blocks)

    def _write_mapping(
        self, node: int, inode: Inode, runs: list[Run], old_tree_blocks: list[int]
    ) -> None:
        for block_no in old_tree_blocks:
            self._free(block_no, 1)
        volume = self.volume
        near = runs[0].physical if runs else volume.superblock.first_data_block

        def take_block() -> int:
            return self._allocator.allocate_blocks(1, near)[0][0]

        if inode.flags & layout.INODE_EXTENTS:
            own_seed = volume.inode_seed(node, inode)
            taken = write_extents(volume, own_seed, inode, runs, take_block)
        else:
            taken = write_block_list(volume, inode, runs, take_block)
        blocks = sum(run.blocks for run in runs) + taken + (1 if inode.xattr_block else 0)
        in_blocks = inode.flags & layout.INODE_HUGE_FILE
        inode.sectors = blocks if in_blocks else blocks * (volume.block_bytes // 512)
        if inode.size >= _LARGE_FILE_BYTES and not inode.is_folder:
            volume.superblock.ro_compat |= layout.RO_LARGE_FILE
        volume.write_inode(node, inode)

    def _free_inode(self, node: int, inode: Inode) -> None:
        if owns_blocks(self.volume, inode):
            mapping = read_mapping(self.volume, node, inode)
            for run in mapping.runs:
                self._free(run.physical, run.blocks)
            for block_no in mapping.tree_blocks:
                self._free(block_no, 1)
        if inode.xattr_block:
            self._release_xattr_block(inode.xattr_block)
        self._allocator.free_inode(node, inode.is_folder, self._zero_removed)
        if not self._zero_removed:
            inode.link_count, inode.deleted_at = 0, self._now & 0xFFFFFFFF
            self.volume.write_inode(node, inode)

    def _release_xattr_block(self, block_no: int) -> None:
        block = read_xattr_block(self.volume, block_no)
        header = XattrBlockHeader.parse(block[: XattrBlockHeader.SIZE])
        if header.reference_count <= 1:
            self._free(block_no, 1)
            return
        header.reference_count -= 1
        block = header.build() + block[XattrBlockHeader.SIZE :]
        if self.volume.has_checksums:
            seed = self.volume.checksum_seed
            header.checksum = xattr_block_checksum(seed, block_no, block)
            block = header.build() + block[XattrBlockHeader.SIZE :]
        self.volume.write_block(block_no, block)

    def _free(self, first: int, count: int) -> None:
        """Gives blocks back and zeroes them."""
        self._allocator.free_blocks(first, count)
        if self._zero_removed:
            size = self.volume.block_bytes
            self.volume.store.zero(first * size, count * size)


def _set_owner(inode: Inode, uid: int, gid: int) -> None:
    inode.uid_hi, inode.uid_lo = uid >> 16, uid & 0xFFFF
    inode.gid_hi, inode.gid_lo = gid >> 16, gid & 0xFFFF
