"""Reading the journal (jbd2): which transactions were committed, and what they write where.

The log is a ring of blocks. A transaction is descriptor blocks, each followed by the blocks that it
describes, then blocks that revoke what older transactions wrote, then a commit block. The log ends
where the next block is not of the expected transaction. Where a checksum fails, the log ends too,
as long as nothing of that or a later transaction follows; else the journal is damaged.

Source: Linux 6.1 ``fs/jbd2/recovery.c`` and ``Documentation/filesystems/ext4/journal.rst``.
"""

from __future__ import annotations

import struct
from bisect import bisect_right
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import NamedTuple

from zeroseal.blocks.checksums import crc32_be, crc32c
from zeroseal.errors import UnsupportedError
from zeroseal.filesystems.ext import checksums
from zeroseal.filesystems.ext import journal_layout as jbd2
from zeroseal.filesystems.ext.journal_layout import CommitBlock, JournalSuperblock
from zeroseal.filesystems.ext.layout import MODE_FILE
from zeroseal.filesystems.ext.mapping import read_mapping
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.messages import ext as messages

_HEADER = struct.Struct(">III")


class JournalWrite(NamedTuple):
    """One block of a transaction: where it belongs, and where in the journal it lies."""

    block_no: int
    log_block: int
    is_escaped: bool
    checksum: int | None


@dataclass
class Transaction:
    """A committed transaction, in the order of the log."""

    sequence: int
    writes: list[JournalWrite] = field(default_factory=list)
    revoked: list[int] = field(default_factory=list)


class Tag(NamedTuple):
    """One entry of a descriptor block."""

    block_no: int
    flags: int
    checksum: int | None


class Journal:
    """The journal of a volume.

    Attributes:
        superblock: its own.

    Raises:
        UnsupportedError: it has a feature that we do not know.
        DamagedError: it contradicts itself.
    """

    def __init__(self, volume: ExtVolume) -> None:
        self._volume = volume
        number = volume.superblock.journal_inode
        inode = volume.read_inode(number)
        if inode.type != MODE_FILE:
            raise volume.damaged(messages.JOURNAL_NOT_REGULAR_FILE)
        self._runs = read_mapping(volume, number, inode).runs
        self._starts = [run.logical for run in self._runs]
        raw = self.read_block(0)[: JournalSuperblock.SIZE]
        self.superblock = JournalSuperblock.parse(raw)
        self._check_superblock(raw)
        self._seed = crc32c(checksums.START, self.superblock.uuid)
        self._end = self.superblock.block_count - self.fast_commit_blocks

    @property
    def fast_commit_blocks(self) -> int:
        """How many blocks at the end of the journal are no part of the log."""
        superblock = self.superblock
        if not superblock.incompat & jbd2.INCOMPAT_FAST_COMMIT:
            return 0
        return superblock.fast_commit_blocks or jbd2.DEFAULT_FAST_COMMIT_BLOCKS

    def place_of(self, log_block: int) -> int:
        """Where a block of the journal lies on the volume."""
        index = bisect_right(self._starts, log_block) - 1
        if index >= 0:
            run = self._runs[index]
            if log_block < run.logical + run.blocks:
                return run.physical + log_block - run.logical
        raise self._volume.damaged(messages.BLOCK_OF_JOURNAL_MISSING.format(log_block=log_block))

    def read_block(self, log_block: int) -> bytes:
        """A block of the journal."""
        return self._volume.read_block(self.place_of(log_block))

    def read_content(self, transaction: Transaction, write: JournalWrite) -> bytes:
        """What a write puts into its place.

        Raises:
            DamagedError: it fails its checksum.
        """
        content = self.read_block(write.log_block)
        if write.checksum is not None:
            value = crc32c(crc32c(self._seed, struct.pack(">I", transaction.sequence)), content)
            if not self.superblock.incompat & jbd2.INCOMPAT_CSUM_V3:
                value &= 0xFFFF
            if value != write.checksum:
                raise self._volume.damaged(
                    messages.TRANSACTION_OF_JOURNAL_FAILS_CHECKSUM.format(
                        sequence=transaction.sequence
                    )
                )
        if write.is_escaped:
            content = jbd2.MAGIC.to_bytes(4, "big") + content[4:]
        return content

    def iter_transactions(self) -> Iterator[Transaction]:
        """Yields the committed transactions, the oldest first; none of an empty journal.

        Raises:
            DamagedError: one in the middle cannot be read.
        """
        superblock = self.superblock
        if not superblock.start:
            self._check_no_fast_commit(superblock.sequence)
            return
        current = Transaction(superblock.sequence)
        total = checksums.START  # version 1: over the transaction's descriptors and blocks
        position, seen = superblock.start, 0
        while seen < self._end:
            block = self.read_block(position)
            magic, kind, sequence = _HEADER.unpack_from(block)
            if magic != jbd2.MAGIC or sequence != current.sequence:
                break
            taken = 1
            if kind == jbd2.DESCRIPTOR:
                if not self._tail_passes(block):
                    self._check_end(position, current.sequence, commit_counts=True)
                    break
                total = crc32_be(total, block)
                for tag in self._parse_tags(block):
                    place = self._advance(position, taken)
                    if superblock.has_transaction_checksums:
                        total = crc32_be(total, self.read_block(place))
                    escaped = bool(tag.flags & jbd2.TAG_ESCAPED)
                    write = JournalWrite(tag.block_no, place, escaped, tag.checksum)
                    current.writes.append(write)
                    taken += 1
            elif kind == jbd2.REVOKE:
                if not self._tail_passes(block):
                    self._check_end(position, current.sequence, commit_counts=True)
                    break
                current.revoked += self._parse_revoked(block)
            elif kind == jbd2.COMMIT:
                if not self._commit_passes(block, total):
                    self._check_end(position, current.sequence, commit_counts=False)
                    break
                yield current
                current, total = Transaction((current.sequence + 1) & 0xFFFFFFFF), checksums.START
            else:
                break
            position = self._advance(position, taken)
            seen += taken
        self._check_no_fast_commit(current.sequence)

    def write_empty(self, next_sequence: int) -> None:
        """Says in the superblock that the log is empty."""
        superblock = self.superblock
        superblock.start, superblock.sequence = 0, next_sequence & 0xFFFFFFFF
        if superblock.has_block_checksums:
            superblock.checksum = _superblock_checksum(superblock.build())
        block_no = self.place_of(0)
        content = self._volume.read_block(block_no)
        self._volume.write_block(block_no, superblock.build() + content[JournalSuperblock.SIZE :])

    def _check_superblock(self, raw: bytes) -> None:
        superblock, volume = self.superblock, self._volume
        if superblock.magic != jbd2.MAGIC or superblock.block_type not in (
            jbd2.SUPERBLOCK_V1,
            jbd2.SUPERBLOCK_V2,
        ):
            raise volume.damaged(messages.JOURNAL_NO_VALID_SUPERBLOCK)
        if superblock.block_type == jbd2.SUPERBLOCK_V1:
            superblock.compat = superblock.incompat = 0  # those fields came with version 2
        unknown = superblock.incompat & ~jbd2.INCOMPAT_SUPPORTED
        if unknown or (superblock.has_block_checksums and superblock.checksum_type != 4):
            raise UnsupportedError(
                messages.JOURNAL_FEATURES_NOT_SUPPORTED.format(where=volume.where), got=unknown
            )
        if superblock.has_block_checksums and _superblock_checksum(raw) != superblock.checksum:
            raise volume.damaged(messages.JOURNAL_SUPERBLOCK_FAILS_CHECKSUM)
        first, end = superblock.first_block, superblock.block_count - self.fast_commit_blocks
        starts_inside = not superblock.start or first <= superblock.start < end
        if superblock.block_bytes != volume.block_bytes or not 0 < first < end or not starts_inside:
            raise volume.damaged(messages.JOURNAL_SUPERBLOCK_INCONSISTENT)
        if superblock.error:
            raise volume.damaged(messages.KERNEL_ABORTED_JOURNAL.format(error=superblock.error))

    def _advance(self, position: int, count: int) -> int:
        first = self.superblock.first_block
        return first + (position - first + count) % (self._end - first)

    def _parse_tags(self, block: bytes) -> Iterator[Tag]:
        superblock = self.superblock
        is_v3 = bool(superblock.incompat & jbd2.INCOMPAT_CSUM_V3)
        is_v2 = bool(superblock.incompat & jbd2.INCOMPAT_CSUM_V2)
        is_wide = bool(superblock.incompat & jbd2.INCOMPAT_64BIT)
        size = 16 if is_v3 else 8 + (4 if is_wide else 0) + (2 if is_v2 else 0)
        position = jbd2.HEADER_BYTES
        end = len(block) - (jbd2.TAIL_BYTES if superblock.has_block_checksums else 0)
        while position + size <= end:
            high = 0
            if is_v3:
                low, flags, high, checksum = struct.unpack_from(">IIII", block, position)
            else:
                low, checksum, flags = struct.unpack_from(">IHH", block, position)
                if is_wide:
                    high = struct.unpack_from(">I", block, position + 8)[0]
            block_no = low | (high << 32 if is_wide else 0)
            yield Tag(block_no, flags, checksum if is_v2 or is_v3 else None)
            position += size + (0 if flags & jbd2.TAG_SAME_UUID else jbd2.UUID_BYTES)
            if flags & jbd2.TAG_LAST:
                return

    def _parse_revoked(self, block: bytes) -> list[int]:
        count = int.from_bytes(block[12:16], "big")
        size = 8 if self.superblock.incompat & jbd2.INCOMPAT_64BIT else 4
        end = len(block) - (jbd2.TAIL_BYTES if self.superblock.has_block_checksums else 0)
        if not 16 <= count <= end:
            raise self._volume.damaged(messages.REVOKED_BLOCKS_INVALID)
        return [
            int.from_bytes(block[start : start + size], "big")
            for start in range(16, count - size + 1, size)
        ]

    def _tail_passes(self, block: bytes) -> bool:
        if not self.superblock.has_block_checksums:
            return True
        value = crc32c(self._seed, block[: -jbd2.TAIL_BYTES] + bytes(jbd2.TAIL_BYTES))
        return value == int.from_bytes(block[-jbd2.TAIL_BYTES :], "big")

    def _commit_passes(self, block: bytes, total: int) -> bool:
        commit = CommitBlock.parse(block[: CommitBlock.SIZE])
        if self.superblock.has_block_checksums:
            value = crc32c(self._seed, block[:16] + bytes(4) + block[20:])
            return value == commit.checksum
        if self.superblock.has_transaction_checksums:
            kind = commit.checksum_type, commit.checksum_bytes
            if kind == (jbd2.CRC32_TYPE, jbd2.CRC32_BYTES):
                return commit.checksum == total
            return kind == (0, 0) and commit.checksum == 0
        return True

    def _check_end(self, position: int, sequence: int, commit_counts: bool) -> None:
        """A checksum failed: was the machine cut off there, or is the journal damaged?"""
        for step in range(1, self._end - self.superblock.first_block):
            block = self.read_block(self._advance(position, step))
            magic, kind, number = _HEADER.unpack_from(block)
            if magic != jbd2.MAGIC:
                continue
            is_commit = kind == jbd2.COMMIT and commit_counts and number == sequence
            if is_commit or 0 < (number - sequence) & 0xFFFFFFFF < 1 << 31:
                raise self._volume.damaged(
                    messages.TRANSACTION_BEFORE_OTHERS_FAILS_CHECKSUM.format(sequence=sequence)
                )

    def _check_no_fast_commit(self, sequence: int) -> None:
        """Fast commits are changes of single files behind the last full transaction."""
        if not self.fast_commit_blocks:
            return
        block = self.read_block(self._end + 1)
        tag, _length, _features, number = struct.unpack_from("<HHII", block)
        if tag == jbd2.FAST_COMMIT_HEAD and (number - sequence) & 0xFFFFFFFF < 1 << 31:
            raise UnsupportedError(
                messages.FAST_COMMITS_NOT_SUPPORTED.format(where=self._volume.where)
            )


def _superblock_checksum(raw: bytes) -> int:
    covered = bytearray(raw)
    offset = JournalSuperblock.offset_of("checksum")
    covered[offset : offset + 4] = bytes(4)
    return crc32c(checksums.START, covered)
