"""What lies on a volume that no driver of a file system reads, by signature alone."""

from __future__ import annotations

from zeroseal.blocks.store import Store
from zeroseal.messages import volumes as messages
from zeroseal.volumes.encrypted import is_bound_to_tpm
from zeroseal.volumes.lvm.read import is_physical_volume
from zeroseal.volumes.swap import find_swap
from zeroseal.volumes.volume import Content

_MD_MAGIC = b"\xfc\x4e\x2b\xa9"
_MD_REFUSAL = messages.PART_OF_RAID

_BITLOCKER_REFUSAL = messages.BITLOCKER_ENCRYPTED
_BITLOCKER_TO_GO = bytes.fromhex("3bd66749292ed84a8399f6a339e3d001")  # in a boot sector like FAT's

# (offset, signature, kind, why a disk with it cannot be handled)
_SIGNATURES = (
    (0, b"LUKS\xba\xbe", "luks", messages.LUKS_ENCRYPTED),
    (3, b"-FVE-FS-", "bitlocker", _BITLOCKER_REFUSAL),
    (424, _BITLOCKER_TO_GO, "bitlocker", _BITLOCKER_REFUSAL),
    (3, b"EXFAT   ", "exfat", ""),
    (4096, _MD_MAGIC, "md-raid", _MD_REFUSAL),
    (0, _MD_MAGIC, "md-raid", _MD_REFUSAL),
    (0, b"hsqs", "squashfs", ""),
    (32769, b"CD001", "iso9660", ""),
)


def recognise_other(store: Store) -> Content | None:
    """Names what no driver of a file system reads: swap, encrypted volumes, other file systems."""
    swap = find_swap(store)
    if swap:
        refusal = messages.HIBERNATED_IN_SWAP if swap.hibernated else ""
        return Content("swap", swap.uuid, swap.label, refusal)
    for offset, signature, kind, refusal in _SIGNATURES:
        if offset + len(signature) <= store.size_bytes and (
            store.read(offset, len(signature)) == signature
        ):
            if kind in ("luks", "bitlocker") and is_bound_to_tpm(store, kind):
                refusal = messages.BOUND_TO_TPM.format(refusal=refusal)
            return Content(kind, refusal=refusal)
    return None


def recognise_rest(store: Store) -> Content:
    """Names what is left when nothing else fitted: LVM, RAID, ``unknown`` or ``empty``."""
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
