"""On-disk records and constants of XFS; see the package's text for the sources."""

from __future__ import annotations

from zeroseal.blocks.records import Record, at, record

_FORMAT = "xfs_format.h"
_NAMES = "xfs_da_format.h"
NULL_AGBLOCK, NULL_FSBLOCK = 0xFFFFFFFF, 0xFFFFFFFFFFFFFFFF
NULL_AGINO, NULL_INODE = 0xFFFFFFFF, 0xFFFFFFFFFFFFFFFF
SECTOR = 512  # what "daddr" and the log count in, whatever sectors a disk has

# -- superblock

MAGIC = b"XFSB"
SUPERBLOCK_CRC = 224

VERSION_BITS = 0x000F
VERSION_QUOTA, VERSION_BORG, VERSION_DIRV2 = 0x0040, 0x4000, 0x2000
VERSION_MOREBITS, VERSION_EXTFLAG = 0x8000, 0x1000
VERSION_NAMES = {0x0200: "shared", VERSION_BORG: "ascii-ci"}
FEATURES2_LAZY, FEATURES2_ATTR2, FEATURES2_PROJID32 = 0x2, 0x8, 0x80
FEATURES2_CRC, FEATURES2_FTYPE = 0x100, 0x200
FEATURES2_KNOWN = (
    FEATURES2_LAZY | FEATURES2_ATTR2 | FEATURES2_PROJID32 | FEATURES2_CRC | FEATURES2_FTYPE
)

RO_FINOBT, RO_RMAPBT, RO_REFLINK, RO_INOBTCNT = 0x1, 0x2, 0x4, 0x8
RO_KNOWN = RO_FINOBT | RO_RMAPBT | RO_REFLINK | RO_INOBTCNT
INCOMPAT_FTYPE, INCOMPAT_SPINODES, INCOMPAT_META_UUID = 0x1, 0x2, 0x4
INCOMPAT_BIGTIME, INCOMPAT_NEEDSREPAIR, INCOMPAT_NREXT64 = 0x8, 0x10, 0x20
INCOMPAT_KNOWN = (
    INCOMPAT_FTYPE | INCOMPAT_SPINODES | INCOMPAT_META_UUID | INCOMPAT_BIGTIME | INCOMPAT_NREXT64
)
INCOMPAT_NAMES = {
    INCOMPAT_NEEDSREPAIR: "needsrepair",
    0x40: "exchange-range",
    0x80: "parent",
    0x100: "metadir",
    0x200: "zoned",
}
LOG_INCOMPAT_KNOWN = 0x1  # delayed attributes, cleared when the log is

QUOTA_CHECKED = 0x0002 | 0x0020 | 0x0200  # user, group, project: XFS_?QUOTA_CHKD


@record(size=264, byte_order=">", source=f"{_FORMAT}, struct xfs_dsb")
class Superblock(Record):
    """The superblock, at the beginning of every allocation group; the first one counts."""

    magic: bytes = at(0, "4s")
    block_bytes: int = at(4, "I")
    blocks: int = at(8, "Q")
    realtime_blocks: int = at(16, "Q")
    uuid: bytes = at(32, "16s")
    log_start: int = at(48, "Q", "block number; 0 where the log is on another device")
    root_inode: int = at(56, "Q")
    bitmap_inode: int = at(64, "Q")
    summary_inode: int = at(72, "Q")
    group_blocks: int = at(84, "I")
    group_count: int = at(88, "I")
    log_blocks: int = at(96, "I")
    version: int = at(100, "H")
    sector_bytes: int = at(102, "H")
    inode_bytes: int = at(104, "H")
    inodes_per_block: int = at(106, "H")
    label: bytes = at(108, "12s")
    block_log: int = at(120, "B")
    sector_log: int = at(121, "B")
    inode_log: int = at(122, "B")
    inodes_per_block_log: int = at(123, "B")
    group_log: int = at(124, "B", "log2 of blocks a group, rounded up")
    in_progress: int = at(126, "B")
    inode_count: int = at(128, "Q")
    free_inodes: int = at(136, "Q")
    free_blocks: int = at(144, "Q")
    user_quota_inode: int = at(160, "Q")
    group_quota_inode: int = at(168, "Q")
    quota_flags: int = at(176, "H")
    inode_alignment: int = at(180, "I", "blocks")
    folder_block_log: int = at(192, "B", "log2 of file system blocks a folder block")
    log_sector_bytes: int = at(194, "H", "0 for 512")
    features2: int = at(200, "I")
    bad_features2: int = at(204, "I")
    compat: int = at(208, "I")
    ro_compat: int = at(212, "I")
    incompat: int = at(216, "I")
    log_incompat: int = at(220, "I")
    crc: int = at(224, "I", "stored little-endian")
    sparse_alignment: int = at(228, "I")
    project_quota_inode: int = at(232, "Q")
    lsn: int = at(240, "Q")
    meta_uuid: bytes = at(248, "16s")


# -- headers of an allocation group

AGF_MAGIC, AGI_MAGIC, AGFL_MAGIC = b"XAGF", b"XAGI", b"XAFL"
AGF_CRC, AGI_CRC, AGFL_CRC = 216, 312, 32
AGFL_HEADER_BYTES = 36
UNLINKED_BUCKETS, UNLINKED_OFFSET = 64, 40


@record(size=224, byte_order=">", source=f"{_FORMAT}, struct xfs_agf")
class Agf(Record):
    """The header of a group's free space."""

    magic: bytes = at(0, "4s")
    version: int = at(4, "I")
    number: int = at(8, "I")
    blocks: int = at(12, "I")
    bno_root: int = at(16, "I")
    cnt_root: int = at(20, "I")
    rmap_root: int = at(24, "I")
    bno_levels: int = at(28, "I")
    cnt_levels: int = at(32, "I")
    rmap_levels: int = at(36, "I")
    list_first: int = at(40, "I")
    list_last: int = at(44, "I")
    list_count: int = at(48, "I")
    free_blocks: int = at(52, "I")
    longest: int = at(56, "I")
    tree_blocks: int = at(60, "I", "of the free-space trees and the rmapbt, roots left out")
    uuid: bytes = at(64, "16s")
    rmap_blocks: int = at(80, "I")
    refcount_blocks: int = at(84, "I")
    refcount_root: int = at(88, "I")
    refcount_levels: int = at(92, "I")
    lsn: int = at(208, "Q")
    crc: int = at(216, "I")


@record(size=344, byte_order=">", source=f"{_FORMAT}, struct xfs_agi")
class Agi(Record):
    """The header of a group's inodes."""

    magic: bytes = at(0, "4s")
    version: int = at(4, "I")
    number: int = at(8, "I")
    blocks: int = at(12, "I")
    inode_count: int = at(16, "I")
    root: int = at(20, "I")
    levels: int = at(24, "I")
    free_count: int = at(28, "I")
    newest: int = at(32, "I")
    unlinked: bytes = at(40, "256s", "64 lists of inodes that lost their names while open")
    uuid: bytes = at(296, "16s")
    crc: int = at(312, "I")
    lsn: int = at(320, "Q")
    free_root: int = at(328, "I")
    free_levels: int = at(332, "I")
    inobt_blocks: int = at(336, "I")
    finobt_blocks: int = at(340, "I")


# -- trees: (magic of version 4, magic of version 5)

BNO_MAGIC, CNT_MAGIC = (b"ABTB", b"AB3B"), (b"ABTC", b"AB3C")
INOBT_MAGIC, FINOBT_MAGIC = (b"IABT", b"IAB3"), (b"FIBT", b"FIB3")
RMAP_MAGIC, REFCOUNT_MAGIC = (b"", b"RMB3"), (b"", b"R3FC")
BMAP_MAGIC = (b"BMAP", b"BMA3")
SHORT_HEADER_BYTES, SHORT_CRC = (16, 56), 52
LONG_HEADER_BYTES, LONG_CRC = (24, 72), 64
MAX_LEVELS = 9

OWN_FS, OWN_LOG, OWN_AG = 2**64 - 3, 2**64 - 4, 2**64 - 5
OWN_INOBT, OWN_INODES, OWN_REFCOUNT, OWN_COW = 2**64 - 6, 2**64 - 7, 2**64 - 8, 2**64 - 9
FIRST_SPECIAL_OWNER = 1 << 63
RMAP_ATTR, RMAP_BMBT, RMAP_UNWRITTEN = 1 << 63, 1 << 62, 1 << 61
RMAP_OFFSET_MASK = (1 << 54) - 1
REFCOUNT_COW = 1 << 31
CHUNK_INODES, INODES_PER_HOLE = 64, 4

# -- inodes

INODE_MAGIC, INODE_CRC = b"IN", 100
CORE_BYTES = {2: 100, 3: 176}
FORM_DEVICE, FORM_LOCAL, FORM_EXTENTS, FORM_BTREE = 0, 1, 2, 3
MODE_TYPE = 0xF000
MODE_PIPE, MODE_CHARACTER, MODE_FOLDER, MODE_BLOCK = 0x1000, 0x2000, 0x4000, 0x6000
MODE_FILE, MODE_LINK, MODE_SOCKET = 0x8000, 0xA000, 0xC000
FLAG_REALTIME, FLAG_PREALLOCATED, FLAG_PROJECT_INHERIT = 0x1, 0x2, 0x200
FLAG_NEW_BITMAP = 0x4
FLAG2_REFLINK, FLAG2_BIGTIME, FLAG2_NREXT64 = 0x2, 0x8, 0x10
BIGTIME_OFFSET_SECONDS = 1 << 31
MAX_EXTENT_BLOCKS = (1 << 21) - 1
MAX_LINK_BYTES = 1024
ENTRY_TYPES = {
    MODE_FILE: 1,
    MODE_FOLDER: 2,
    MODE_CHARACTER: 3,
    MODE_BLOCK: 4,
    MODE_PIPE: 5,
    MODE_SOCKET: 6,
    MODE_LINK: 7,
}


@record(size=176, byte_order=">", source=f"{_FORMAT}, struct xfs_dinode")
class Inode(Record):
    """An inode's own data; version 2 ends before ``crc``."""

    magic: bytes = at(0, "2s")
    mode: int = at(2, "H")
    version: int = at(4, "B")
    form: int = at(5, "B", "of the data fork")
    uid: int = at(8, "I")
    gid: int = at(12, "I")
    links: int = at(16, "I")
    project_lo: int = at(20, "H")
    project_hi: int = at(22, "H")
    big_extents: int = at(24, "Q", "of the data fork, with NREXT64")
    accessed: int = at(32, "Q")
    modified: int = at(40, "Q")
    changed: int = at(48, "Q")
    size: int = at(56, "Q")
    blocks: int = at(64, "Q")
    extent_hint: int = at(72, "I")
    extents: int = at(76, "I", "of the data fork; with NREXT64 of the attribute fork")
    attr_extents: int = at(80, "H")
    fork_offset: int = at(82, "B", "of the attribute fork, in 8 bytes; 0 for none")
    attr_form: int = at(83, "b")
    flags: int = at(90, "H")
    generation: int = at(92, "I")
    next_unlinked: int = at(96, "I")
    crc: int = at(100, "I")
    change_count: int = at(104, "Q")
    lsn: int = at(112, "Q")
    flags2: int = at(120, "Q")
    cow_hint: int = at(128, "I")
    created: int = at(144, "Q")
    number: int = at(152, "Q")
    uuid: bytes = at(160, "16s")

    @property
    def type(self) -> int:
        """What it is, as the ``MODE_`` constants say."""
        return self.mode & MODE_TYPE

    @property
    def is_folder(self) -> bool:
        """Whether it is a folder."""
        return self.type == MODE_FOLDER


# -- links and remote attributes: one header, two magics

LINK_MAGIC, REMOTE_MAGIC = b"XSLM", b"XARM"
REMOTE_HEADER_BYTES, REMOTE_CRC = 56, 12


@record(size=56, byte_order=">", source=f"{_FORMAT}, xfs_dsymlink_hdr; {_NAMES}, xfs_attr3_rmt_hdr")
class RemoteHeader(Record):
    """Before a part of a link's target or of an attribute's value."""

    magic: bytes = at(0, "4s")
    offset: int = at(4, "I")
    length: int = at(8, "I")
    crc: int = at(12, "I")
    uuid: bytes = at(16, "16s")
    owner: int = at(32, "Q")
    sector: int = at(40, "Q")
    lsn: int = at(48, "Q")


# -- folders and attributes

SPACE_BYTES = 1 << 35  # of a folder: data, leaves and free index begin at multiples of it
DATA_MAGIC, BLOCK_MAGIC = (b"XD2D", b"XDD3"), (b"XD2B", b"XDB3")
FREE_MAGIC = (b"XD2F", b"XDF3")
LEAF1_MAGIC, LEAFN_MAGIC, NODE_MAGIC = (0xD2F1, 0x3DF1), (0xD2FF, 0x3DFF), (0xFEBE, 0x3EBE)
ATTR_LEAF_MAGIC = (0xFBEE, 0x3BEE)
DATA_HEADER_BYTES, DATA_CRC = (16, 64), 4
FREE_HEADER_BYTES = (16, 64)
LEAF_HEADER_BYTES, DA_CRC = (16, 64), 12
ATTR_HEADER_BYTES = (32, 80)
FREE_TAG, NULL_OFFSET = 0xFFFF, 0xFFFF
NAME_ALIGNMENT = 8
MAX_NODE_DEPTH = 5
ATTR_LOCAL, ATTR_ROOT, ATTR_SECURE, ATTR_INCOMPLETE = 0x1, 0x2, 0x4, 0x80
ATTR_PREFIXES = {0: b"user.", ATTR_ROOT: b"trusted.", ATTR_SECURE: b"security."}

# -- the log

LOG_RECORD_MAGIC, LOG_UNMOUNT_MAGIC = 0xFEEDBABE, 0x556E
LOG_FORMAT_LINUX_LE, LOG_UNMOUNT_FLAG, LOG_CLIENT = 1, 0x20, 0xAA


@record(size=328, byte_order=">", source="xfs_log_format.h, xlog_rec_header")
class LogRecord(Record):
    """The header of a record of the log, up to the size of its buffers."""

    magic: int = at(0, "I")
    cycle: int = at(4, "I")
    version: int = at(8, "I")
    length: int = at(12, "I", "bytes behind the header")
    lsn: int = at(16, "Q")
    tail_lsn: int = at(24, "Q")
    crc: int = at(32, "I")
    previous: int = at(36, "I")
    operations: int = at(40, "I")
    first_word: int = at(44, "I", "what stood where the cycle number was put")
    form: int = at(300, "I")
    uuid: bytes = at(304, "16s")
    buffer_bytes: int = at(320, "I")
