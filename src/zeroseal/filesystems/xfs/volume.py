"""One XFS volume: geometry, numbers, headers and inodes, checked as they are read."""

from __future__ import annotations

from dataclasses import dataclass

from zeroseal.blocks.checksums import crc32c
from zeroseal.blocks.store import Store
from zeroseal.errors import DamagedError, NeedsRecoveryError, UnsupportedError
from zeroseal.filesystems.xfs import layout
from zeroseal.filesystems.xfs.layout import Agf, Agi, Inode, Superblock
from zeroseal.filesystems.xfs.log import is_clean_log
from zeroseal.messages import xfs as messages

_START = 0xFFFFFFFF


def checksum(content: bytes | bytearray, offset: int) -> int:
    """The CRC-32C of a structure whose own field lies at ``offset``."""
    running = crc32c(_START, content[:offset])
    return ~crc32c(crc32c(running, bytes(4)), content[offset + 4 :]) & 0xFFFFFFFF


def with_checksum(content: bytes | bytearray, offset: int) -> bytes:
    """A structure with its checksum put in."""
    made = bytearray(content)
    made[offset : offset + 4] = checksum(made, offset).to_bytes(4, "little")
    return bytes(made)


def passes(content: bytes, offset: int) -> bool:
    """Whether a structure's checksum fits."""
    return checksum(content, offset) == int.from_bytes(content[offset : offset + 4], "little")


@dataclass(frozen=True)
class Slot:
    """An inode with all of its bytes; the forks lie behind the core."""

    number: int
    inode: Inode
    raw: bytes


class XfsVolume:
    """An opened XFS volume of version 4 or 5.

    Attributes:
        has_crc: whether it is version 5; an index into pairs of ``layout`` as well.

    Raises:
        UnsupportedError: a feature that we do not know, or do not handle.
        NeedsRecoveryError: its log is not empty.
        DamagedError: the superblock contradicts itself.
    """

    def __init__(self, store: Store, where: str = "the volume", ignore_log: bool = False) -> None:
        self.store, self.where = store, where
        first = Superblock.parse(store.read(0, Superblock.SIZE))
        if first.magic != layout.MAGIC:
            raise DamagedError(messages.NO_XFS_FILE_SYSTEM.format(where=where))
        self.superblock = first
        self._check_geometry()
        self.has_crc = first.version & layout.VERSION_BITS == 5
        self.raw_superblock = store.read(0, first.sector_bytes)
        if self.has_crc and not passes(self.raw_superblock, layout.SUPERBLOCK_CRC):
            raise self.damaged(messages.SUPERBLOCK_FAILS_CHECKSUM)
        self._check_features()
        has_own = self.has_crc and first.incompat & layout.INCOMPAT_META_UUID
        self.uuid = first.meta_uuid if has_own else first.uuid
        self.block_bytes = first.block_bytes
        self.folder_bytes = first.block_bytes << first.folder_block_log
        self.folder_blocks = 1 << first.folder_block_log
        self.core_bytes = layout.CORE_BYTES[3 if self.has_crc else 2]
        self.fork_bytes = first.inode_bytes - self.core_bytes
        self.has_types = bool(
            first.incompat & layout.INCOMPAT_FTYPE
            if self.has_crc
            else first.features2 & layout.FEATURES2_FTYPE
        )
        self._group_bits = first.group_log
        self._inode_bits = first.group_log + first.inodes_per_block_log
        if not ignore_log and not is_clean_log(store, first):
            raise NeedsRecoveryError(messages.NOT_UNMOUNTED_CLEANLY.format(where=where))

    def damaged(self, what: str) -> DamagedError:
        """The error for a structure that contradicts the format."""
        return DamagedError(messages.DAMAGED.format(where=self.where, what=what))

    def has_feature(self, ro_compat: int) -> bool:
        """Whether a version 5 volume has one of the ``RO_`` features."""
        return self.has_crc and bool(self.superblock.ro_compat & ro_compat)

    # -- numbers

    def group_of(self, fsblock: int) -> tuple[int, int]:
        """(group, block in it) of a block by its number in mappings."""
        return fsblock >> self._group_bits, fsblock & ((1 << self._group_bits) - 1)

    def fsblock(self, group: int, agblock: int) -> int:
        """The number that mappings have for a block of a group."""
        return group << self._group_bits | agblock

    def offset_of(self, fsblock: int) -> int:
        """Where a block lies, in bytes."""
        group, agblock = self.group_of(fsblock)
        return self.group_offset(group, agblock)

    def group_offset(self, group: int, agblock: int) -> int:
        """Where a block of a group lies, in bytes."""
        return (group * self.superblock.group_blocks + agblock) * self.block_bytes

    def sector_of(self, fsblock: int) -> int:
        """Where a block lies, as structures say of themselves: in 512 bytes."""
        return self.offset_of(fsblock) // layout.SECTOR

    def blocks_in(self, group: int) -> int:
        """How many blocks a group has; the last one may have fewer."""
        superblock = self.superblock
        before = group * superblock.group_blocks
        return min(superblock.group_blocks, superblock.blocks - before)

    def has_run(self, fsblock: int, count: int) -> bool:
        """Whether blocks lie in one group of the volume, behind its headers."""
        group, agblock = self.group_of(fsblock)
        return group < self.superblock.group_count and agblock + count <= self.blocks_in(group)

    def inode_place(self, number: int) -> tuple[int, int]:
        """(group, number in the group) of an inode."""
        return number >> self._inode_bits, number & ((1 << self._inode_bits) - 1)

    def inode_number(self, group: int, agino: int) -> int:
        """The number of a group's inode on the volume."""
        return group << self._inode_bits | agino

    def inode_offset(self, number: int) -> int:
        """Where an inode lies, in bytes.

        Raises:
            DamagedError: there is no such place.
        """
        superblock = self.superblock
        group, agino = self.inode_place(number)
        agblock, index = divmod(agino, superblock.inodes_per_block)
        if group >= superblock.group_count or agblock >= self.blocks_in(group):
            raise self.damaged(messages.INODE_REFERENCED_DOES_NOT_EXIST.format(number=number))
        return self.group_offset(group, agblock) + index * superblock.inode_bytes

    # -- structures

    def read_block(self, fsblock: int, count: int = 1) -> bytes:
        """Reads neighbouring blocks.

        Raises:
            DamagedError: they do not lie inside the volume.
        """
        if not self.has_run(fsblock, count):
            raise self.damaged(messages.BLOCK_REFERENCED_DOES_NOT_EXIST.format(fsblock=fsblock))
        return self.store.read(self.offset_of(fsblock), count * self.block_bytes)

    def header_offset(self, group: int, sector: int) -> int:
        """Where a header of a group lies: 0 superblock, 1 AGF, 2 AGI, 3 AGFL."""
        return self.group_offset(group, 0) + sector * self.superblock.sector_bytes

    def read_header(self, group: int, sector: int, crc_at: int) -> bytes:
        """Reads a sector with a header of a group.

        Raises:
            DamagedError: it fails its checksum.
        """
        sector_bytes = self.superblock.sector_bytes
        raw = self.store.read(self.header_offset(group, sector), sector_bytes)
        if self.has_crc and not passes(raw, crc_at):
            raise self.damaged(messages.HEADER_OF_GROUP_FAILS_CHECKSUM.format(group=group))
        return raw

    def read_agf(self, group: int) -> Agf:
        """The header of a group's free space."""
        agf = Agf.parse(self.read_header(group, 1, layout.AGF_CRC)[: Agf.SIZE])
        if agf.magic != layout.AGF_MAGIC or agf.blocks != self.blocks_in(group):
            raise self.damaged(messages.FREE_SPACE_HEADER_OF_GROUP_MISSING.format(group=group))
        return agf

    def read_agi(self, group: int) -> Agi:
        """The header of a group's inodes."""
        agi = Agi.parse(self.read_header(group, 2, layout.AGI_CRC)[: Agi.SIZE])
        if agi.magic != layout.AGI_MAGIC or agi.blocks != self.blocks_in(group):
            raise self.damaged(messages.INODE_HEADER_OF_GROUP_MISSING.format(group=group))
        return agi

    @property
    def list_size(self) -> int:
        """How many blocks a group's list of reserved blocks can hold."""
        header = layout.AGFL_HEADER_BYTES if self.has_crc else 0
        return (self.superblock.sector_bytes - header) // 4

    def read_list(self, group: int, agf: Agf) -> list[int]:
        """The blocks that a group keeps for its trees."""
        raw = self.read_header(group, 3, layout.AGFL_CRC)
        start, size = layout.AGFL_HEADER_BYTES if self.has_crc else 0, self.list_size
        if agf.list_count > size or agf.list_first >= size:
            raise self.damaged(messages.RESERVED_LIST_TOO_LONG.format(group=group))
        found = []
        for number in range(agf.list_count):
            place = start + (agf.list_first + number) % size * 4
            found.append(int.from_bytes(raw[place : place + 4], "big"))
        if any(block >= self.blocks_in(group) for block in found):
            raise self.damaged(messages.RESERVED_LIST_LEAVES_GROUP.format(group=group))
        return found

    def read_slot(self, number: int) -> Slot:
        """An inode with its forks.

        Raises:
            DamagedError: it is none, or fails its checksum.
        """
        raw = self.store.read(self.inode_offset(number), self.superblock.inode_bytes)
        return self.parse_slot(number, raw)

    def parse_slot(self, number: int, raw: bytes) -> Slot:
        """An inode from its bytes; see ``read_slot``."""
        inode = self.parse_core(raw)
        if inode.magic != layout.INODE_MAGIC or inode.version != (3 if self.has_crc else 2):
            raise self.damaged(messages.INODE_MISSING.format(number=number))
        if self.has_crc and not passes(raw, layout.INODE_CRC):
            raise self.damaged(messages.INODE_FAILS_CHECKSUM.format(number=number))
        if self.has_crc and inode.number != number:
            raise self.damaged(messages.INODE_RECORDS_ANOTHER_INODE_NUMBER.format(number=number))
        return Slot(number, inode, raw)

    def parse_core(self, raw: bytes) -> Inode:
        """An inode's own data; of version 2 the fields that are not there are 0."""
        return Inode.parse(raw[: self.core_bytes].ljust(Inode.SIZE, b"\0"))

    def write_slot(self, number: int, inode: Inode, forks: bytes) -> None:
        """Writes an inode with its forks, which fill the rest of its place."""
        raw = inode.build()[: self.core_bytes] + forks
        if len(raw) != self.superblock.inode_bytes:
            raise ValueError(messages.IMPOSSIBLE_INODE_SIZE.format(raw=len(raw)))
        if self.has_crc:
            raw = with_checksum(raw, layout.INODE_CRC)
        self.store.write(self.inode_offset(number), raw)

    # -- inside

    def reread(self) -> None:
        """Reads again what is kept of the superblock; its bytes were changed beneath it."""
        self.raw_superblock = self.store.read(0, self.superblock.sector_bytes)
        self.superblock = Superblock.parse(self.raw_superblock[: Superblock.SIZE])

    def _check_geometry(self) -> None:
        superblock = self.superblock
        sound = (
            superblock.block_bytes == 1 << superblock.block_log
            and superblock.sector_bytes == 1 << superblock.sector_log
            and superblock.inode_bytes == 1 << superblock.inode_log
            and 9 <= superblock.block_log <= 16
            and 9 <= superblock.sector_log <= min(15, superblock.block_log)
            and 8 <= superblock.inode_log <= 11
            and superblock.inodes_per_block == superblock.block_bytes // superblock.inode_bytes
            and superblock.inodes_per_block == 1 << superblock.inodes_per_block_log
            and 64 <= superblock.group_blocks <= 1 << superblock.group_log <= 1 << 31
            and superblock.group_log < 32
            and superblock.group_blocks > 1 << (superblock.group_log - 1) >> 1
            and superblock.folder_block_log + superblock.block_log <= 16
            and superblock.group_count == -(-superblock.blocks // max(1, superblock.group_blocks))
        )
        if not sound:
            raise self.damaged(messages.SUPERBLOCK_DESCRIBES_IMPOSSIBLE_GEOMETRY)
        if superblock.blocks * superblock.block_bytes > self.store.size_bytes:
            raise self.damaged(messages.LARGER_THAN_PARTITION)
        if superblock.in_progress:
            raise self.damaged(messages.NEVER_COMPLETED)

    def _check_features(self) -> None:
        superblock = self.superblock
        refused = []
        version = superblock.version & layout.VERSION_BITS
        if version not in (4, 5):
            raise UnsupportedError(
                messages.VERSION_NOT_SUPPORTED.format(where=self.where, version=version)
            )
        if superblock.realtime_blocks:
            refused.append("a realtime section")
        if not superblock.log_start:
            refused.append("its log on another device")
        refused += [
            f"the feature {name}"
            for bit, name in layout.VERSION_NAMES.items()
            if superblock.version & bit
        ]
        if not superblock.version & layout.VERSION_DIRV2:
            refused.append("folders of the first version")
        unknown = superblock.features2 & ~layout.FEATURES2_KNOWN
        if superblock.version & layout.VERSION_MOREBITS and unknown:
            refused.append(f"unknown features ({unknown:#x})")
        if self.has_crc:
            refused += self._unknown_features()
        if refused:
            raise UnsupportedError(
                messages.FEATURES_NOT_SUPPORTED.format(
                    where=self.where, refused=" and ".join(refused)
                )
            )

    def _unknown_features(self) -> list[str]:
        superblock = self.superblock
        found = []
        for value, known in (
            (superblock.incompat, layout.INCOMPAT_KNOWN),
            (superblock.ro_compat, layout.RO_KNOWN),
            (superblock.log_incompat, layout.LOG_INCOMPAT_KNOWN),
        ):
            names = layout.INCOMPAT_NAMES if value == superblock.incompat else {}
            found += [
                f"the feature {names.get(1 << bit, hex(1 << bit))}"
                for bit in range(32)
                if value & ~known & 1 << bit
            ]
        if superblock.incompat & layout.INCOMPAT_NEEDSREPAIR:
            found = ["a mark that it needs xfs_repair"]
        return found
