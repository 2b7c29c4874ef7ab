"""The checker's look at folders: names, leaves, free room, and how often each inode is named."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

from zeroseal.errors import ImageError
from zeroseal.filesystems.tree import Problem
from zeroseal.filesystems.xfs import layout
from zeroseal.filesystems.xfs.folders import (
    FolderBlocks,
    Name,
    check_leaf,
    data_end,
    hash_name,
    iter_regions,
    name_at,
    node_entries,
    parse_short,
    read_leaf,
)
from zeroseal.filesystems.xfs.forks import data_fork, read_mapping
from zeroseal.filesystems.xfs.rows import InodeRows
from zeroseal.filesystems.xfs.volume import Slot, XfsVolume, passes
from zeroseal.messages import xfs as messages

_TYPES = {code: mode for mode, code in layout.ENTRY_TYPES.items()}


class FolderPass:
    """Notes all inodes in use first, then looks at the folders among them."""

    def __init__(self, volume: XfsVolume) -> None:
        self._volume = volume
        self._types: dict[int, int] = {}
        self._links: dict[int, int] = {}
        self._named: Counter[int] = Counter()
        superblock = volume.superblock
        self._nameless = {
            superblock.bitmap_inode,
            superblock.summary_inode,
            superblock.user_quota_inode,
            superblock.group_quota_inode,
            superblock.project_quota_inode,
        }

    def note(self, number: int, raw: bytes) -> None:
        """Notes an inode in use."""
        inode = self._volume.parse_core(raw)
        self._types[number], self._links[number] = inode.type, inode.links

    def note_all(self, rows: InodeRows) -> None:
        """Notes those of a table that are in use."""
        used = ~rows.is_free
        numbers = rows.numbers[used].tolist()
        kinds = (rows.mode[used] & layout.MODE_TYPE).tolist()
        self._types.update(zip(numbers, kinds, strict=True))
        self._links.update(zip(numbers, rows.links[used].tolist(), strict=True))

    def check(self) -> Iterator[Problem]:
        """Yields what is wrong with names and link counts."""
        root = self._volume.superblock.root_inode
        parents: dict[int, int] = {root: root}
        stated: dict[int, int] = {}
        for number in [n for n, kind in self._types.items() if kind == layout.MODE_FOLDER]:
            try:
                parent, names, problems = self._read(number)
            except ImageError as error:
                yield Problem(f"folder {number}", error.message)
                continue
            yield from (Problem(f"folder {number}", what) for what in problems)
            stated[number] = parent
            yield from self._check_names(number, names, parents)
        for number, parent in stated.items():
            if parents.get(number) != parent:
                yield Problem(f"folder {number}", messages.PARENT_ENTRY_DOES_NOT_MATCH_FOLDER)
        yield from self._check_links(parents)

    def _check_names(
        self, number: int, names: list[Name], parents: dict[int, int]
    ) -> Iterator[Problem]:
        if len({name.name for name in names}) != len(names):
            yield Problem(f"folder {number}", messages.NAME_OCCURS_TWICE)
        for name in names:
            kind = self._types.get(name.inode)
            self._named[name.inode] += 1
            if kind is None:
                yield Problem(
                    f"folder {number}", messages.REFERS_TO_FREE_INODE.format(name=name.name)
                )
            elif self._volume.has_types and _TYPES.get(name.kind) != kind:
                yield Problem(f"folder {number}", messages.WRONG_FILE_TYPE.format(name=name.name))
            if kind == layout.MODE_FOLDER:
                if name.inode in parents:
                    yield Problem(
                        f"folder {number}", messages.NAME_IN_TWO_FOLDERS.format(name=name.name)
                    )
                parents[name.inode] = number
                self._named[number] += 1

    def _check_links(self, parents: dict[int, int]) -> Iterator[Problem]:
        root = self._volume.superblock.root_inode
        for number, kind in self._types.items():
            expected = self._named[number] + (kind == layout.MODE_FOLDER) + (number == root)
            if number in self._nameless:
                continue
            if self._links[number] != expected:
                what = f"it counts {self._links[number]} names but has {expected}"
                yield Problem(f"inode {number}", what)

    # -- one folder

    def _read(self, number: int) -> tuple[int, list[Name], list[str]]:
        """(parent, entries but its own two, what is wrong)."""
        volume = self._volume
        slot = volume.read_slot(number)
        if slot.inode.form == layout.FORM_LOCAL:
            fork = data_fork(volume, slot)
            return (*parse_short(volume, number, fork, slot.inode.size), [])
        return self._read_blocks(slot)

    def _read_blocks(self, slot: Slot) -> tuple[int, list[Name], list[str]]:
        volume, number = self._volume, slot.number
        blocks = FolderBlocks(volume, number, read_mapping(volume, slot))
        names: list[Name] = []
        problems: list[str] = []
        expected: list[tuple[int, int]] = []
        bests: dict[int, int] = {}
        leaf: list[tuple[int, int]] = []
        for logical in blocks.data_numbers():
            raw, index = blocks.read(logical), logical // volume.folder_blocks
            free: list[tuple[int, int]] = []
            for offset, length, is_name in iter_regions(volume, number, raw):
                tag = int.from_bytes(raw[offset + length - 2 : offset + length], "big")
                if tag != offset:
                    problems.append(messages.ENTRY_DOES_NOT_RECORD_OWN_POSITION)
                if is_name:
                    name = name_at(volume, raw, offset)
                    names.append(name)
                    address = (index * volume.folder_bytes + offset) // layout.NAME_ALIGNMENT
                    expected.append((hash_name(name.name), address))
                else:
                    free.append((length, offset))
            problems += self._check_best(raw, free)
            bests[index] = max((length for length, _offset in free), default=0)
            if raw[:4] == layout.BLOCK_MAGIC[volume.has_crc]:
                start = data_end(volume, number, raw, is_single=True)
                leaf += _entries(raw[start:-8])
        problems += self._check_leaves(number, blocks, leaf, bests)
        live = [entry for entry in leaf if entry[1]]
        if sorted(live) != sorted(expected):
            problems.append(messages.LEAVES_DO_NOT_LIST_NAMES_CORRECTLY)
        if [value for value, _address in leaf] != sorted(value for value, _address in leaf):
            problems.append(messages.LEAVES_OUT_OF_ORDER)
        own = {name.name: name.inode for name in names if name.name in (b".", b"..")}
        if own.get(b".") != number or b".." not in own:
            problems.append(messages.FIRST_ENTRIES_WRONG)
        rest = [name for name in names if name.name not in (b".", b"..")]
        return own.get(b"..", 0), rest, problems

    def _check_best(self, raw: bytes, free: list[tuple[int, int]]) -> Iterator[str]:
        start = 48 if self._volume.has_crc else 4
        largest = [
            (int.from_bytes(raw[at + 2 : at + 4], "big"), int.from_bytes(raw[at : at + 2], "big"))
            for at in range(start, start + 12, 4)
        ]
        lengths = sorted((length for length, _offset in free), reverse=True)[:3]
        if [length for length, _offset in largest] != [*lengths, 0, 0, 0][:3]:
            yield "a block does not record its free space"
        elif any(length and (length, offset) not in free for length, offset in largest):
            yield "a block records free space that it does not have"

    def _check_leaves(
        self,
        number: int,
        blocks: FolderBlocks,
        leaf: list[tuple[int, int]],
        bests: dict[int, int],
    ) -> Iterator[str]:
        volume = self._volume
        numbers = blocks.numbers(blocks.leaf_start, blocks.free_start)
        if not numbers:
            return
        first = blocks.read(blocks.leaf_start)
        check_leaf(volume, number, first)
        magic = int.from_bytes(first[8:10], "big")
        if magic == layout.LEAF1_MAGIC[volume.has_crc]:
            leaf += _entries(read_leaf(volume, number, first)[0])
            count = int.from_bytes(first[-4:], "big")
            raw = first[len(first) - 4 - 2 * count : -4]
            yield from _compare_bests(raw, bests)
            return
        seen: list[int] = []
        yield from self._walk(number, blocks, blocks.leaf_start, None, leaf, seen)
        if sorted(seen) != numbers:
            yield "a leaf block belongs to no node"
        raw = b""
        end = blocks.free_start + blocks.leaf_start
        for logical in blocks.numbers(blocks.free_start, end):
            block = blocks.read(logical)
            if volume.has_crc and not passes(block, layout.DATA_CRC):
                yield "a block of its free-space index fails its checksum"
            at = 52 if volume.has_crc else 8
            valid = int.from_bytes(block[at : at + 4], "big")
            head = layout.FREE_HEADER_BYTES[volume.has_crc]
            raw += block[head : head + 2 * valid]
        yield from _compare_bests(raw, bests)

    def _walk(
        self,
        number: int,
        blocks: FolderBlocks,
        place: int,
        last: int | None,
        leaf: list[tuple[int, int]],
        seen: list[int],
    ) -> Iterator[str]:
        volume, block = self._volume, blocks.read(place)
        seen.append(place)
        if len(seen) > len(blocks.numbers(blocks.leaf_start, blocks.free_start)):
            raise volume.damaged(messages.LEAVES_OF_FOLDER_CONTAIN_LOOP.format(number=number))
        check_leaf(volume, number, block)
        if int.from_bytes(block[8:10], "big") == layout.NODE_MAGIC[volume.has_crc]:
            entries = node_entries(volume, number, block)
            for value, child in entries:
                yield from self._walk(number, blocks, child, value, leaf, seen)
            if last is not None and entries[-1][0] != last:
                yield "a hash value in a node differs from its last child"
            return
        part = _entries(read_leaf(volume, number, block)[0])
        if last is not None and part and part[-1][0] != last:
            yield "a hash value in a node differs from its leaf"
        leaf += part


def _entries(raw: bytes) -> list[tuple[int, int]]:
    return [
        (int.from_bytes(raw[at : at + 4], "big"), int.from_bytes(raw[at + 4 : at + 8], "big"))
        for at in range(0, len(raw), 8)
    ]


def _compare_bests(raw: bytes, bests: dict[int, int]) -> Iterator[str]:
    stated = {
        at // 2: int.from_bytes(raw[at : at + 2], "big")
        for at in range(0, len(raw), 2)
        if raw[at : at + 2] != b"\xff\xff"
    }
    if stated != bests:
        yield "its index of free space is wrong"
