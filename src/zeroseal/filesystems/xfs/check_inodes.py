"""The checker's look at inodes: what they say of themselves, and what they map."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from zeroseal.errors import ImageError
from zeroseal.filesystems.tree import Problem
from zeroseal.filesystems.xfs import layout
from zeroseal.filesystems.xfs.attributes import iter_leaves, leaf_entries, read_attributes
from zeroseal.filesystems.xfs.check_claims import Claims
from zeroseal.filesystems.xfs.folders import hash_name
from zeroseal.filesystems.xfs.forks import Mapping, data_fork, read_mapping
from zeroseal.filesystems.xfs.rows import InodeRows
from zeroseal.filesystems.xfs.volume import Slot, XfsVolume
from zeroseal.messages import xfs as messages

_FORMS = {
    layout.MODE_FILE: (layout.FORM_EXTENTS, layout.FORM_BTREE),
    layout.MODE_FOLDER: (layout.FORM_LOCAL, layout.FORM_EXTENTS, layout.FORM_BTREE),
    layout.MODE_LINK: (layout.FORM_LOCAL, layout.FORM_EXTENTS),
    layout.MODE_CHARACTER: (layout.FORM_DEVICE,),
    layout.MODE_BLOCK: (layout.FORM_DEVICE,),
    layout.MODE_PIPE: (layout.FORM_DEVICE,),
    layout.MODE_SOCKET: (layout.FORM_DEVICE,),
}


class InodePass:
    """Looks at one inode after the other, and claims what it owns."""

    def __init__(self, volume: XfsVolume, claims: Claims) -> None:
        self._volume, self._claims = volume, claims

    def pass_plain(self, rows: InodeRows) -> NDArray[np.bool_]:
        """Which inodes are free, or plain files, and as they should be; claims what these own."""
        free = rows.is_free & rows.is_empty
        files = ~rows.is_free & rows.is_mapped_file & rows.has_no_attributes & rows.is_named
        files &= rows.is_itself & rows.counts_its_blocks
        files &= ~rows.has_unwritten  # the reverse mapping tells them from others
        self._claims.add_files(rows, files)
        return (free & rows.is_itself) | files

    def check_free(self, number: int, raw: bytes) -> Iterator[Problem]:
        """Yields what is wrong with an inode that the tree says is free."""
        try:
            inode = self._volume.parse_slot(number, raw).inode
        except ImageError as error:
            yield Problem(f"inode {number}", error.message)
            return
        if inode.mode or inode.links:
            yield Problem(f"inode {number}", messages.FREE_MARKED_AS_IN_USE)

    def check(self, number: int, raw: bytes) -> Iterator[Problem]:
        """Yields what is wrong with an inode in use."""
        where = f"inode {number}"
        try:
            slot = self._volume.parse_slot(number, raw)
            inode = slot.inode
            if inode.form not in _FORMS.get(inode.type, ()):
                yield Problem(
                    where,
                    messages.MODE_AND_FORK_FORMAT_DIFFER.format(mode=inode.mode, form=inode.form),
                )
                return
            data = read_mapping(self._volume, slot)
            attributes = read_mapping(self._volume, slot, attributes=True)
            yield from self._check_size(slot, data)
            self._claim(slot, data, is_attr=False)
            self._claim(slot, attributes, is_attr=True)
            blocks = data.block_count + attributes.block_count
            if inode.blocks != blocks:
                yield Problem(
                    where, messages.BLOCK_COUNT_WRONG.format(blocks=inode.blocks, owned=blocks)
                )
            yield from self._check_attributes(slot, attributes)
        except ImageError as error:
            yield Problem(where, error.message)
            return
        if inode.next_unlinked != layout.NULL_AGINO:
            yield Problem(where, messages.ON_LIST_OF_INODES_WITHOUT_NAMES)

    def _check_size(self, slot: Slot, data: Mapping) -> Iterator[Problem]:
        inode, where = slot.inode, f"inode {slot.number}"
        room = len(data_fork(self._volume, slot))
        if inode.form == layout.FORM_LOCAL and inode.size > room:
            yield Problem(where, messages.PARTS_DO_NOT_FIT_INTO_INODE)
        if inode.is_folder and inode.form != layout.FORM_LOCAL:
            ends = [
                run.logical + run.blocks
                for run in data.runs
                if run.logical * self._volume.block_bytes < layout.SPACE_BYTES
            ]
            if not ends or ends[-1] * self._volume.block_bytes != inode.size:
                yield Problem(where, messages.FOLDER_SIZE_WRONG)

    def _claim(self, slot: Slot, mapping: Mapping, is_attr: bool) -> None:
        number, claims = slot.number, self._claims
        flag = layout.RMAP_ATTR if is_attr else 0
        for run in mapping.runs:
            offset = run.logical | flag | (layout.RMAP_UNWRITTEN if run.unwritten else 0)
            if slot.inode.type == layout.MODE_FILE and not is_attr:
                claims.add_content(run.fsblock, run.blocks, number, offset)
            else:
                claims.add_own(run.fsblock, run.blocks, number, offset)
        for fsblock in mapping.tree:
            claims.add_own(fsblock, 1, number, flag | layout.RMAP_BMBT)

    def _check_attributes(self, slot: Slot, mapping: Mapping) -> Iterator[Problem]:
        if not slot.inode.fork_offset:
            return
        names = [(item.full_name, item.flags) for item in read_attributes(self._volume, slot)]
        if len(set(names)) != len(names):
            yield Problem(f"inode {slot.number}", messages.ATTRIBUTE_OCCURS_TWICE)
        last = -1
        for leaf in iter_leaves(self._volume, slot.number, mapping):
            start = layout.ATTR_HEADER_BYTES[self._volume.has_crc]
            entries = leaf_entries(self._volume, slot.number, leaf.content)
            for index, entry in enumerate(entries):
                place = start + index * 8
                stated = int.from_bytes(leaf.content[place : place + 4], "big")
                name = leaf.content[entry.name_offset : entry.name_offset + entry.name_length]
                if stated < last or hash_name(name) != stated:
                    yield Problem(f"inode {slot.number}", messages.ATTRIBUTES_OUT_OF_ORDER)
                last = stated
