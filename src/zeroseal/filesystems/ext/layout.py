"""ext on disk: records and constants.

Source: Linux 6.1 ``Documentation/filesystems/ext4/*.rst``; e2fsprogs ``ext2fs/ext2_fs.h``,
``ext3_extents.h``, ``ext2_ext_attr.h``. The journal's records are in ``journal_layout.py``.
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
COMPAT_STABLE_INODES = 0x800
COMPAT_ORPHAN_FILE = 0x1000
COMPAT_KNOWN = (
    0x1FFF  # up to orphan_file: no bit of them changes a structure that we read otherwise
)

# s_feature_incompat
INCOMPAT_FILETYPE = 0x2
INCOMPAT_RECOVER = 0x4
INCOMPAT_JOURNAL_DEVICE = 0x8
INCOMPAT_META_BG = 0x10
INCOMPAT_EXTENTS = 0x40
INCOMPAT_64BIT = 0x80
INCOMPAT_MMP = 0x100
INCOMPAT_FLEX_BG = 0x200
INCOMPAT_EA_INODE = 0x400
INCOMPAT_CSUM_SEED = 0x2000
INCOMPAT_LARGE_DIR = 0x4000
INCOMPAT_INLINE_DATA = 0x8000
INCOMPAT_CASEFOLD = 0x20000
INCOMPAT_SUPPORTED = (
    INCOMPAT_FILETYPE
    | INCOMPAT_RECOVER
    | INCOMPAT_META_BG
    | INCOMPAT_EXTENTS
    | INCOMPAT_64BIT
    | INCOMPAT_MMP
    | INCOMPAT_FLEX_BG
    | INCOMPAT_EA_INODE
    | INCOMPAT_CSUM_SEED
    | INCOMPAT_LARGE_DIR
    | INCOMPAT_INLINE_DATA
    | INCOMPAT_CASEFOLD
)
INCOMPAT_NAMES = {
    0x1: "compression",
    0x8: "journal_dev",
    0x1000: "dirdata",
    0x10000: "encrypt",
}

# s_feature_ro_compat
RO_SPARSE_SUPER = 0x1
RO_LARGE_FILE = 0x2
RO_HUGE_FILE = 0x8
RO_GDT_CSUM = 0x10
RO_DIR_NLINK = 0x20
RO_EXTRA_ISIZE = 0x40
RO_QUOTA = 0x100
RO_BIGALLOC = 0x200
RO_METADATA_CSUM = 0x400
RO_PROJECT = 0x2000
RO_VERITY = 0x8000
RO_ORPHAN_PRESENT = 0x10000
RO_EDITABLE = (
    RO_SPARSE_SUPER
    | RO_LARGE_FILE
    | 0x4  # btree_dir: never used
    | RO_HUGE_FILE
    | RO_GDT_CSUM
    | RO_DIR_NLINK
    | RO_EXTRA_ISIZE
    | RO_QUOTA
    | RO_BIGALLOC
    | RO_METADATA_CSUM
    | RO_PROJECT
    | RO_VERITY
)
RO_NAMES = {
    0x80: "has_snapshot",
    0x800: "replica",
    0x1000: "readonly",
    0x4000: "shared_blocks",
}

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
INODE_VERITY = 0x100000  # a hash tree lies behind the end of the content
INODE_EA_INODE = 0x200000  # holds an attribute's value and has no name
INODE_INLINE_DATA = 0x10000000
INODE_PROJECT_INHERIT = 0x20000000
INODE_CASEFOLD = 0x40000000

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
INLINE_PARENT_BYTES = 4  # an inline folder begins with its parent's inode
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
    log_cluster_size: int = at(0x1C, "I", "a cluster is 1024 << this many bytes")
    blocks_per_group: int = at(0x20, "I")
    clusters_per_group: int = at(0x24, "I")
    inodes_per_group: int = at(0x28, "I")
    magic: int = at(0x38, "H")
    state: int = at(0x3A, "H")
    revision: int = at(0x4C, "I")
    first_inode: int = at(0x54, "I", "first inode that is not reserved")
    inode_bytes: int = at(0x58, "H")
    compat: int = at(0x5C, "I")
    group_number: int = at(0x5A, "H", "of a copy: the group that it lies in")
    incompat: int = at(0x60, "I")
    ro_compat: int = at(0x64, "I")
    uuid: bytes = at(0x68, "16s")
    label: bytes = at(0x78, "16s")
    last_mounted: bytes = at(0x88, "64s", "the folder it was mounted on")
    journal_uuid: bytes = at(0xD0, "16s", "of a journal on another device")
    reserved_gdt_blocks: int = at(0xCE, "H", "blocks kept for the descriptor table to grow")
    journal_inode: int = at(0xE0, "I")
    journal_device: int = at(0xE4, "I")
    last_orphan: int = at(0xE8, "I", "first inode of the orphan list")
    hash_seed: bytes = at(0xEC, "16s")
    default_hash: int = at(0xFC, "B")
    descriptor_bytes: int = at(0xFE, "H", "with 64bit; else descriptors have 32 bytes")
    first_meta_group: int = at(0x104, "I", "with meta_bg")
    blocks_count_hi: int = at(0x150, "I")
    reserved_blocks_hi: int = at(0x154, "I")
    free_blocks_hi: int = at(0x158, "I")
    want_extra_isize: int = at(0x15E, "H", "i_extra_isize of new inodes")
    flags: int = at(0x160, "I")
    mmp_block: int = at(0x168, "Q", "with mmp")
    log_groups_per_flex: int = at(0x174, "B")
    checksum_type: int = at(0x175, "B", "1 for crc32c")
    user_quota_inode: int = at(0x240, "I", "with quota")
    group_quota_inode: int = at(0x244, "I")
    overhead_clusters: int = at(0x248, "I", "0 where nobody has counted")
    backup_group_1: int = at(0x24C, "I", "with sparse_super2")
    backup_group_2: int = at(0x250, "I")
    project_quota_inode: int = at(0x26C, "I")
    checksum_seed: int = at(0x270, "I", "with metadata_csum_seed")
    encoding: int = at(0x27C, "H", "with casefold: 1 for UTF-8")
    encoding_flags: int = at(0x27E, "H", "1: names must be valid in the encoding")
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
    version: int = at(0x24, "I", "of a value inode: the lower half of its reference count")
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
    project: int = at(0x9C, "I")

    @property
    def type(self) -> int:
        """The file type bits of the mode."""
        return self.mode & MODE_TYPE_MASK

    @property
    def has_extra_times(self) -> bool:
        """Whether ``changed_extra`` and ``modified_extra`` are in use."""
        return self.extra_isize >= 12

    @property
    def has_project(self) -> bool:
        """Whether ``project`` is in use."""
        return self.extra_isize >= 32

    @property
    def is_inline(self) -> bool:
        """Whether the content lies in the inode itself."""
        return bool(self.flags & INODE_INLINE_DATA)

    @property
    def value_references(self) -> int:
        """How many attributes refer to this inode, if it is a value inode."""
        return self.changed_at << 32 | self.version

    @value_references.setter
    def value_references(self, value: int) -> None:
        self.changed_at, self.version = value >> 32, value & 0xFFFFFFFF

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


@record(size=1024, byte_order="<", source=f"{_KERNEL}/mmp.rst")
class MmpBlock(Record):
    """Says whether some machine has the volume mounted, and which one had it last."""

    magic: int = at(0x0, "I", "0x004D4D50")
    sequence: int = at(0x4, "I")
    time: int = at(0x8, "Q")
    node_name: bytes = at(0x10, "64s", "host name of who mounted it last")
    device_name: bytes = at(0x50, "32s")
    checksum: int = at(0x3FC, "I")


MMP_MAGIC = 0x004D4D50
MMP_CLEAN = 0xFF4D4D50

ORPHAN_BLOCK_MAGIC = 0x0B10CA04
ORPHAN_TAIL_BYTES = 8  # magic and checksum, at the end of each block of the orphan file


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
