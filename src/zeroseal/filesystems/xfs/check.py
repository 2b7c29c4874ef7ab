"""The consistency checker of XFS volumes, written apart from the code that edits them.

It trusts nothing that the editor computed: it walks every tree of every group from its root, every
inode, every mapping and every folder, notes whose each block is, and compares that with the free
space, the reverse mapping, the reference counts, link counts and counters. From the other modules
it takes the declarations, the reading of single structures and the checksum.
"""

from __future__ import annotations

from collections.abc import Iterator

from zeroseal.blocks.store import Store
from zeroseal.errors import ImageError, RefusedError
from zeroseal.filesystems.tree import Problem
from zeroseal.filesystems.xfs import layout
from zeroseal.filesystems.xfs.check_claims import Claims
from zeroseal.filesystems.xfs.check_folders import FolderPass
from zeroseal.filesystems.xfs.check_groups import GroupCheck
from zeroseal.filesystems.xfs.check_inodes import InodePass
from zeroseal.filesystems.xfs.log import last_record, log_range
from zeroseal.filesystems.xfs.rows import InodeRows, has_rows
from zeroseal.filesystems.xfs.slots import iter_batches, slots_of
from zeroseal.filesystems.xfs.volume import XfsVolume
from zeroseal.messages import xfs as messages

_MOST_PROBLEMS = 50


def check_volume(store: Store, where: str = "the volume") -> list[Problem]:
    """Checks a whole volume; returns what is wrong, at most fifty problems, nothing if all is well.

    Raises:
        UnsupportedError: a feature that we do not know.
    """
    try:
        volume = XfsVolume(store, where)
    except (ImageError, RefusedError) as error:
        return [Problem(where, error.message)]
    return check_opened(volume)


def check_opened(volume: XfsVolume) -> list[Problem]:
    """The same for one that is opened."""
    found: list[Problem] = []
    try:
        for problem in _check(volume):
            found.append(problem)
            if len(found) >= _MOST_PROBLEMS:
                break
    except (ImageError, RefusedError) as error:
        found.append(Problem(volume.where, error.message))
    return found


def _check(volume: XfsVolume) -> Iterator[Problem]:
    claims = Claims(volume)
    groups = [GroupCheck(volume, number, claims) for number in range(_count(volume))]
    for group in groups:
        yield from group.check()
    _start, length = log_range(volume.superblock)
    first = volume.superblock.log_start
    claims.add_structure(first, length // volume.block_bytes, layout.OWN_LOG)
    inodes, folders = InodePass(volume, claims), FolderPass(volume)
    for batch in iter_batches(volume):
        left = None
        if has_rows(volume):
            rows = InodeRows(volume, batch)
            left = ~inodes.pass_plain(rows)
            folders.note_all(rows)
        for number, is_free, raw in slots_of(volume, batch, left):
            yield from inodes.check_free(number, raw) if is_free else inodes.check(number, raw)
            if left is None and not is_free:
                folders.note(number, raw)
    yield from folders.check()
    yield from claims.problems()
    for group in groups:
        yield from group.check_against(claims)
    yield from _check_totals(volume, groups)
    yield from _check_log(volume)


def _count(volume: XfsVolume) -> int:
    return volume.superblock.group_count


def _check_totals(volume: XfsVolume, groups: list[GroupCheck]) -> Iterator[Problem]:
    superblock = volume.superblock
    for name, text, counted in (
        ("inodes", superblock.inode_count, sum(group.inodes for group in groups)),
        ("free inodes", superblock.free_inodes, sum(group.free_inodes for group in groups)),
        ("free blocks", superblock.free_blocks, sum(group.spare_blocks for group in groups)),
    ):
        if text != counted:
            yield Problem(
                "superblock",
                messages.SUPERBLOCK_COUNT_WRONG.format(stated=text, name=name, counted=counted),
            )


def _check_log(volume: XfsVolume) -> Iterator[Problem]:
    """The kernel mounts no volume whose newest log record bears another UUID; zeros are accepted.

    Source: the kernel's ``xlog_header_check_mount``.
    """
    record = last_record(volume.store, volume.superblock)
    if record is None or record.uuid in (volume.superblock.uuid, bytes(16)):
        return
    yield Problem("log", messages.LOG_OF_ANOTHER_VOLUME)
