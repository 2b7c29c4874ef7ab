"""Will a clone use the room of a larger disk?"""

from __future__ import annotations

from zeroseal.sealing.linux.first_boot import GROWTH, read_tasks
from zeroseal.sealing.linux.projected import ProjectedLinux
from zeroseal.volumes.volume import Volume

_FOLDERS = ("/usr/bin", "/usr/sbin", "/bin", "/sbin")
_BY_ITSELF = {
    "/usr/share/initramfs-tools/scripts/local-bottom/growroot": "the initramfs (growroot)",
    "/usr/lib/dracut/modules.d/50growroot": "the initramfs (growroot)",
}


def find_obstacle(projected: ProjectedLinux) -> str:
    """What on the disk itself keeps root from growing, a sentence; empty where nothing does."""
    root = projected.guest.mounts[0].volume
    behind = _volumes_behind(projected, root)
    if behind:
        return (
            "Clones with a larger disk will not use the space by themselves: "
            f"{behind[0].name}{_kind(behind[0])} lies behind {root.name}, which "
            "holds the root file system."
        )
    return ""


def find_grower(projected: ProjectedLinux) -> str:
    """Who lets root grow on a clone that gets no seed, a sentence's subject; empty where nobody."""
    for path, name in _BY_ITSELF.items():
        if projected.stays(path):
            return name
    repart = projected.services.is_enabled("systemd-repart.service", projected.gone)
    rules = [*projected.guest.glob("/etc/repart.d/*.conf")]
    rules += projected.guest.glob("/usr/lib/repart.d/*.conf")
    if repart and rules and "x-systemd.growfs" in projected.guest.read_text("/etc/fstab"):
        return "systemd-repart"
    if GROWTH in read_tasks(projected.guest):
        return "the planted first-boot script"
    return projected.services.find_caller(("growpart ",), projected.gone)


def grows_with_seed(projected: ProjectedLinux) -> bool:
    """Whether cloud-init lets root grow on a clone that gets a seed."""
    seeding = projected.cloud_init
    return (
        seeding.takes_seeds
        and seeding.runs_module("growpart")
        and seeding.runs_module("resizefs")
        and _has(projected, "growpart")
    )


def can_plant(projected: ProjectedLinux) -> bool:
    """Whether a planted script finds what it needs to let root grow."""
    grower = projected.guest.mounts[0].driver.grower
    is_plain = projected.inspection.disk.table == "none"
    return _has(projected, grower) and (
        is_plain or _has(projected, "growpart") or _has(projected, "sfdisk")
    )


def _has(projected: ProjectedLinux, program: str) -> bool:
    return any(projected.stays(f"{folder}/{program}") for folder in _FOLDERS)


def _volumes_behind(projected: ProjectedLinux, root: Volume) -> list[Volume]:
    if root.is_logical:
        return []
    return [
        volume
        for volume in projected.inspection.disk.volumes
        if not volume.is_logical and volume.offset_bytes > root.offset_bytes
    ]


def _kind(volume: Volume) -> str:
    return f" ({volume.content.kind})" if volume.content.is_known else ""
