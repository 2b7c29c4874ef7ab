"""What lies on a volume, by signature alone."""

from __future__ import annotations

import uuid

from zeroseal.blocks.store import Store
from zeroseal.volumes.lvm.read import is_physical_volume
from zeroseal.volumes.swap import find_swap
from zeroseal.volumes.volume import Content

_EXT_SUPERBLOCK = 1024
_EXT_MAGIC = b"\x53\xef"
_EXT3_JOURNAL = 0x4  # s_feature_compat
_EXT4_INCOMPATIBLE = 0x40 | 0x80 | 0x200  # extents, 64bit, flex_bg
_EXT4_READ_ONLY = 0x8 | 0x10 | 0x20 | 0x40 | 0x400  # huge_file, ..., metadata_csum

_MD_MAGIC = b"\xfc\x4e\x2b\xa9"
_MD_REFUSAL = "it is part of a RAID array (md): copy what it holds to a plain volume first"

_BITLOCKER_REFUSAL = "it is encrypted (BitLocker): decrypt it in the guest first"
_BITLOCKER_TO_GO = bytes.fromhex("3bd66749292ed84a8399f6a339e3d001")  # in a boot sector like FAT's

# (offset, signature, kind, why a disk with it cannot be handled)
_SIGNATURES = (
    (0, b"LUKS\xba\xbe", "luks", "it is encrypted (LUKS): decrypt a copy first"),
    (3, b"-FVE-FS-", "bitlocker", _BITLOCKER_REFUSAL),
    (424, _BITLOCKER_TO_GO, "bitlocker", _BITLOCKER_REFUSAL),
    (0, b"XFSB", "xfs", ""),
    (3, b"NTFS    ", "ntfs", ""),
    (3, b"EXFAT   ", "exfat", ""),
    (65536 + 64, b"_BHRfS_M", "btrfs", ""),
    (4096, _MD_MAGIC, "md-raid", _MD_REFUSAL),
    (0, _MD_MAGIC, "md-raid", _MD_REFUSAL),
    (0, b"hsqs", "squashfs", ""),
    (32769, b"CD001", "iso9660", ""),
    (82, b"FAT32   ", "vfat", ""),
    (54, b"FAT16   ", "vfat", ""),
    (54, b"FAT12   ", "vfat", ""),
)


def recognise(store: Store) -> Content:
    """Names what lies on a volume; ``unknown`` or ``empty`` where nothing fits."""
    ext = _recognise_ext(store)
    if ext:
        return ext
    swap = find_swap(store)
    if swap:
        refusal = (
            "the guest is hibernated in it: start it and shut it down properly"
            if swap.hibernated
            else ""
        )
        return Content("swap", swap.uuid, swap.label, refusal)
    for offset, signature, kind, refusal in _SIGNATURES:
        if offset + len(signature) <= store.size_bytes and (
            store.read(offset, len(signature)) == signature
        ):
            return _with_ids(store, Content(kind, refusal=refusal))
    if is_physical_volume(store):
        return Content("lvm")
    if _has_md_at_end(store):
        return Content("md-raid", refusal=_MD_REFUSAL)
    known_zero = all(extent.is_zero for extent in store.iter_extents(0, store.size_bytes))
    return Content("empty" if known_zero else "unknown")


def _has_md_at_end(store: Store) -> bool:
    """Superblocks of md's versions 0.90 and 1.0 lie 64 and 8 KiB before the end, rounded down."""
    size = store.size_bytes
    places = ((size & ~0xFFFF) - 0x10000, ((size >> 9) - 16 & ~7) << 9)
    return any(place > 0 and store.read(place, 4) == _MD_MAGIC for place in places)


def _recognise_ext(store: Store) -> Content | None:
    if store.size_bytes < _EXT_SUPERBLOCK + 1024:
        return None
    superblock = store.read(_EXT_SUPERBLOCK, 1024)
    if superblock[0x38:0x3A] != _EXT_MAGIC:
        return None
    compatible, incompatible, read_only = (
        int.from_bytes(superblock[start : start + 4], "little") for start in (0x5C, 0x60, 0x64)
    )
    kind = "ext2"
    if incompatible & _EXT4_INCOMPATIBLE or read_only & _EXT4_READ_ONLY:
        kind = "ext4"
    elif compatible & _EXT3_JOURNAL:
        kind = "ext3"
    label = superblock[0x78:0x88].split(b"\0")[0].decode("utf-8", "replace")
    return Content(kind, str(uuid.UUID(bytes=superblock[0x68:0x78])), label)


def _with_ids(store: Store, content: Content) -> Content:
    if content.kind == "vfat":
        base = 67 if store.read(82, 5) == b"FAT32" else 39
        serial = int.from_bytes(store.read(base, 4), "little")
        label = store.read(base + 4, 11).decode("ascii", "replace").strip()
        return Content("vfat", f"{serial >> 16:04X}-{serial & 0xFFFF:04X}", label)
    if content.kind == "ntfs":
        serial = int.from_bytes(store.read(72, 8), "little")
        return Content("ntfs", f"{serial:016X}")
    if content.kind == "xfs":
        label = store.read(108, 12).split(b"\0")[0].decode("utf-8", "replace")
        return Content("xfs", str(uuid.UUID(bytes=store.read(32, 16))), label)
    return content
