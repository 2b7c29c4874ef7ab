"""The consistency checker of ext volumes, written apart from the code that edits them.

It trusts nothing that the editor computed: it walks every inode in use, claims its blocks, walks
every folder, and compares what it found with bitmaps, counters, link counts and checksums. From the
other modules it takes the declarations, the reading of single structures and the checksum formulas.
"""

from __future__ import annotations

from zeroseal.blocks.bitmaps import count_set
from zeroseal.blocks.checksums import crc32c
from zeroseal.blocks.store import Store
from zeroseal.errors import DamagedError, ImageError, RefusedError
from zeroseal.filesystems.ext import journal_layout, layout
from zeroseal.filesystems.ext.check_claims import NOBODY, Claims
from zeroseal.filesystems.ext.check_folders import FolderPass
from zeroseal.filesystems.ext.check_inodes import InodePass
from zeroseal.filesystems.ext.journal_layout import JournalSuperblock
from zeroseal.filesystems.ext.mapping import read_mapping
from zeroseal.filesystems.ext.quota import count_usage, quota_inodes, read_quota_file
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.filesystems.ext.xattrs import read_xattr_block
from zeroseal.filesystems.tree import Problem
from zeroseal.messages import ext as messages

_MOST_PROBLEMS = 50
_BOOT_LOADER_INODE = 5


def check_volume(store: Store, where: str = "the volume") -> list[Problem]:
    """Checks a whole volume; returns what is wrong, at most fifty problems, nothing if all is well.

    Raises:
        UnsupportedError: a feature that we do not know.
    """
    try:
        volume = ExtVolume(store, where)
    except (DamagedError, RefusedError) as error:
        return [Problem("superblock", error.message)]
    return check_opened(volume)


def check_opened(volume: ExtVolume) -> list[Problem]:
    """The same for one that is opened."""
    return _Checker(volume).run()


class _Checker:
    def __init__(self, volume: ExtVolume) -> None:
        self._volume = volume
        self._problems: list[Problem] = []
        self.claims = Claims(
            volume.superblock.first_data_block, volume.block_count, volume.cluster_blocks
        )
        self._inodes = InodePass(volume, self.claims, self._report)
        self._per_group = volume.superblock.inodes_per_group

    def run(self) -> list[Problem]:
        """Runs all passes; a structure that cannot be read at all ends the check."""
        passes = (
            self._check_superblock,
            self._claim_structures,
            self._inodes.run,
            self._check_reserved_inodes,
            self._resolve_claims,
            FolderPass(self._volume, self._inodes, self._report).run,
            self._check_block_bitmaps,
            self._check_inode_bitmaps,
            self._check_totals,
            self._check_journal,
            self._check_quotas,
        )
        for one in passes:
            try:
                one()
            except ImageError as error:
                self._report("structure", error.message)
                break
            if len(self._problems) >= _MOST_PROBLEMS:
                break
        return self._problems[:_MOST_PROBLEMS]

    def _report(self, where: str, what: str) -> None:
        self._problems.append(Problem(where, what))

    def _check_superblock(self) -> None:
        """Numbers that mean nothing without their feature, and that e2fsck stumbles over."""
        superblock = self._volume.superblock
        has_quota = superblock.ro_compat & layout.RO_QUOTA
        for name, number, has_feature in (
            ("user quota", superblock.user_quota_inode, has_quota),
            ("group quota", superblock.group_quota_inode, has_quota),
            ("project quota", superblock.project_quota_inode, has_quota),
            ("the orphan file", superblock.orphan_file_inode,
             superblock.compat & layout.COMPAT_ORPHAN_FILE),
        ):  # fmt: skip
            if number and not has_feature:
                what = f"it has inode {number} as {name} but not the matching feature"
                self._report("superblock", what)
        if superblock.compat & layout.COMPAT_HAS_JOURNAL and any(superblock.journal_uuid):
            self._report("superblock", messages.BOTH_INTERNAL_AND_EXTERNAL_JOURNAL)

    def _check_reserved_inodes(self) -> None:
        """What may lie in an inode below the first that files may have (e2fsck, pass 1)."""
        superblock = self._volume.superblock
        special = {
            layout.ROOT_INODE, layout.BAD_BLOCKS_INODE, superblock.journal_inode,
            superblock.orphan_file_inode, *quota_inodes(self._volume).values(),
        }  # fmt: skip
        for number in sorted(self._inodes.types.keys() - special):
            if number >= self._volume.first_inode:
                break
            kind = self._inodes.types[number]
            if number == layout.RESIZE_INODE:
                is_sound = kind in (0, layout.MODE_FILE)
            else:
                is_sound = kind == 0 or (
                    number == _BOOT_LOADER_INODE and kind != layout.MODE_FOLDER
                )
            if not is_sound:
                self._report(f"inode {number}", messages.RESERVED_INODE_IN_USE)

    def _claim_structures(self) -> None:
        volume = self._volume
        superblock = volume.superblock
        inode_blocks = self._per_group * volume.inode_bytes // volume.block_bytes
        if superblock.incompat & layout.INCOMPAT_MMP:
            self.claims.add(NOBODY, superblock.mmp_block, 1)
        if superblock.first_data_block < volume.superblock_block:
            self.claims.add(NOBODY, 0, volume.superblock_block)  # kept for a boot loader
        for group in range(volume.group_count):
            for first, count in volume.group_heads(group):
                self.claims.add(NOBODY, first, count)
            descriptor = volume.get_group(group)
            self.claims.add(NOBODY, descriptor.block_bitmap, 1)
            self.claims.add(NOBODY, descriptor.inode_bitmap, 1)
            self.claims.add(NOBODY, descriptor.inode_table, inode_blocks)

    def _resolve_claims(self) -> None:
        for owner, what in self.claims.resolve():
            self._report(f"inode {owner}" if owner != NOBODY else "structures", what)
        for number, users in self._inodes.value_users.items():
            stored = self._inodes.value_references.get(number, 0)
            if stored != users:
                self._report(
                    f"inode {number}", messages.VALUE_COUNT_WRONG.format(users=users, stored=stored)
                )
        for block_no, users in self._inodes.xattr_users.items():
            stored = int.from_bytes(read_xattr_block(self._volume, block_no)[4:8], "little")
            if stored != users:
                what = f"extended attributes are used {users} times but counted {stored} times"
                self._report(f"block {block_no}", what)

    def _check_block_bitmaps(self) -> None:
        volume = self._volume
        for group in range(volume.group_count):
            size = volume.group_clusters(group)
            found = self.claims.bitmap(*volume.group_blocks(group))
            descriptor = volume.get_group(group)
            free = size - count_set(found, size)
            if free != descriptor.free_blocks:
                what = f"{free} are free but {descriptor.free_blocks} are counted"
                self._report(f"group {group}", what)
            if volume.has_group_checksums and descriptor.flags & layout.GROUP_BLOCK_UNINIT:
                continue
            stored = volume.read_block(descriptor.block_bitmap)
            self._check_bitmap(group, "block", found, stored, size)

    def _check_inode_bitmaps(self) -> None:
        volume = self._volume
        used: dict[int, bytearray] = {}
        folders: dict[int, int] = {}
        for number, kind in self._inodes.types.items():
            group, index = divmod(number - 1, self._per_group)
            bits = used.setdefault(group, bytearray(self._per_group // 8))
            bits[index >> 3] |= 1 << (index & 7)
            folders[group] = folders.get(group, 0) + int(kind == layout.MODE_FOLDER)
        for group in range(volume.group_count):
            found = used.get(group, bytearray(self._per_group // 8))
            if group == 0:  # reserved inodes are marked as used, whether they are or not
                for index in range(volume.first_inode - 1):
                    found[index >> 3] |= 1 << (index & 7)
            descriptor = volume.get_group(group)
            free = self._per_group - count_set(found, self._per_group)
            if (descriptor.free_inodes, descriptor.folders) != (free, folders.get(group, 0)):
                self._report(f"group {group}", messages.GROUP_COUNTS_WRONG)
            if volume.has_group_checksums and descriptor.flags & layout.GROUP_INODE_UNINIT:
                continue
            stored = volume.read_block(descriptor.inode_bitmap)
            self._check_bitmap(group, "inode", bytes(found), stored, self._per_group)

    def _check_bitmap(self, group: int, which: str, found: bytes, stored: bytes, size: int) -> None:
        volume = self._volume
        whole, rest = divmod(size, 8)
        same = found[:whole] == stored[:whole]
        if rest:
            mask = (1 << rest) - 1
            same = same and found[whole] & mask == stored[whole] & mask
        if not same:
            self._report(f"group {group}", messages.BITMAP_DOES_NOT_MATCH.format(which=which))
        if volume.has_checksums:
            covered = self._per_group
            if which == "block":
                covered = volume.superblock.blocks_per_group // volume.cluster_blocks
            value = crc32c(volume.checksum_seed, stored[: covered // 8])
            descriptor = volume.get_group(group)
            low = getattr(descriptor, f"{which}_bitmap_checksum_lo")
            high = getattr(descriptor, f"{which}_bitmap_checksum_hi")
            if low != value & 0xFFFF or (volume.descriptor_bytes >= 64 and high != value >> 16):
                self._report(
                    f"group {group}", messages.CHECKSUM_OF_BITMAP_WRONG.format(which=which)
                )

    def _check_totals(self) -> None:
        volume = self._volume
        superblock = volume.superblock
        groups = [volume.get_group(group) for group in range(volume.group_count)]
        counted = superblock.free_blocks_lo
        if superblock.incompat & layout.INCOMPAT_64BIT:
            counted |= superblock.free_blocks_hi << 32
        if counted != sum(group.free_blocks for group in groups) * volume.cluster_blocks:
            self._report("superblock", messages.COUNT_OF_FREE_BLOCKS_WRONG)
        if superblock.free_inodes != sum(group.free_inodes for group in groups):
            self._report("superblock", messages.COUNT_OF_FREE_INODES_WRONG)

    def _check_journal(self) -> None:
        superblock = self._volume.superblock
        if not superblock.compat & layout.COMPAT_HAS_JOURNAL:
            return
        number = superblock.journal_inode
        runs = read_mapping(self._volume, number, self._volume.read_inode(number)).runs
        if not runs:
            self._report("journal", messages.NO_BLOCKS)
            return
        raw = self._volume.read_block(runs[0].physical)[: JournalSuperblock.SIZE]
        journal = JournalSuperblock.parse(raw)
        if journal.magic != journal_layout.MAGIC or journal.start:
            self._report("journal", messages.DAMAGED_OR_NOT_EMPTY)

    def _check_quotas(self) -> None:
        """What the quota files say is used must be what the inodes say."""
        inodes = quota_inodes(self._volume)
        usage = count_usage(self._volume) if inodes else {}
        for kind, number in inodes.items():
            file = read_quota_file(self._volume, kind, number)
            stored = {
                owner: (quota.inodes, quota.space_bytes)
                for owner, quota in file.quotas.items()
                if quota.inodes or quota.space_bytes
            }
            if stored != usage[kind]:
                self._report("quota", messages.QUOTA_USAGE_DIFFERS.format(kind=kind))
