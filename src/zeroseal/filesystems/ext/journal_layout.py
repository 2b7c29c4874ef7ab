"""The journal (jbd2) on disk: records and constants, all big-endian.

Source: Linux 6.1 ``Documentation/filesystems/ext4/journal.rst`` and ``include/linux/jbd2.h``.
"""

from __future__ import annotations

from zeroseal.blocks.records import Record, at, record

MAGIC = 0xC03B3998
HEADER_BYTES = 12
TAIL_BYTES = 4  # of descriptor and revoke blocks, with checksums of version 2 or 3
UUID_BYTES = 16

# h_blocktype
DESCRIPTOR, COMMIT, SUPERBLOCK_V1, SUPERBLOCK_V2, REVOKE = 1, 2, 3, 4, 5

COMPAT_CHECKSUM = 0x1  # version 1: one sum over a transaction, in its commit block
INCOMPAT_REVOKE = 0x1
INCOMPAT_64BIT = 0x2
INCOMPAT_ASYNC_COMMIT = 0x4
INCOMPAT_CSUM_V2 = 0x8
INCOMPAT_CSUM_V3 = 0x10
INCOMPAT_FAST_COMMIT = 0x20
INCOMPAT_SUPPORTED = (
    INCOMPAT_REVOKE
    | INCOMPAT_64BIT
    | INCOMPAT_ASYNC_COMMIT
    | INCOMPAT_CSUM_V2
    | INCOMPAT_CSUM_V3
    | INCOMPAT_FAST_COMMIT
)

# t_flags
TAG_ESCAPED, TAG_SAME_UUID, TAG_DELETED, TAG_LAST = 1, 2, 4, 8

CRC32_TYPE, CRC32_BYTES = 1, 4  # h_chksum_type and h_chksum_size of version 1

FAST_COMMIT_HEAD = 0x0009  # tag that begins the fast-commit area, little-endian
DEFAULT_FAST_COMMIT_BLOCKS = 256

_KERNEL = "Linux 6.1 Documentation/filesystems/ext4/journal.rst"


@record(size=1024, byte_order=">", source=f"{_KERNEL}, super block")
class JournalSuperblock(Record):
    """First block of the journal."""

    magic: int = at(0x0, "I")
    block_type: int = at(0x4, "I", "3: version 1, 4: version 2")
    block_bytes: int = at(0xC, "I")
    block_count: int = at(0x10, "I")
    first_block: int = at(0x14, "I", "first block of the log itself")
    sequence: int = at(0x18, "I", "number of the first transaction in the log")
    start: int = at(0x1C, "I", "block where the log starts, 0: empty")
    error: int = at(0x20, "I", "not 0 where the kernel gave the journal up")
    compat: int = at(0x24, "I")
    incompat: int = at(0x28, "I")
    uuid: bytes = at(0x30, "16s")
    checksum_type: int = at(0x50, "B", "4 for crc32c")
    fast_commit_blocks: int = at(0x54, "I", "at the end of the journal")
    checksum: int = at(0xFC, "I")

    @property
    def has_block_checksums(self) -> bool:
        """Whether every block of the journal has its own checksum (versions 2 and 3)."""
        return self.block_type == SUPERBLOCK_V2 and bool(
            self.incompat & (INCOMPAT_CSUM_V2 | INCOMPAT_CSUM_V3)
        )

    @property
    def has_transaction_checksums(self) -> bool:
        """Whether commit blocks have a checksum over their transaction (version 1)."""
        return self.block_type == SUPERBLOCK_V2 and bool(self.compat & COMPAT_CHECKSUM)


@record(size=20, byte_order=">", source=f"{_KERNEL}, commit block")
class CommitBlock(Record):
    """Ends a transaction."""

    magic: int = at(0x0, "I")
    block_type: int = at(0x4, "I")
    sequence: int = at(0x8, "I")
    checksum_type: int = at(0xC, "B", "version 1 only")
    checksum_bytes: int = at(0xD, "B")
    checksum: int = at(0x10, "I", "of the transaction (version 1) or of this block")
