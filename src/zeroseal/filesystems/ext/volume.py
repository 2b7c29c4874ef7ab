"""One ext volume: superblock, group descriptors, inodes and blocks, checked as they are read."""

from __future__ import annotations

from zeroseal.blocks.checksums import crc32c
from zeroseal.blocks.store import Store
from zeroseal.errors import DamagedError, InUseError, NeedsRecoveryError, UnsupportedError
from zeroseal.filesystems.ext import checksums
from zeroseal.filesystems.ext.geometry import BlockRun, Geometry
from zeroseal.filesystems.ext.layout import (
    COMPAT_HAS_JOURNAL,
    COMPAT_KNOWN,
    INCOMPAT_CSUM_SEED,
    INCOMPAT_JOURNAL_DEVICE,
    INCOMPAT_MMP,
    INCOMPAT_NAMES,
    INCOMPAT_RECOVER,
    INCOMPAT_SUPPORTED,
    INODE_RECORD_BYTES,
    MAGIC,
    MMP_CLEAN,
    MMP_MAGIC,
    RO_EDITABLE,
    RO_GDT_CSUM,
    RO_METADATA_CSUM,
    RO_NAMES,
    RO_ORPHAN_PRESENT,
    STATE_CLEAN,
    STATE_ERRORS,
    SUPERBLOCK_BYTES,
    SUPERBLOCK_OFFSET,
    GroupDescriptor,
    Inode,
    MmpBlock,
    Superblock,
)
from zeroseal.messages import ext as messages


class ExtVolume(Geometry):
    """An opened ext2, ext3 or ext4 volume.

    Args:
        store: the volume.
        where: its name, for messages.
        ignore_state: whether it may need recovery; for the code that recovers it.

    Raises:
        UnsupportedError: a feature that we do not know.
        NeedsRecoveryError: it was not unmounted cleanly.
        DamagedError: the superblock contradicts itself.
    """

    def __init__(self, store: Store, where: str = "the volume", ignore_state: bool = False) -> None:
        self.store = store
        self.where = where
        raw = store.read(SUPERBLOCK_OFFSET, SUPERBLOCK_BYTES)
        superblock = self.superblock = Superblock.parse(raw)
        if superblock.magic != MAGIC:
            raise DamagedError(messages.NO_EXT_FILE_SYSTEM.format(where=where))
        self._check_features()
        try:
            super().__init__(superblock)
        except ValueError as error:
            raise self.damaged(str(error)) from None
        if self.block_count * self.block_bytes > store.size_bytes:
            raise self.damaged(
                messages.LARGER_THAN_PARTITION,
                expected=self.block_count * self.block_bytes,
                got=store.size_bytes,
            )
        self.has_checksums = bool(self.superblock.ro_compat & RO_METADATA_CSUM)
        if self.has_checksums and self.superblock.checksum_type != 1:
            raise UnsupportedError(messages.USES_UNKNOWN_KIND_OF_CHECKSUM.format(where=where))
        if self.has_checksums and checksums.superblock_checksum(raw) != self.superblock.checksum:
            raise self.damaged(messages.SUPERBLOCK_FAILS_CHECKSUM)
        self.has_group_checksums = bool(superblock.ro_compat & (RO_METADATA_CSUM | RO_GDT_CSUM))
        self.checksum_seed = crc32c(checksums.START, superblock.uuid)
        if superblock.incompat & INCOMPAT_CSUM_SEED:
            self.checksum_seed = superblock.checksum_seed
        if not ignore_state:
            self._check_state()
        self._flex_tables: tuple[int, list[BlockRun]] = -1, []
        self._groups: dict[int, GroupDescriptor] = {}

    def damaged(self, what: str, **facts: int) -> DamagedError:
        """The error for a structure that contradicts the format."""
        return DamagedError(messages.DAMAGED.format(where=self.where, what=what), **facts)

    def reread(self) -> None:
        """Reads again what is kept of the volume; its bytes were changed beneath it."""
        self.superblock = Superblock.parse(self.store.read(SUPERBLOCK_OFFSET, SUPERBLOCK_BYTES))
        self._groups.clear()

    def check_editable(self) -> None:
        """Raises UnsupportedError where reading is safe but changing is not."""
        unknown = self.superblock.ro_compat & ~RO_EDITABLE & ~RO_ORPHAN_PRESENT
        if unknown:
            raise UnsupportedError(
                messages.READ_ONLY_FEATURES.format(
                    where=self.where, feature_names=_feature_names(unknown, RO_NAMES)
                )
            )

    def get_group(self, group: int) -> GroupDescriptor:
        """A group's descriptor; the object is kept, and changes to it are seen by all."""
        found = self._groups.get(group)
        if found is None:
            raw = self.store.read(self.descriptor_offset(group), self.descriptor_bytes)
            expected = checksums.descriptor_checksum(
                self.superblock, self.checksum_seed, group, raw
            )
            found = GroupDescriptor.parse(raw[:64].ljust(64, b"\0"))
            if self.has_group_checksums and expected != found.checksum:
                raise self.damaged(messages.DESCRIPTOR_OF_GROUP_FAILS_CHECKSUM.format(group=group))
            self._groups[group] = found
        return found

    def flex_tables(self, group: int) -> list[BlockRun]:
        """(first block, count) of the bitmaps and inode tables of a group's flexible group."""
        flex_size = 1 << min(self.superblock.log_groups_per_flex, 31)
        first = group // flex_size * flex_size
        if self._flex_tables[0] != first:
            table_blocks = self.superblock.inodes_per_group * self.inode_bytes // self.block_bytes
            found: list[BlockRun] = []
            for other in range(first, min(first + flex_size, self.group_count)):
                descriptor = self.get_group(other)
                found += [
                    (descriptor.block_bitmap, 1),
                    (descriptor.inode_bitmap, 1),
                    (descriptor.inode_table, table_blocks),
                ]
            self._flex_tables = first, found
        return self._flex_tables[1]

    def read_block(self, block_no: int, count: int = 1) -> bytes:
        """Reads blocks.

        Raises:
            DamagedError: they do not lie inside the file system.
        """
        if not self.has_block(block_no, count):
            raise self.damaged(messages.BLOCK_REFERENCED_DOES_NOT_EXIST.format(block_no=block_no))
        return self.store.read(block_no * self.block_bytes, count * self.block_bytes)

    def write_block(self, block_no: int, content: bytes) -> None:
        """Writes whole blocks."""
        self.store.write(block_no * self.block_bytes, content)

    def inode_offset(self, inode_no: int) -> int:
        """Where an inode's slot lies, in bytes.

        Raises:
            DamagedError: there is no such inode.
        """
        if not 1 <= inode_no <= self.superblock.inodes_count:
            raise self.damaged(messages.INODE_REFERENCED_DOES_NOT_EXIST.format(inode_no=inode_no))
        group, index = divmod(inode_no - 1, self.superblock.inodes_per_group)
        table = self.get_group(group).inode_table
        return table * self.block_bytes + index * self.inode_bytes

    def read_slot(self, inode_no: int) -> bytes:
        """An inode's whole slot, as it lies there."""
        return self.store.read(self.inode_offset(inode_no), self.inode_bytes)

    def read_inode(self, inode_no: int) -> Inode:
        """Reads an inode and verifies its checksum."""
        slot = self.read_slot(inode_no)
        inode = parse_inode(slot)
        if self.has_checksums and not self._inode_passes(inode_no, inode, slot):
            raise self.damaged(messages.INODE_FAILS_CHECKSUM.format(inode_no=inode_no))
        return inode

    def write_inode(self, inode_no: int, inode: Inode) -> None:
        """Writes an inode over its slot, with a new checksum; what lies behind it stays."""
        slot = bytearray(self.read_slot(inode_no))
        count = min(INODE_RECORD_BYTES, self.inode_bytes)
        slot[:count] = inode.build()[:count]
        self.store.write(
            self.inode_offset(inode_no), self.with_inode_checksum(inode_no, inode, slot)
        )

    def with_inode_checksum(self, inode_no: int, inode: Inode, slot: bytearray) -> bytes:
        """A whole slot with its checksum set, where the volume has any."""
        if self.has_checksums:
            value = checksums.inode_checksum(self.inode_seed(inode_no, inode), bytes(slot))
            offset = Inode.offset_of("checksum_lo")
            slot[offset : offset + 2] = (value & 0xFFFF).to_bytes(2, "little")
            if checksums.has_high_checksum(slot):
                offset = Inode.offset_of("checksum_hi")
                slot[offset : offset + 2] = (value >> 16).to_bytes(2, "little")
        return bytes(slot)

    def inode_seed(self, inode_no: int, inode: Inode) -> int:
        """Where checksums of what this inode owns begin."""
        return checksums.inode_seed(self.checksum_seed, inode_no, inode.generation)

    def _check_features(self) -> None:
        superblock = self.superblock
        unknown = superblock.incompat & ~INCOMPAT_SUPPORTED
        if superblock.journal_device or (superblock.incompat & INCOMPAT_JOURNAL_DEVICE):
            raise UnsupportedError(messages.EXTERNAL_JOURNAL_NOT_SUPPORTED.format(where=self.where))
        unknown_compat = superblock.compat & ~COMPAT_KNOWN
        if unknown or unknown_compat:
            names = _feature_names(unknown or unknown_compat, INCOMPAT_NAMES if unknown else {})
            raise UnsupportedError(
                messages.FEATURES_NOT_SUPPORTED.format(where=self.where, names=names),
                structure="superblock",
                got=unknown or unknown_compat,
            )

    def _check_state(self) -> None:
        superblock = self.superblock
        if superblock.state & STATE_ERRORS:
            raise self.damaged(messages.MARKED_WITH_ERRORS)
        journaled = bool(superblock.compat & COMPAT_HAS_JOURNAL)
        if (
            superblock.incompat & INCOMPAT_RECOVER
            or superblock.ro_compat & RO_ORPHAN_PRESENT
            or superblock.last_orphan
            or (not journaled and not superblock.state & STATE_CLEAN)
        ):
            raise NeedsRecoveryError(messages.NEEDS_RECOVERY.format(where=self.where))
        if superblock.incompat & INCOMPAT_MMP:
            self._check_not_mounted()

    def _check_not_mounted(self) -> None:
        """Multiple-mount protection: the block says whether a machine has the volume in use."""
        block = self.read_block(self.superblock.mmp_block)
        mmp = MmpBlock.parse(block[: MmpBlock.SIZE])
        if mmp.magic != MMP_MAGIC:
            raise self.damaged(messages.MMP_BLOCK_INVALID)
        if self.has_checksums and mmp.checksum != checksums.mmp_checksum(self.checksum_seed, block):
            raise self.damaged(messages.MMP_BLOCK_FAILS_CHECKSUM)
        if mmp.sequence != MMP_CLEAN:
            raise InUseError(messages.MARKED_AS_MOUNTED.format(where=self.where))

    def _inode_passes(self, inode_no: int, inode: Inode, slot: bytes) -> bool:
        value = checksums.inode_checksum(self.inode_seed(inode_no, inode), slot)
        if checksums.has_high_checksum(slot):
            return value == inode.checksum_hi << 16 | inode.checksum_lo
        return value & 0xFFFF == inode.checksum_lo


def parse_inode(slot: bytes) -> Inode:
    """The record at the beginning of an inode's slot."""
    return Inode.parse(slot[:INODE_RECORD_BYTES].ljust(INODE_RECORD_BYTES, b"\0"))


def _feature_names(bits: int, names: dict[int, str]) -> str:
    found = [
        names.get(1 << position, f"unknown feature {1 << position:#x}")
        for position in range(32)
        if bits >> position & 1
    ]
    return "the feature " + found[0] if len(found) == 1 else "the features " + ", ".join(found)
