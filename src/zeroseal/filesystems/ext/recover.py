"""Recovering a volume that was not shut down cleanly, as a kernel would on the next mount.

The committed transactions of the journal are written to their places, all or none; then inodes that
were deleted or cut while somebody had them open (*orphans*) are finished off. Afterwards the
journal is empty and the volume clean. What e2fsck would find beyond that is not repaired.
"""

from __future__ import annotations

import struct
from collections.abc import Iterator

from zeroseal.blocks.store import Store
from zeroseal.errors import NeedsRecoveryError, ZeroSealError
from zeroseal.filesystems.driver import Recovery
from zeroseal.filesystems.ext import layout
from zeroseal.filesystems.ext.attributes_edit import AttributeWriter
from zeroseal.filesystems.ext.checksums import orphan_block_checksum
from zeroseal.filesystems.ext.content_edit import ContentWriter
from zeroseal.filesystems.ext.journal_read import Journal
from zeroseal.filesystems.ext.mapping import read_mapping
from zeroseal.filesystems.ext.quota_edit import update_quotas
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.messages import ext as messages


def needs_recovery(store: Store, where: str) -> bool:
    """Whether a volume was not shut down cleanly; one that cannot be read for another reason no."""
    try:
        ExtVolume(store, where)
    except ZeroSealError as error:
        return isinstance(error, NeedsRecoveryError)
    return False


def recover_volume(store: Store, where: str) -> Recovery:
    """Recovers a volume; all changes go to ``store``.

    Raises:
        NeedsRecoveryError: it has no journal that could tell.
        UnsupportedError: the journal has features that we do not know, or fast commits.
        DamagedError: the journal or an orphan contradicts itself; part of it may be written.
    """
    volume = ExtVolume(store, where, ignore_state=True)
    superblock = volume.superblock
    if superblock.state & layout.STATE_ERRORS:
        raise volume.damaged(messages.MARKED_WITH_ERRORS)
    if not superblock.compat & layout.COMPAT_HAS_JOURNAL:
        raise NeedsRecoveryError(messages.UNCLEAN_WITHOUT_JOURNAL.format(where=where))
    transactions, blocks = (
        _replay(volume) if superblock.incompat & layout.INCOMPAT_RECOVER else (0, 0)
    )
    volume = ExtVolume(store, where, ignore_state=True)  # the superblock may be another one now
    _mark_recovered(volume)
    orphans = _finish_orphans(volume)
    return Recovery(where, transactions, blocks, orphans)


def _replay(volume: ExtVolume) -> tuple[int, int]:
    """Writes what was committed; returns how many transactions and blocks that was."""
    journal = Journal(volume)
    transactions = list(journal.iter_transactions())
    revoked: dict[int, int] = {}
    for number, transaction in enumerate(transactions):
        for block_no in transaction.revoked:
            revoked[block_no] = number
    final: dict[int, bytes] = {}
    for number, transaction in enumerate(transactions):
        for write in transaction.writes:
            if revoked.get(write.block_no, -1) < number:
                if not volume.has_block(write.block_no):
                    raise volume.damaged(
                        messages.JOURNAL_LEAVES_VOLUME.format(block_no=write.block_no)
                    )
                final[write.block_no] = journal.read_content(transaction, write)
    for block_no, content in final.items():
        volume.write_block(block_no, content)
    journal.write_empty(journal.superblock.sequence + len(transactions) + 1)
    return len(transactions), len(final)


def _mark_recovered(volume: ExtVolume) -> None:
    """Marks the volume clean and counts anew what the kernel keeps in memory while mounted."""
    superblock = volume.superblock
    superblock.incompat &= ~layout.INCOMPAT_RECOVER
    superblock.state |= layout.STATE_CLEAN
    groups = [volume.get_group(group) for group in range(volume.group_count)]
    free = sum(group.free_blocks for group in groups) * volume.cluster_blocks
    superblock.free_blocks_lo = free & 0xFFFFFFFF
    if superblock.incompat & layout.INCOMPAT_64BIT:
        superblock.free_blocks_hi = free >> 32
    superblock.free_inodes = sum(group.free_inodes for group in groups)


def _finish_orphans(volume: ExtVolume) -> int:
    """Frees or cuts the orphans and empties their lists; writes the superblock in any case."""
    content = ContentWriter(volume, zero_removed=True)
    attributes = AttributeWriter(volume, content, zero_removed=True)
    orphans = [*_chained_orphans(volume), *_listed_orphans(volume)]
    for number in orphans:
        inode = volume.read_inode(number)
        if inode.link_count == 0:
            content.free_all(number, inode)
            attributes.release_all(number, inode)
            content.allocator.free_inode(number, inode.is_folder)
            continue
        inode.deleted_at = 0
        if inode.type == layout.MODE_FILE and not inode.is_inline:
            content.cut(number, inode, inode.size)
        else:
            volume.write_inode(number, inode)
    _empty_orphan_file(volume)
    volume.superblock.last_orphan = 0
    volume.superblock.ro_compat &= ~layout.RO_ORPHAN_PRESENT
    update_quotas(volume, content)
    content.allocator.flush()
    return len(orphans)


def _chained_orphans(volume: ExtVolume) -> Iterator[int]:
    """The list that begins in the superblock; each orphan names the next where its time was."""
    seen: set[int] = set()
    number = volume.superblock.last_orphan
    while number:
        if number in seen or number < volume.first_inode:
            raise volume.damaged(messages.LIST_OF_ORPHAN_INODES_CONTAINS_LOOP)
        seen.add(number)
        yield number
        number = volume.read_inode(number).deleted_at


def _listed_orphans(volume: ExtVolume) -> Iterator[int]:
    """The orphan file, where it says something."""
    if volume.superblock.ro_compat & layout.RO_ORPHAN_PRESENT:
        for _block_no, content in _orphan_blocks(volume):
            entries = (len(content) - layout.ORPHAN_TAIL_BYTES) // 4
            for number in struct.unpack_from(f"<{entries}I", content):
                if number:
                    yield number


def _empty_orphan_file(volume: ExtVolume) -> None:
    for block_no, content in list(_orphan_blocks(volume)):
        end = len(content) - layout.ORPHAN_TAIL_BYTES
        if any(content[:end]):
            clean = bytes(end) + content[end:]
            if volume.has_checksums:
                clean = clean[:-4] + _orphan_checksum(volume, block_no, clean)
            volume.write_block(block_no, clean)


def _orphan_blocks(volume: ExtVolume) -> Iterator[tuple[int, bytes]]:
    """(place, content) of the blocks of the orphan file, verified."""
    number = volume.superblock.orphan_file_inode
    if not volume.superblock.compat & layout.COMPAT_ORPHAN_FILE or not number:
        return
    for run in read_mapping(volume, number, volume.read_inode(number)).runs:
        for block_no in range(run.physical, run.physical + run.blocks):
            content = volume.read_block(block_no)
            magic = int.from_bytes(content[-8:-4], "little")
            passes = content[-4:] == _orphan_checksum(volume, block_no, content)
            if magic != layout.ORPHAN_BLOCK_MAGIC or (volume.has_checksums and not passes):
                raise volume.damaged(messages.ORPHAN_FILE_FAILS_CHECKSUM)
            yield block_no, content


def _orphan_checksum(volume: ExtVolume, block_no: int, content: bytes) -> bytes:
    number = volume.superblock.orphan_file_inode
    seed = volume.inode_seed(number, volume.read_inode(number))
    return orphan_block_checksum(seed, block_no, content).to_bytes(4, "little")
