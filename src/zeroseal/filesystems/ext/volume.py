"""One ext volume: superblock, group descriptors, inodes and blocks, checked as they are read."""

from __future__ import annotations

from zeroseal.blocks.checksums import crc32c
from zeroseal.blocks.store import Store
from zeroseal.errors import DamagedError, NeedsRecoveryError, UnsupportedError
from zeroseal.filesystems.ext import checksums
from zeroseal.filesystems.ext.layout import (
    COMPAT_HAS_JOURNAL,
    COMPAT_SPARSE_SUPER2,
    INCOMPAT_64BIT,
    INCOMPAT_CSUM_SEED,
    INCOMPAT_NAMES,
    INCOMPAT_RECOVER,
    INCOMPAT_SUPPORTED,
    INODE_BASE_BYTES,
    INODE_RECORD_BYTES,
    MAGIC,
    RO_EDITABLE,
    RO_GDT_CSUM,
    RO_METADATA_CSUM,
    RO_NAMES,
    RO_ORPHAN_PRESENT,
    RO_SPARSE_SUPER,
    RO_UNREADABLE,
    STATE_CLEAN,
    STATE_ERRORS,
    SUPERBLOCK_BYTES,
    SUPERBLOCK_OFFSET,
    GroupDescriptor,
    Inode,
    Superblock,
)

_MAX_LOG_BLOCK_SIZE = 6  # 64 KiB
_MIN_GROUP_BLOCKS = 256  # mke2fs makes no smaller groups
_MAX_GROUPS = 1 << 22  # 512 TiB with groups of 128 MiB


class ExtVolume:
    """An opened ext2, ext3 or ext4 volume.

    Args:
        store: the volume.
        where: its name, for messages.

    Raises:
        UnsupportedError: a feature that we do not know.
        NeedsRecoveryError: it was not unmounted cleanly.
        DamagedError: the superblock contradicts itself.
    """

    def __init__(self, store: Store, where: str = "the volume") -> None:
        self.store = store
        self.where = where
        raw = store.read(SUPERBLOCK_OFFSET, SUPERBLOCK_BYTES)
        self.superblock = Superblock.parse(raw)
        if self.superblock.magic != MAGIC:
            raise DamagedError(f"{where} holds no ext file system")
        self._check_features()
        self.has_checksums = bool(self.superblock.ro_compat & RO_METADATA_CSUM)
        if self.has_checksums and self.superblock.checksum_type != 1:
            raise UnsupportedError(f"{where} uses an unknown kind of checksum")
        if self.has_checksums and checksums.superblock_checksum(raw) != self.superblock.checksum:
            raise self.damaged("its superblock fails its checksum")
        self._read_geometry()
        self._check_state()
        self._groups: dict[int, GroupDescriptor] = {}

    def damaged(self, what: str, **facts: int) -> DamagedError:
        """The error for a structure that contradicts the format."""
        return DamagedError(
            f"{self.where} is damaged: {what}; run e2fsck on it in the guest or on a copy", **facts
        )

    def check_editable(self) -> None:
        """Raises UnsupportedError where reading is safe but changing is not."""
        unknown = self.superblock.ro_compat & ~RO_EDITABLE & ~RO_ORPHAN_PRESENT
        if unknown:
            raise UnsupportedError(
                f"{self.where} has {_feature_names(unknown, RO_NAMES)}, which can be read but not "
                "changed here"
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
                raise self.damaged(f"the descriptor of group {group} fails its checksum")
            self._groups[group] = found
        return found

    def descriptor_offset(self, group: int) -> int:
        """Where a group's descriptor lies, in bytes."""
        table = (self.superblock.first_data_block + 1) * self.block_bytes
        return table + group * self.descriptor_bytes

    def read_block(self, block_no: int, count: int = 1) -> bytes:
        """Reads blocks.

        Raises:
            DamagedError: they do not lie inside the file system.
        """
        if block_no < self.superblock.first_data_block or block_no + count > self.block_count:
            raise self.damaged(f"block {block_no} is pointed to, but there is none")
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
            raise self.damaged(f"inode {inode_no} is named, but there is none")
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
            raise self.damaged(f"inode {inode_no} fails its checksum")
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

    def group_blocks(self, group: int) -> tuple[int, int]:
        """(first block, number of blocks) of a group; the last may be short."""
        first = self.superblock.first_data_block + group * self.superblock.blocks_per_group
        return first, min(self.superblock.blocks_per_group, self.block_count - first)

    def group_of_block(self, block_no: int) -> int:
        """The group that a block belongs to."""
        return (block_no - self.superblock.first_data_block) // self.superblock.blocks_per_group

    def has_superblock_copy(self, group: int) -> bool:
        """Whether a group begins with a copy of superblock and descriptors."""
        if group == 0:
            return True
        if self.superblock.compat & COMPAT_SPARSE_SUPER2:
            return group in (self.superblock.backup_group_1, self.superblock.backup_group_2)
        if not self.superblock.ro_compat & RO_SPARSE_SUPER or group == 1:
            return True
        return any(_is_power(group, base) for base in (3, 5, 7))

    def _check_features(self) -> None:
        superblock = self.superblock
        unknown = superblock.incompat & ~INCOMPAT_SUPPORTED
        if unknown or superblock.ro_compat & RO_UNREADABLE:
            names = _feature_names(unknown, INCOMPAT_NAMES) if unknown else "bigalloc"
            raise UnsupportedError(
                f"{self.where} is an ext file system with {names}, which is not supported",
                structure="superblock",
                got=unknown,
            )
        if superblock.journal_device or (superblock.incompat & 0x8):
            raise UnsupportedError(f"{self.where} keeps its journal on another device")

    def _check_state(self) -> None:
        superblock = self.superblock
        if superblock.state & STATE_ERRORS:
            raise self.damaged("the kernel has marked it as having errors")
        journaled = bool(superblock.compat & COMPAT_HAS_JOURNAL)
        if (
            superblock.incompat & INCOMPAT_RECOVER
            or superblock.ro_compat & RO_ORPHAN_PRESENT
            or superblock.last_orphan
            or (not journaled and not superblock.state & STATE_CLEAN)
        ):
            raise NeedsRecoveryError(
                f"{self.where} was not shut down cleanly and needs recovery: start the machine and "
                "shut it down properly, then try again"
            )

    def _read_geometry(self) -> None:
        superblock = self.superblock
        if superblock.log_block_size > _MAX_LOG_BLOCK_SIZE:
            raise self.damaged(f"block size 2^{superblock.log_block_size + 10}")
        self.block_bytes = 1024 << superblock.log_block_size
        is_64bit = bool(superblock.incompat & INCOMPAT_64BIT)
        self.block_count = superblock.blocks_count_lo
        self.descriptor_bytes = 32
        if is_64bit:
            self.block_count |= superblock.blocks_count_hi << 32
            self.descriptor_bytes = superblock.descriptor_bytes
        self.inode_bytes = superblock.inode_bytes if superblock.revision else INODE_BASE_BYTES
        self.first_inode = superblock.first_inode if superblock.revision else 11
        self._check_geometry(is_64bit)
        blocks_to_share = self.block_count - superblock.first_data_block
        self.group_count = -(-blocks_to_share // superblock.blocks_per_group)
        if self.group_count > _MAX_GROUPS:
            raise self.damaged(f"its superblock tells of {self.group_count} groups")
        if superblock.inodes_count != self.group_count * superblock.inodes_per_group:
            raise self.damaged("the number of inodes does not fit the number of groups")
        self.has_group_checksums = bool(superblock.ro_compat & (RO_METADATA_CSUM | RO_GDT_CSUM))
        self.checksum_seed = crc32c(checksums.START, superblock.uuid)
        if superblock.incompat & INCOMPAT_CSUM_SEED:
            self.checksum_seed = superblock.checksum_seed

    def _check_geometry(self, is_64bit: bool) -> None:
        superblock = self.superblock
        bits = self.block_bytes * 8
        sound = (
            _MIN_GROUP_BLOCKS <= superblock.blocks_per_group <= bits
            and superblock.blocks_per_group % 8 == 0
            and 0 < superblock.inodes_per_group <= bits
            and superblock.inodes_per_group % 8 == 0
            and self.inode_bytes in (128, 256, 512, 1024, 2048, 4096)
            and self.inode_bytes <= self.block_bytes
            and superblock.inodes_per_group * self.inode_bytes % self.block_bytes == 0
            and superblock.first_data_block == (1 if self.block_bytes == 1024 else 0)
            and superblock.first_data_block < self.block_count
            and (not is_64bit or self.descriptor_bytes in (64, 128, 256, 512, 1024))
        )
        if not sound:
            raise self.damaged("its superblock describes an impossible geometry")
        if self.block_count * self.block_bytes > self.store.size_bytes:
            raise self.damaged(
                "it is larger than its partition",
                expected=self.block_count * self.block_bytes,
                got=self.store.size_bytes,
            )

    def _inode_passes(self, inode_no: int, inode: Inode, slot: bytes) -> bool:
        value = checksums.inode_checksum(self.inode_seed(inode_no, inode), slot)
        if checksums.has_high_checksum(slot):
            return value == inode.checksum_hi << 16 | inode.checksum_lo
        return value & 0xFFFF == inode.checksum_lo


def parse_inode(slot: bytes) -> Inode:
    """The record at the beginning of an inode's slot."""
    return Inode.parse(slot[:INODE_RECORD_BYTES].ljust(INODE_RECORD_BYTES, b"\0"))


def _is_power(number: int, base: int) -> bool:
    while number > 1 and number % base == 0:
        number //= base
    return number == 1


def _feature_names(bits: int, names: dict[int, str]) -> str:
    found = [
        names.get(1 << position, f"unknown feature {1 << position:#x}")
        for position in range(32)
        if bits >> position & 1
    ]
    return "the feature " + found[0] if len(found) == 1 else "the features " + ", ".join(found)
