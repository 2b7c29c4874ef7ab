"""Will a clone use the room of a larger disk?"""

from __future__ import annotations

from zeroseal.sealing.first_boot import GROWTH, read_tasks
from zeroseal.sealing.outlook import Outlook
from zeroseal.volumes.volume import Volume

_FOLDERS = ("/usr/bin", "/usr/sbin", "/bin", "/sbin")
_BY_ITSELF = {
    "/usr/share/initramfs-tools/scripts/local-bottom/growroot": "the initramfs (growroot)",
    "/usr/lib/dracut/modules.d/50growroot": "the initramfs (growroot)",
}


def find_obstacle(outlook: Outlook) -> str:
    """What on the disk itself keeps root from growing, a sentence; empty where nothing does."""
    root = outlook.guest.mounts[0].volume
    behind = _volumes_behind(outlook, root)
    if behind:
        return (
            f"Clones on a larger disk will not use the room by themselves: {behind[0].name}"
            f"{_kind(behind[0])} lies behind {root.name}, which holds the root file system."
        )
    return ""


def find_grower(outlook: Outlook) -> str:
    """Who lets root grow on a clone that gets no seed, a sentence's subject; empty where nobody."""
    for path, name in _BY_ITSELF.items():
        if outlook.stays(path):
            return name
    repart = outlook.services.is_enabled("systemd-repart.service", outlook.gone)
    rules = [*outlook.guest.glob("/etc/repart.d/*.conf")]
    rules += outlook.guest.glob("/usr/lib/repart.d/*.conf")
    if repart and rules and "x-systemd.growfs" in outlook.guest.read_text("/etc/fstab"):
        return "systemd-repart"
    if GROWTH in read_tasks(outlook.guest):
        return "the planted first-boot script"
    return outlook.services.find_caller(("growpart ",), outlook.gone)


def grows_with_seed(outlook: Outlook) -> bool:
    """Whether cloud-init lets root grow on a clone that gets a seed."""
    seeding = outlook.cloud_init
    return (
        seeding.takes_seeds
        and seeding.runs_module("growpart")
        and seeding.runs_module("resizefs")
        and _has(outlook, "growpart")
    )


def can_plant(outlook: Outlook) -> bool:
    """Whether a planted script finds what it needs to let root grow."""
    grower = outlook.guest.mounts[0].driver.grower
    is_plain = outlook.inspection.disk.table == "none"
    return _has(outlook, grower) and (
        is_plain or _has(outlook, "growpart") or _has(outlook, "sfdisk")
    )


def _has(outlook: Outlook, program: str) -> bool:
    return any(outlook.stays(f"{folder}/{program}") for folder in _FOLDERS)


def _volumes_behind(outlook: Outlook, root: Volume) -> list[Volume]:
    if root.is_logical:
        return []
    return [
        volume
        for volume in outlook.inspection.disk.volumes
        if not volume.is_logical and volume.offset_bytes > root.offset_bytes
    ]


def _kind(volume: Volume) -> str:
    return f" ({volume.content.kind})" if volume.content.is_known else ""
