"""On-disk records and constants of btrfs.

Source: btrfs documentation, "On-disk Format", and the kernel's uapi header ``linux/btrfs_tree.h``.
All integers are little-endian.
"""

from __future__ import annotations

import stat
from typing import NamedTuple

from zeroseal.blocks.records import Record, at, record

SUPERBLOCK_AT, SUPERBLOCK_BYTES = 0x10000, 4096
MIRRORS_AT = (1 << 26, 1 << 38)  # further superblocks, where the device reaches so far
STRIPE_BYTES = 1 << 16  # what is kept free around a superblock
BOOT_AREA_BYTES = 1 << 20  # nothing is allocated in front of it: boot loaders lie there
BACKUPS_AT, BACKUPS = 2859, 4
MAGIC = b"_BHRfS_M"
CHECKSUM_BYTES = 32
SYSTEM_CHUNKS_AT, SYSTEM_CHUNKS_BYTES = 811, 2048

EXTENT_TREE, DEVICE_TREE, FREE_SPACE_TREE, BLOCK_GROUP_TREE = 2, 4, 10, 11
ROOT_TREE, CHUNK_TREE, FS_TREE, ROOT_DIRECTORY, CHECKSUM_TREE = 1, 3, 5, 6, 7
FIRST_SUBVOLUME, FIRST_INODE, EMPTY_FOLDER = 256, 256, 2
CHECKSUMS = (1 << 64) - 10  # the object that data checksums belong to

QUOTA_TREE, UUID_TREE = 8, 9
LAST_NUMBER = (1 << 64) - 257  # the largest of an inode or a subvolume
DATA_RELOCATION_TREE, RELOCATION_TREE, BALANCE = (1 << 64) - 9, (1 << 64) - 8, (1 << 64) - 4
ORPHANS, ORPHAN_ITEM = (1 << 64) - 5, 48

INODE_ITEM, INODE_REF, XATTR_ITEM, DIR_ITEM, DIR_INDEX, EXTENT_DATA = 1, 12, 24, 84, 96, 108
EXTENT_CHECKSUM, ROOT_ITEM, ROOT_BACKREF, ROOT_REF, CHUNK_ITEM = 128, 132, 144, 156, 228

EXTENDED_REF = 13
EXTENT_ITEM, METADATA_ITEM, EXTENT_OWNER_REF = 168, 169, 172
TREE_BLOCK_REF, EXTENT_DATA_REF, SHARED_BLOCK_REF, SHARED_DATA_REF = 176, 178, 182, 184
REFERENCE_KINDS = (TREE_BLOCK_REF, EXTENT_DATA_REF, SHARED_BLOCK_REF, SHARED_DATA_REF)
BLOCK_GROUP_ITEM, FREE_SPACE_EXTENT, FREE_SPACE_BITMAP = 192, 199, 200
DEVICE_EXTENT = 204
FREE_SPACE_INFO = 198
EXTENT_OF_DATA, EXTENT_OF_NODE, ALL_BY_PARENT = 1, 2, 0x100  # flags of an extent
GROUP_OF_DATA, GROUP_OF_SYSTEM, GROUP_OF_NODES = 1, 2, 4  # flags of a chunk

LAST = (1 << 64) - 1  # the largest object, and the largest offset of a key

INLINE, REGULAR, PREALLOCATED = 0, 1, 2
PLAIN, ZLIB, LZO, ZSTD = 0, 1, 2, 3
HAS_HASHES = 1 << 32  # flag of an inode: fs-verity
NO_DATA_SUMS, NO_COPY_ON_WRITE, NO_PACKING, PACKED = 0x1, 0x2, 0x8, 0x800  # flags of an inode
MOST_EXTENT_BYTES = 128 << 20
SKINNY, HAS_NO_HOLE_ITEMS, METADATA_UUID = 0x100, 0x200, 0x400  # incompatible features
SIMPLE_QUOTA = 0x10000
EXTENDED_REFS = 0x40
KEPT_FEATURES = 0x1 | 0x2 | 0x4 | 0x8  # free-space tree and its mark, verity, group tree
FREE_SPACE_FEATURE, FREE_SPACE_VALID, GROUP_TREE_FEATURE = 1, 2, 8  # compat_ro features
READ_ONLY_SUBVOLUME = 1  # flag of a root

DUP = 0x20
PROFILES = {
    0x8: "RAID0", 0x10: "RAID1", 0x40: "RAID10", 0x80: "RAID5", 0x100: "RAID6",
    0x200: "RAID1C3", 0x400: "RAID1C4",
}  # fmt: skip
SEEDING = 1 << 32  # flag of a superblock
# incompatible features that are read, and those that are known by name only
READ_FEATURES = 0x1 | 0x2 | 0x4 | 0x8 | 0x10 | 0x20 | 0x40 | 0x100 | 0x200 | 0x400 | 0x10000
NAMED_FEATURES = {
    0x80: "RAID5 and RAID6", 0x800: "RAID1 on three or four devices", 0x1000: "zones",
    0x2000: "extent tree v2", 0x4000: "RAID stripe tree",
}  # fmt: skip

KIND_FILE, KIND_FOLDER, KIND_CHARACTER, KIND_BLOCK = 1, 2, 3, 4
KIND_PIPE, KIND_SOCKET, KIND_LINK, KIND_ATTRIBUTE = 5, 6, 7, 8
MODES = {
    KIND_FILE: stat.S_IFREG, KIND_FOLDER: stat.S_IFDIR, KIND_CHARACTER: stat.S_IFCHR,
    KIND_BLOCK: stat.S_IFBLK, KIND_PIPE: stat.S_IFIFO, KIND_SOCKET: stat.S_IFSOCK,
    KIND_LINK: stat.S_IFLNK,
}  # fmt: skip


class Key(NamedTuple):
    """What an item is found by; compared in this order."""

    object: int
    kind: int
    offset: int


@record(size=SUPERBLOCK_BYTES, byte_order="<", source="btrfs_super_block")
class Superblock(Record):
    """The superblock; copies lie at 64 MiB and 256 GiB."""

    checksum: bytes = at(0, "32s")
    volume_uuid: bytes = at(32, "16s")
    offset: int = at(48, "Q", "of itself")
    flags: int = at(56, "Q")
    magic: bytes = at(64, "8s")
    generation: int = at(72, "Q")
    root: int = at(80, "Q", "logical address of the tree of roots")
    chunk_root: int = at(88, "Q")
    log_root: int = at(96, "Q", "0 where no log is to be replayed")
    size_bytes: int = at(112, "Q")
    used_bytes: int = at(120, "Q")
    devices: int = at(136, "Q")
    sector_bytes: int = at(144, "I")
    node_bytes: int = at(148, "I")
    system_chunks_bytes: int = at(160, "I")
    chunk_root_generation: int = at(164, "Q")
    compat_ro: int = at(180, "Q")
    incompat: int = at(188, "Q")
    checksum_kind: int = at(196, "H")
    root_level: int = at(198, "B")
    chunk_root_level: int = at(199, "B")
    device_bytes: int = at(209, "Q", "as in the device's item, which the superblock has too")
    device_used_bytes: int = at(217, "Q", "in chunks")
    device_uuid: bytes = at(267, "16s")
    label: bytes = at(299, "256s")
    cache_generation: int = at(555, "Q", "of the free-space cache in files; -1 where none holds")
    uuid_tree_generation: int = at(563, "Q")
    metadata_uuid: bytes = at(571, "16s")


@record(size=101, byte_order="<", source="btrfs_header")
class Header(Record):
    """The head of a node or leaf of a tree."""

    checksum: bytes = at(0, "32s")
    volume_uuid: bytes = at(32, "16s")
    address: int = at(48, "Q", "its own logical address")
    flags: int = at(56, "Q")
    chunk_tree_uuid: bytes = at(64, "16s")
    generation: int = at(80, "Q")
    owner: int = at(88, "Q", "the tree that it was written for")
    count: int = at(96, "I")
    level: int = at(100, "B", "0 for a leaf")


@record(size=48, byte_order="<", source="btrfs_chunk, without its stripes")
class ChunkHead(Record):
    """A range of logical addresses and how it lies on devices; stripes follow."""

    length: int = at(0, "Q")
    kind: int = at(24, "Q", "what it holds, and its profile")
    stripes: int = at(44, "H")


@record(size=32, byte_order="<", source="btrfs_stripe")
class Stripe(Record):
    """A copy of a chunk on a device."""

    device: int = at(0, "Q")
    offset: int = at(8, "Q")


@record(size=168, byte_order="<", source="btrfs_root_backup")
class Backup(Record):
    """Where the most important trees were, for a mount that cannot read the present ones."""

    root: int = at(0, "Q")
    root_generation: int = at(8, "Q")
    chunk_root: int = at(16, "Q")
    chunk_root_generation: int = at(24, "Q")
    extent_root: int = at(32, "Q")
    extent_root_generation: int = at(40, "Q")
    fs_root: int = at(48, "Q")
    fs_root_generation: int = at(56, "Q")
    device_root: int = at(64, "Q")
    device_root_generation: int = at(72, "Q")
    checksum_root: int = at(80, "Q")
    checksum_root_generation: int = at(88, "Q")
    size_bytes: int = at(96, "Q")
    used_bytes: int = at(104, "Q")
    devices: int = at(112, "Q")
    root_level: int = at(152, "B")
    chunk_root_level: int = at(153, "B")
    extent_root_level: int = at(154, "B")
    fs_root_level: int = at(155, "B")
    device_root_level: int = at(156, "B")
    checksum_root_level: int = at(157, "B")


@record(size=239, byte_order="<", source="btrfs_root_item, up to its level")
class RootItem(Record):
    """The root of a tree; subvolumes have one each."""

    generation: int = at(160, "Q")
    folder: int = at(168, "Q", "the inode of its topmost folder")
    address: int = at(176, "Q")
    used_bytes: int = at(192, "Q")
    last_snapshot: int = at(200, "Q", "the generation of the last snapshot of it")
    flags: int = at(208, "Q")
    references: int = at(216, "I", "0 for a subvolume that is being deleted")
    progress: bytes = at(220, "17s", "the key up to which its deletion is done")
    progress_level: int = at(237, "B", "of the node that the key is of")
    level: int = at(238, "B")


@record(size=160, byte_order="<", source="btrfs_inode_item")
class InodeItem(Record):
    """An inode."""

    generation: int = at(0, "Q")
    changed_in: int = at(8, "Q", "the generation")
    size: int = at(16, "Q")
    stored_bytes: int = at(24, "Q", "of content, holes left out")
    links: int = at(40, "I")
    uid: int = at(44, "I")
    gid: int = at(48, "I")
    mode: int = at(52, "I")
    flags: int = at(64, "Q")
    accessed: int = at(112, "q", "seconds since 1970")
    accessed_nanoseconds: int = at(120, "I")
    changed: int = at(124, "q")
    changed_nanoseconds: int = at(132, "I")
    modified: int = at(136, "q")
    modified_nanoseconds: int = at(144, "I")
    created: int = at(148, "q")
    created_nanoseconds: int = at(156, "I")


@record(size=30, byte_order="<", source="btrfs_dir_item, without its name and data")
class NameHead(Record):
    """A name in a folder, or an extended attribute; the name and the value follow."""

    object: int = at(0, "Q")
    kind: int = at(8, "B")
    offset: int = at(9, "Q")
    generation: int = at(17, "Q")
    value_bytes: int = at(25, "H")
    name_bytes: int = at(27, "H")
    type: int = at(29, "B")


@record(size=21, byte_order="<", source="btrfs_file_extent_item, the part that all have")
class ExtentHead(Record):
    """A piece of a file's content."""

    generation: int = at(0, "Q")
    plain_bytes: int = at(8, "Q", "when unpacked")
    packing: int = at(16, "B")
    encryption: int = at(17, "B")
    type: int = at(20, "B")


@record(size=32, byte_order="<", source="btrfs_file_extent_item, of one that lies outside")
class ExtentPlace(Record):
    """Where a piece lies: all of it on the disk, and the part of it that the file shows."""

    address: int = at(0, "Q", "logical; 0 for a hole")
    stored_bytes: int = at(8, "Q")
    offset: int = at(16, "Q", "in what was unpacked")
    length: int = at(24, "Q")
