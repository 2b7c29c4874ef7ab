"""Changing an XFS volume as a tree: create, replace, truncate, remove; what goes is zeroed.

Nothing goes through the log, which is empty when a volume is opened. Folders that change are kept
in memory and written by ``finish``, each once, in the smallest form that holds them; then the trees
of the groups are built anew. Times of what is changed are one fixed moment; those of folders around
it stay, because a row of edit times would be a trace itself.
"""

from __future__ import annotations

from dataclasses import dataclass

from zeroseal.blocks.store import Store
from zeroseal.errors import UnsupportedError
from zeroseal.filesystems import editing
from zeroseal.filesystems.tree import FolderEntry
from zeroseal.filesystems.xfs import layout
from zeroseal.filesystems.xfs.allocate import Allocator
from zeroseal.filesystems.xfs.attributes import read_attributes
from zeroseal.filesystems.xfs.folder_build import build_folder, build_short
from zeroseal.filesystems.xfs.folders import (
    FolderBlocks,
    Name,
    iter_names,
    parse_short,
)
from zeroseal.filesystems.xfs.forks import (
    Mapping,
    Run,
    attr_fork,
    build_fork,
    data_fork,
    extent_counts,
    map_tree_size,
    read_mapping,
    set_extent_counts,
)
from zeroseal.filesystems.xfs.layout import Inode, RemoteHeader
from zeroseal.filesystems.xfs.read import XfsTree, stamp_of
from zeroseal.filesystems.xfs.volume import Slot, XfsVolume, with_checksum
from zeroseal.messages import xfs as messages

_LABEL = b"security.selinux"
_SHORT_LABEL = b"selinux"
_LEAST_FORK_BYTES = 56  # a fork must be able to hold the root of a tree
_MOST_OPEN_FOLDERS = 4096
_MOST_LINKS = 0x7FFFFFFF


@dataclass
class OpenFolder:
    """A folder in memory; what its names are before they are written."""

    parent: int
    names: dict[bytes, Name]
    is_changed: bool = False


class XfsEditor(XfsTree):
    """An XFS volume, changed as an ``EditableTree``; see there for the methods.

    Args:
        store: the volume; all changes go to it.
        now: the moment that changed and new inodes are given, seconds since 1970.
        where: the volume's name, for messages.
        zero_removed: whether content and inodes that go are zeroed.
        volume: the opened volume of a tree that was read, if there is one.
    """

    def __init__(
        self,
        store: Store,
        now: int,
        where: str = "the volume",
        zero_removed: bool = True,
        volume: XfsVolume | None = None,
    ) -> None:
        super().__init__(store, where, volume)
        self._now, self._zero_removed = now, zero_removed
        self._allocator = Allocator(self.volume, zero_removed)
        self._open: dict[int, OpenFolder] = {}

    # -- reading what is not written yet

    def find_child(self, folder: int, name: bytes) -> FolderEntry | None:
        """The entry of that name."""
        known = self._open.get(folder)
        if known is None:
            return super().find_child(folder, name)
        found = known.names.get(name)
        return self._entry(found) if found else None

    def names_in(self, folder: int) -> list[Name]:
        """All entries but ``.`` and ``..``."""
        known = self._open.get(folder)
        return super().names_in(folder) if known is None else list(known.names.values())

    # -- making

    def create_file(
        self, folder: int, name: bytes, content: bytes, mode: int, uid: int = 0, gid: int = 0
    ) -> int:
        """Makes a file and returns its inode number."""
        node = self._create(folder, name, layout.MODE_FILE | mode, uid, gid)
        self._write_content(node, content)
        return node

    def create_folder(self, folder: int, name: bytes, mode: int, uid: int = 0, gid: int = 0) -> int:
        """Makes an empty folder and returns its inode number."""
        node = self._create(folder, name, layout.MODE_FOLDER | mode, uid, gid, links=2)
        self._open[node] = OpenFolder(folder, {}, is_changed=True)
        self._change_links(folder, +1)
        return node

    def create_link(self, folder: int, name: bytes, target: bytes) -> int:
        """Makes a symbolic link and returns its inode number."""
        if not 0 < len(target) < layout.MAX_LINK_BYTES:
            raise editing.bad_target(self, target)
        node = self._create(folder, name, layout.MODE_LINK | 0o777, 0, 0)
        slot = self.volume.read_slot(node)
        room = len(data_fork(self.volume, slot))
        if len(target) <= room:
            slot.inode.form, slot.inode.size = layout.FORM_LOCAL, len(target)
            self._write(slot, target.ljust(room, b"\0"))
            return node
        self._write_long_link(slot, target)
        return node

    def add_name(self, folder: int, name: bytes, node: int) -> None:
        """Gives a file one more name."""
        editing.check_can_be_linked(self, node)
        self._check_new(folder, name)
        slot = self.volume.read_slot(node)
        self._change_links(node, +1)
        self._add(folder, Name(name, node, self._kind_code(slot.inode)))

    # -- changing

    def replace_content(self, node: int, content: bytes) -> None:
        """Gives a file other content; owner, mode, attributes and names stay."""
        slot = self._get_file(node)
        self._drop_content(slot)
        self._write_content(node, content)

    def zero_content(self, node: int, from_byte: int) -> None:
        """Zeroes a file's content from that byte on; its blocks stay where they are.

        Raises:
            UnsupportedError: other files share the blocks.
        """
        slot = self._get_file(node)
        if slot.inode.flags2 & layout.FLAG2_REFLINK:
            raise UnsupportedError(
                messages.SHARED_BLOCKS_CANNOT_BE_ZEROED.format(where=self.volume.where)
            )
        for offset, length in self.iter_content(node, from_byte):
            self.volume.store.zero(offset, length)

    def truncate(self, node: int, size_bytes: int) -> None:
        """Cuts a file, or lets it grow by a hole."""
        slot = self._get_file(node)
        mapping, block_bytes = read_mapping(self.volume, slot), self.volume.block_bytes
        end = -(-size_bytes // block_bytes)
        kept, gone = [], []
        for run in mapping.runs:
            inside = max(0, min(run.blocks, end - run.logical))
            if inside:
                kept.append(run._replace(blocks=inside))
            if inside < run.blocks:
                gone.append(
                    Run(
                        run.logical + inside,
                        run.fsblock + inside,
                        run.blocks - inside,
                        unwritten=False,
                    )
                )
        if size_bytes < slot.inode.size and size_bytes % block_bytes:
            self._keep_tail(slot, kept, size_bytes)
        before = self._release(mapping)
        self._allocator.give_back(gone)
        slot.inode.size = size_bytes
        self._map(slot, kept, before)

    def rename(self, folder: int, name: bytes, new_name: bytes) -> None:
        """Gives an entry of a folder another name there."""
        entry = self._get_name(folder, name)
        if new_name == name:
            return
        self._check_new(folder, new_name)
        opened = self._opened(folder)
        opened.names = {
            (new_name if key == name else key): (
                entry._replace(name=new_name) if key == name else value
            )
            for key, value in opened.names.items()
        }
        opened.is_changed = True

    def remove(self, folder: int, name: bytes) -> None:
        """Removes a name; the last one takes the content with it. Folders must be empty."""
        entry = self._get_name(folder, name)
        editing.check_removable(self, self._entry(entry))
        slot = self.volume.read_slot(entry.inode)
        if slot.inode.is_folder:
            self._change_links(folder, -1)
            self._open.pop(entry.inode, None)
            slot.inode.links = 1
        opened = self._opened(folder)
        del opened.names[name]
        opened.is_changed = True
        if slot.inode.links > 1:
            self._change_links(entry.inode, -1)
            return
        self._drop_forks(slot)
        self._allocator.give_back_inode(entry.inode)

    def remove_tree(self, folder: int, name: bytes) -> int:
        """Removes a name and all beneath it; returns how many nodes went."""
        entry = self._get_name(folder, name)
        count = 0
        if self.volume.read_slot(entry.inode).inode.is_folder:
            for child in self.names_in(entry.inode):
                count += self.remove_tree(entry.inode, child.name)
        self.remove(folder, name)
        return count + 1

    def set_mode(self, node: int, mode: int) -> None:
        """Sets the permission bits."""
        slot = self.volume.read_slot(node)
        slot.inode.mode = slot.inode.type | mode & 0o7777
        self._touch(slot.inode, content=False)
        self._write(slot, data_fork(self.volume, slot))

    def set_owner(self, node: int, uid: int, gid: int) -> None:
        """Sets owner and group."""
        slot = self.volume.read_slot(node)
        slot.inode.uid, slot.inode.gid = uid, gid
        self._touch(slot.inode, content=False)
        self._write(slot, data_fork(self.volume, slot))

    def finish(self) -> None:
        """Writes the folders that changed, then the groups' trees and all counters."""
        for number, opened in self._open.items():
            if opened.is_changed:
                self._write_folder(number, opened)
        self._open.clear()
        self._allocator.finish()

    # -- names

    def _opened(self, folder: int) -> OpenFolder:
        found = self._open.get(folder)
        if found is not None:
            return found
        if len(self._open) >= _MOST_OPEN_FOLDERS:
            self.finish()
        slot = self.get_folder(folder)
        if slot.inode.form == layout.FORM_LOCAL:
            fork = data_fork(self.volume, slot)
            parent, names = parse_short(self.volume, folder, fork, slot.inode.size)
        else:
            blocks = FolderBlocks(self.volume, folder, read_mapping(self.volume, slot))
            every = [
                name
                for logical in blocks.data_numbers()
                for name in iter_names(self.volume, folder, blocks.read(logical))
            ]
            parents = [name.inode for name in every if name.name == b".."]
            if len(parents) != 1:
                raise self.volume.damaged(messages.FOLDER_NO_PARENT.format(folder=folder))
            parent, names = parents[0], [n for n in every if n.name not in (b".", b"..")]
        found = self._open[folder] = OpenFolder(parent, {name.name: name for name in names})
        return found

    def _get_name(self, folder: int, name: bytes) -> Name:
        editing.check_folder(self, folder)
        found = self._opened(folder).names.get(name)
        if found is None:
            raise editing.missing(self, name)
        return found

    def _check_new(self, folder: int, name: bytes) -> None:
        if not 0 < len(name) < 256 or b"/" in name or b"\0" in name or name in (b".", b".."):
            raise editing.bad_name(self, name)
        editing.check_new(self, folder, name)

    def _add(self, folder: int, name: Name) -> None:
        opened = self._opened(folder)
        opened.names[name.name] = name
        opened.is_changed = True

    def _write_folder(self, number: int, opened: OpenFolder) -> None:
        volume, slot = self.volume, self.get_folder(number)
        mapping = read_mapping(volume, slot)
        before = self._release(mapping)
        self._allocator.give_back(mapping.runs)
        names, room = list(opened.names.values()), len(data_fork(volume, slot))
        short = build_short(volume, opened.parent, names, room)
        if short is not None:
            slot.inode.form, slot.inode.size = layout.FORM_LOCAL, len(short)
            set_extent_counts(slot.inode, 0, extent_counts(slot.inode)[1])
            self._count_blocks(slot, Mapping([], []))
            self._write(slot, short.ljust(room, b"\0"))
            self._allocator.set_owner(number, is_attr=False, runs=[], tree=[], before=before)
            return
        built = build_folder(volume, number, opened.parent, names)
        step = volume.folder_blocks
        places = self._take(len(built.blocks) * step, number)
        runs: list[Run] = []
        for index, block in enumerate(built.blocks):
            own = places[index * step : (index + 1) * step]
            raw = block.placed(volume, own[0])
            for part, fsblock in enumerate(own):
                start = part * volume.block_bytes
                piece = raw[start : start + volume.block_bytes]
                volume.store.write(volume.offset_of(fsblock), piece)
                _extend(runs, block.logical + part, fsblock)
        slot.inode.size = built.size
        self._map(slot, runs, before, touches=False)

    # -- inodes

    def _create(
        self, folder: int, name: bytes, mode: int, uid: int, gid: int, links: int = 1
    ) -> int:
        self._check_new(folder, name)
        above = self.get_folder(folder)
        kind = layout.ENTRY_TYPES[mode & layout.MODE_TYPE] if self.volume.has_types else 0
        number = self._allocator.take_inode(self.volume.inode_place(folder)[0])
        self._add(folder, Name(name, number, kind))
        old = self.volume.read_slot(number).inode
        inode = Inode.blank(
            magic=layout.INODE_MAGIC,
            mode=mode,
            version=old.version,
            form=layout.FORM_EXTENTS,
            uid=uid,
            gid=gid,
            links=links,
            attr_form=layout.FORM_EXTENTS,
            generation=old.generation,
            next_unlinked=layout.NULL_AGINO,
            number=old.number,
            uuid=old.uuid,
            change_count=1 if self.volume.has_crc else 0,
            flags2=self._new_flags(),
        )
        if above.inode.flags & layout.FLAG_PROJECT_INHERIT:
            inode.project_lo, inode.project_hi = above.inode.project_lo, above.inode.project_hi
            inode.flags |= layout.FLAG_PROJECT_INHERIT if inode.is_folder else 0
        self._touch(inode)
        inode.accessed = inode.modified
        inode.created = inode.modified if self.volume.has_crc else 0
        attributes = self._label_fork(above, inode)
        forks = bytes(self.volume.fork_bytes - len(attributes)) + attributes
        self.volume.write_slot(number, inode, forks)
        return number

    def _new_flags(self) -> int:
        if not self.volume.has_crc:
            return 0
        incompat, flags = self.volume.superblock.incompat, 0
        if incompat & layout.INCOMPAT_BIGTIME:
            flags |= layout.FLAG2_BIGTIME
        if incompat & layout.INCOMPAT_NREXT64:
            flags |= layout.FLAG2_NREXT64
        return flags

    def _label_fork(self, above: Slot, inode: Inode) -> bytes:
        """The attribute fork of a new inode, with its folder's security label; empty for none."""
        label = next(
            (
                item.value
                for item in read_attributes(self.volume, above)
                if item.full_name == _LABEL
            ),
            b"",
        )
        entry = bytes([len(_SHORT_LABEL), len(label) & 0xFF, layout.ATTR_SECURE])
        entry += _SHORT_LABEL + label
        size = 4 + len(entry)
        offset = (self.volume.fork_bytes - size) // 8
        if not label or len(label) > 0xFF or offset * 8 < _LEAST_FORK_BYTES:
            return b""
        inode.fork_offset, inode.attr_form = offset, layout.FORM_LOCAL
        head = size.to_bytes(2, "big") + bytes([1, 0])
        return (head + entry).ljust(self.volume.fork_bytes - offset * 8, b"\0")

    def _get_file(self, node: int) -> Slot:
        slot = self.volume.read_slot(node)
        if slot.inode.type != layout.MODE_FILE:
            raise editing.not_file(self, node)
        return slot

    def _kind_code(self, inode: Inode) -> int:
        return layout.ENTRY_TYPES.get(inode.type, 0) if self.volume.has_types else 0

    def _change_links(self, node: int, by: int) -> None:
        slot = self.volume.read_slot(node)
        slot.inode.links += by
        if not 0 < slot.inode.links <= _MOST_LINKS:
            raise self.volume.damaged(
                messages.NEGATIVE_LINK_COUNT.format(node=node, links=slot.inode.links)
            )
        self._write(slot, data_fork(self.volume, slot))

    def _touch(self, inode: Inode, content: bool = True) -> None:
        stamp = stamp_of(inode, self._now)
        inode.changed = stamp
        if content:
            inode.modified = stamp

    def _write(self, slot: Slot, fork: bytes) -> None:
        """Writes an inode with another data fork; its attributes stay."""
        self.volume.write_slot(slot.number, slot.inode, fork + attr_fork(self.volume, slot))

    # -- content

    def _write_content(self, node: int, content: bytes) -> None:
        slot, volume = self._get_file(node), self.volume
        count = -(-len(content) // volume.block_bytes)
        runs: list[Run] = []
        for logical, fsblock in enumerate(self._take(count, node)):
            _extend(runs, logical, fsblock)
        for run in runs:
            start = run.logical * volume.block_bytes
            piece = content[start : start + run.blocks * volume.block_bytes]
            whole = piece.ljust(run.blocks * volume.block_bytes, b"\0")
            volume.store.write(volume.offset_of(run.fsblock), whole)
        slot.inode.size = len(content)
        slot.inode.flags &= ~layout.FLAG_PREALLOCATED
        self._map(slot, runs, set())

    def _drop_content(self, slot: Slot) -> None:
        mapping = read_mapping(self.volume, slot)
        before = self._release(mapping)
        self._allocator.give_back(mapping.runs)
        slot.inode.size = 0
        self._map(slot, [], before)

    def _drop_forks(self, slot: Slot) -> None:
        """Takes back all that an inode owns; the inode itself is not written."""
        for is_attr in (False, True):
            mapping = read_mapping(self.volume, slot, attributes=is_attr)
            before = self._release(mapping)
            self._allocator.give_back(mapping.runs)
            self._allocator.set_owner(slot.number, is_attr, [], [], before)

    def _release(self, mapping: Mapping) -> set[int]:
        """Takes back the blocks of a mapping's tree; returns the groups that the mapping is in."""
        self._allocator.give_back(Run(0, block, 1) for block in mapping.tree)
        blocks = [run.fsblock for run in mapping.runs] + mapping.tree
        return {self.volume.group_of(block)[0] for block in blocks}

    def _keep_tail(self, slot: Slot, kept: list[Run], size_bytes: int) -> None:
        """Zeroes what lies behind the new end in its block; a shared block is copied first."""
        volume, block_bytes = self.volume, self.volume.block_bytes
        last = size_bytes // block_bytes
        run = kept[-1] if kept else None
        if run is None or run.logical + run.blocks <= last or run.unwritten:
            return
        fsblock = run.fsblock + last - run.logical
        content = volume.read_block(fsblock)[: size_bytes % block_bytes].ljust(block_bytes, b"\0")
        if slot.inode.flags2 & layout.FLAG2_REFLINK:
            (copy,) = self._take(1, slot.number)
            self._allocator.give_back([Run(last, fsblock, 1)])
            kept[-1:] = [run._replace(blocks=run.blocks - 1)] if run.blocks > 1 else []
            kept.append(Run(last, copy, 1))
            fsblock = copy
        volume.store.write(volume.offset_of(fsblock), content)

    def _write_long_link(self, slot: Slot, target: bytes) -> None:
        volume = self.volume
        header = layout.REMOTE_HEADER_BYTES if volume.has_crc else 0
        places = self._take(-(-len(target) // (volume.block_bytes - header)), slot.number)
        runs: list[Run] = []
        for index, fsblock in enumerate(places):
            _extend(runs, index, fsblock)
        done = 0
        for run in runs:
            size = run.blocks * volume.block_bytes
            part = target[done : done + size - header]
            raw = part
            if volume.has_crc:
                head = RemoteHeader.blank(
                    magic=layout.LINK_MAGIC,
                    offset=done,
                    length=len(part),
                    uuid=volume.uuid,
                    owner=slot.number,
                    sector=volume.sector_of(run.fsblock),
                )
                raw = with_checksum((head.build() + part).ljust(size, b"\0"), layout.REMOTE_CRC)
            volume.store.write(volume.offset_of(run.fsblock), raw.ljust(size, b"\0"))
            done += len(part)
        slot.inode.size = len(target)
        self._map(slot, runs, set())

    def _take(self, count: int, node: int) -> list[int]:
        """Blocks for an inode, near it, one by one."""
        if not count:
            return []
        near = self.volume.inode_place(node)[0]
        return [
            first + number
            for first, length in self._allocator.take(count, near)
            for number in range(length)
        ]

    def _map(self, slot: Slot, runs: list[Run], before: set[int], touches: bool = True) -> None:
        """Writes an inode that maps other blocks than it did, with the tree that this takes."""
        room = len(data_fork(self.volume, slot))
        tree = self._take(map_tree_size(self.volume, len(runs), room), slot.number)
        slot.inode.form, fork = build_fork(self.volume, slot.number, runs, room, tree)
        set_extent_counts(slot.inode, len(runs), extent_counts(slot.inode)[1])
        self._count_blocks(slot, Mapping(runs, tree))
        if touches:
            self._touch(slot.inode)
        self._write(slot, fork)
        self._allocator.set_owner(slot.number, is_attr=False, runs=runs, tree=tree, before=before)

    def _count_blocks(self, slot: Slot, mapping: Mapping) -> None:
        attributes = read_mapping(self.volume, slot, attributes=True)
        slot.inode.blocks = mapping.block_count + attributes.block_count


def _extend(runs: list[Run], logical: int, fsblock: int) -> None:
    """Adds a block to the runs of a file, to the last run where it goes on."""
    if runs:
        last = runs[-1]
        follows = last.logical + last.blocks == logical and last.fsblock + last.blocks == fsblock
        if follows and last.blocks < layout.MAX_EXTENT_BLOCKS:
            runs[-1] = last._replace(blocks=last.blocks + 1)
            return
    runs.append(Run(logical, fsblock, 1))
