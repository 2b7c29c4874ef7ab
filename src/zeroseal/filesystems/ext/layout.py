"""ext on disk: records and constants.

Source: Linux 6.1 ``Documentation/filesystems/ext4/*.rst``; e2fsprogs ``ext2fs/ext2_fs.h``,
``ext3_extents.h``, ``ext2_ext_attr.h``; ``journal.rst`` for the journal's superblock.
"""

from __future__ import annotations

from zeroseal.blocks.records import Record, at, record

SUPERBLOCK_OFFSET = 1024
SUPERBLOCK_BYTES = 1024
MAGIC = 0xEF53
BAD_BLOCKS_INODE, ROOT_INODE, RESIZE_INODE, JOURNAL_INODE = 1, 2, 7, 8

# s_state
STATE_CLEAN, STATE_ERRORS = 1, 2

# s_feature_compat
COMPAT_HAS_JOURNAL = 0x4
COMPAT_EXT_ATTR = 0x8
COMPAT_RESIZE_INODE = 0x10
COMPAT_DIR_INDEX = 0x20
COMPAT_SPARSE_SUPER2 = 0x200
COMPAT_ORPHAN_FILE = 0x1000

# s_feature_incompat
INCOMPAT_FILETYPE = 0x2
INCOMPAT_RECOVER = 0x4
INCOMPAT_EXTENTS = 0x40
INCOMPAT_64BIT = 0x80
INCOMPAT_FLEX_BG = 0x200
INCOMPAT_CSUM_SEED = 0x2000
INCOMPAT_SUPPORTED = (
    INCOMPAT_FILETYPE
    | INCOMPAT_RECOVER
    | INCOMPAT_EXTENTS
    | INCOMPAT_64BIT
    | INCOMPAT_FLEX_BG
    | INCOMPAT_CSUM_SEED
)
INCOMPAT_NAMES = {
    0x1: "compression",
    0x8: "journal_dev",
    0x10: "meta_bg",
    0x100: "mmp",
    0x400: "ea_inode",
    0x1000: "dirdata",
    0x4000: "large_dir",
    0x8000: "inline_data",
    0x10000: "encrypt",
    0x20000: "casefold",
}

# s_feature_ro_compat
RO_SPARSE_SUPER = 0x1
RO_LARGE_FILE = 0x2
RO_HUGE_FILE = 0x8
RO_GDT_CSUM = 0x10
RO_DIR_NLINK = 0x20
RO_EXTRA_ISIZE = 0x40
RO_METADATA_CSUM = 0x400
RO_ORPHAN_PRESENT = 0x10000
RO_EDITABLE = (
    RO_SPARSE_SUPER
    | RO_LARGE_FILE
    | 0x4  # btree_dir: never used
    | RO_HUGE_FILE
    | RO_GDT_CSUM
    | RO_DIR_NLINK
    | RO_EXTRA_ISIZE
    | RO_METADATA_CSUM
)
RO_NAMES = {
    0x80: "has_snapshot",
    0x100: "quota",
    0x200: "bigalloc",
    0x800: "replica",
    0x1000: "readonly",
    0x2000: "project",
    0x4000: "shared_blocks",
    0x8000: "verity",
}
RO_UNREADABLE = 0x200  # bigalloc changes what a bitmap's bit means

# s_flags
FLAG_SIGNED_HASH, FLAG_UNSIGNED_HASH = 1, 2

# bg_flags
GROUP_INODE_UNINIT, GROUP_BLOCK_UNINIT, GROUP_INODE_ZEROED = 1, 2, 4

# i_mode
MODE_TYPE_MASK = 0xF000
MODE_PIPE, MODE_CHARACTER, MODE_FOLDER, MODE_BLOCK = 0x1000, 0x2000, 0x4000, 0x6000
MODE_FILE, MODE_LINK, MODE_SOCKET = 0x8000, 0xA000, 0xC000

# i_flags
INODE_IMMUTABLE, INODE_APPEND_ONLY = 0x10, 0x20
INODE_INDEX = 0x1000
INODE_HUGE_FILE = 0x40000
INODE_EXTENTS = 0x80000
INODE_EA_INODE = 0x200000

# directory entry types, by i_mode
ENTRY_TYPES = {
    MODE_FILE: 1,
    MODE_FOLDER: 2,
    MODE_CHARACTER: 3,
    MODE_BLOCK: 4,
    MODE_PIPE: 5,
    MODE_SOCKET: 6,
    MODE_LINK: 7,
}
TAIL_TYPE = 0xDE
TAIL_BYTES = 12
ENTRY_HEADER_BYTES = 8
MAX_NAME_BYTES = 255

DIRECT_BLOCKS = 12
INODE_BASE_BYTES = 128

EXTENT_MAGIC = 0xF30A
EXTENT_BYTES = 12
MAX_EXTENT_DEPTH = 5
MAX_EXTENT_BLOCKS = 32768  # a longer length means: allocated but unwritten

XATTR_MAGIC = 0xEA020000
XATTR_PREFIXES = {
    0: b"",
    1: b"user.",
    2: b"system.posix_acl_access",
    3: b"system.posix_acl_default",
    4: b"trusted.",
    6: b"security.",
    7: b"system.",
    8: b"system.richacl",
}

_KERNEL = "Linux 6.1 Documentation/filesystems/ext4"


@record(size=SUPERBLOCK_BYTES, byte_order="<", source=f"{_KERNEL}/super.rst")
class Superblock(Record):
    """The superblock, at byte 1024; copies of it in other groups are never read here."""

    inodes_count: int = at(0x0, "I")
    blocks_count_lo: int = at(0x4, "I")
    reserved_blocks_lo: int = at(0x8, "I")
    free_blocks_lo: int = at(0xC, "I")
    free_inodes: int = at(0x10, "I")
    first_data_block: int = at(0x14, "I", "1 with 1 KiB blocks, else 0")
    log_block_size: int = at(0x18, "I", "a block is 1024 << this many bytes")
    blocks_per_group: int = at(0x20, "I")
    inodes_per_group: int = at(0x28, "I")
    magic: int = at(0x38, "H")
    state: int = at(0x3A, "H")
    revision: int = at(0x4C, "I")
    first_inode: int = at(0x54, "I", "first inode that is not reserved")
    inode_bytes: int = at(0x58, "H")
    compat: int = at(0x5C, "I")
    incompat: int = at(0x60, "I")
    ro_compat: int = at(0x64, "I")
    uuid: bytes = at(0x68, "16s")
    label: bytes = at(0x78, "16s")
    reserved_gdt_blocks: int = at(0xCE, "H", "blocks kept for the descriptor table to grow")
    journal_inode: int = at(0xE0, "I")
    journal_device: int = at(0xE4, "I")
    last_orphan: int = at(0xE8, "I", "first inode of the orphan list")
    hash_seed: bytes = at(0xEC, "16s")
    default_hash: int = at(0xFC, "B")
    descriptor_bytes: int = at(0xFE, "H", "with 64bit; else descriptors have 32 bytes")
    blocks_count_hi: int = at(0x150, "I")
    reserved_blocks_hi: int = at(0x154, "I")
    free_blocks_hi: int = at(0x158, "I")
    want_extra_isize: int = at(0x15E, "H", "i_extra_isize of new inodes")
    flags: int = at(0x160, "I")
    log_groups_per_flex: int = at(0x174, "B")
    checksum_type: int = at(0x175, "B", "1 for crc32c")
    backup_group_1: int = at(0x24C, "I", "with sparse_super2")
    backup_group_2: int = at(0x250, "I")
    checksum_seed: int = at(0x270, "I", "with metadata_csum_seed")
    orphan_file_inode: int = at(0x280, "I", "with orphan_file")
    checksum: int = at(0x3FC, "I")


@record(size=64, byte_order="<", source=f"{_KERNEL}/group_descr.rst")
class GroupDescriptor(Record):
    """A group descriptor; those of 32 bytes are read as if zeros followed."""

    block_bitmap_lo: int = at(0x0, "I")
    inode_bitmap_lo: int = at(0x4, "I")
    inode_table_lo: int = at(0x8, "I")
    free_blocks_lo: int = at(0xC, "H")
    free_inodes_lo: int = at(0xE, "H")
    folders_lo: int = at(0x10, "H")
    flags: int = at(0x12, "H")
    block_bitmap_checksum_lo: int = at(0x18, "H")
    inode_bitmap_checksum_lo: int = at(0x1A, "H")
    unused_inodes_lo: int = at(0x1C, "H", "inodes at the end of the table never used")
    checksum: int = at(0x1E, "H")
    block_bitmap_hi: int = at(0x20, "I")
    inode_bitmap_hi: int = at(0x24, "I")
    inode_table_hi: int = at(0x28, "I")
    free_blocks_hi: int = at(0x2C, "H")
    free_inodes_hi: int = at(0x2E, "H")
    folders_hi: int = at(0x30, "H")
    unused_inodes_hi: int = at(0x32, "H")
    block_bitmap_checksum_hi: int = at(0x38, "H")
    inode_bitmap_checksum_hi: int = at(0x3A, "H")

    @property
    def block_bitmap(self) -> int:
        """Block that holds the block bitmap."""
        return self.block_bitmap_hi << 32 | self.block_bitmap_lo

    @property
    def inode_bitmap(self) -> int:
        """Block that holds the inode bitmap."""
        return self.inode_bitmap_hi << 32 | self.inode_bitmap_lo

    @property
    def inode_table(self) -> int:
        """First block of the group's slice of the inode table."""
        return self.inode_table_hi << 32 | self.inode_table_lo

    @property
    def free_blocks(self) -> int:
        """Free blocks of the group."""
        return self.free_blocks_hi << 16 | self.free_blocks_lo

    @free_blocks.setter
    def free_blocks(self, value: int) -> None:
        self.free_blocks_hi, self.free_blocks_lo = value >> 16, value & 0xFFFF

    @property
    def free_inodes(self) -> int:
        """Free inodes of the group."""
        return self.free_inodes_hi << 16 | self.free_inodes_lo

    @free_inodes.setter
    def free_inodes(self, value: int) -> None:
        self.free_inodes_hi, self.free_inodes_lo = value >> 16, value & 0xFFFF

    @property
    def folders(self) -> int:
        """Folders whose inode lies in the group."""
        return self.folders_hi << 16 | self.folders_lo

    @folders.setter
    def folders(self, value: int) -> None:
        self.folders_hi, self.folders_lo = value >> 16, value & 0xFFFF

    @property
    def unused_inodes(self) -> int:
        """Inodes at the end of the group's table that were never used."""
        return self.unused_inodes_hi << 16 | self.unused_inodes_lo

    @unused_inodes.setter
    def unused_inodes(self, value: int) -> None:
        self.unused_inodes_hi, self.unused_inodes_lo = value >> 16, value & 0xFFFF


INODE_RECORD_BYTES = 160


@record(size=INODE_RECORD_BYTES, byte_order="<", source=f"{_KERNEL}/inodes.rst")
class Inode(Record):
    """An inode: the 128 bytes of old, and of the larger ones what ``extra_isize`` says."""

    mode: int = at(0x0, "H")
    uid_lo: int = at(0x2, "H")
    size_lo: int = at(0x4, "I")
    accessed_at: int = at(0x8, "I")
    changed_at: int = at(0xC, "I")
    modified_at: int = at(0x10, "I")
    deleted_at: int = at(0x14, "I")
    gid_lo: int = at(0x18, "H")
    link_count: int = at(0x1A, "H")
    sectors_lo: int = at(0x1C, "I", "512-byte sectors, or blocks with INODE_HUGE_FILE")
    flags: int = at(0x20, "I")
    block: bytes = at(0x28, "60s", "extent tree root, block list, or a short link's target")
    generation: int = at(0x64, "I")
    xattr_block_lo: int = at(0x68, "I")
    size_hi: int = at(0x6C, "I")
    sectors_hi: int = at(0x74, "H")
    xattr_block_hi: int = at(0x76, "H")
    uid_hi: int = at(0x78, "H")
    gid_hi: int = at(0x7A, "H")
    checksum_lo: int = at(0x7C, "H")
    extra_isize: int = at(0x80, "H", "how much of the large inode is in use behind byte 128")
    checksum_hi: int = at(0x82, "H")
    changed_extra: int = at(0x84, "I", "2 bits of seconds, 30 of nanoseconds")
    modified_extra: int = at(0x88, "I")
    accessed_extra: int = at(0x8C, "I")
    created_at: int = at(0x90, "I")
    created_extra: int = at(0x94, "I")

    @property
    def type(self) -> int:
        """The file type bits of the mode."""
        return self.mode & MODE_TYPE_MASK

    @property
    def has_extra_times(self) -> bool:
        """Whether ``changed_extra`` and ``modified_extra`` are in use."""
        return self.extra_isize >= 12

    @property
    def is_folder(self) -> bool:
        """Whether it is a folder."""
        return self.type == MODE_FOLDER

    @property
    def size(self) -> int:
        """Size in bytes."""
        return self.size_hi << 32 | self.size_lo

    @size.setter
    def size(self, value: int) -> None:
        self.size_hi, self.size_lo = value >> 32, value & 0xFFFFFFFF

    @property
    def sectors(self) -> int:
        """Space it takes, in sectors (or in blocks, with INODE_HUGE_FILE)."""
        return self.sectors_hi << 32 | self.sectors_lo

    @sectors.setter
    def sectors(self, value: int) -> None:
        self.sectors_hi, self.sectors_lo = value >> 32, value & 0xFFFFFFFF

    @property
    def xattr_block(self) -> int:
        """Block that holds further extended attributes, 0 for none."""
        return self.xattr_block_hi << 32 | self.xattr_block_lo

    @xattr_block.setter
    def xattr_block(self, value: int) -> None:
        self.xattr_block_hi, self.xattr_block_lo = value >> 32, value & 0xFFFFFFFF

    @property
    def uid(self) -> int:
        """Owner."""
        return self.uid_hi << 16 | self.uid_lo

    @property
    def gid(self) -> int:
        """Group."""
        return self.gid_hi << 16 | self.gid_lo


@record(size=12, byte_order="<", source=f"{_KERNEL}/ifork.rst, extent tree")
class ExtentHeader(Record):
    """Begins each node of an extent tree."""

    magic: int = at(0, "H")
    entries: int = at(2, "H")
    max_entries: int = at(4, "H")
    depth: int = at(6, "H", "0 for a leaf")
    generation: int = at(8, "I")


@record(size=1024, byte_order=">", source=f"{_KERNEL}/journal.rst, super block")
class JournalSuperblock(Record):
    """First block of the journal (jbd2), big-endian."""

    magic: int = at(0x0, "I", "0xC03B3998")
    block_type: int = at(0x4, "I", "3: version 1, 4: version 2")
    block_bytes: int = at(0xC, "I")
    block_count: int = at(0x10, "I")
    first_block: int = at(0x14, "I", "first block of the log itself")
    sequence: int = at(0x18, "I")
    start: int = at(0x1C, "I", "block where the log starts, 0: empty")
    incompat: int = at(0x28, "I")
    checksum_type: int = at(0x50, "B")
    checksum: int = at(0xFC, "I")


JOURNAL_MAGIC = 0xC03B3998


@record(size=32, byte_order="<", source=f"{_KERNEL}/attributes.rst")
class XattrBlockHeader(Record):
    """Begins a block of extended attributes."""

    magic: int = at(0x0, "I")
    reference_count: int = at(0x4, "I")
    block_count: int = at(0x8, "I")
    hash: int = at(0xC, "I")
    checksum: int = at(0x10, "I")


@record(size=16, byte_order="<", source=f"{_KERNEL}/attributes.rst")
class XattrEntry(Record):
    """Begins one extended attribute; its name follows."""

    name_bytes: int = at(0, "B")
    name_index: int = at(1, "B")
    value_offset: int = at(2, "H")
    value_inode: int = at(4, "I")
    value_bytes: int = at(8, "I")
    hash: int = at(12, "I")
