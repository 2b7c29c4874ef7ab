"""The guest's own mount table, ``/etc/fstab`` (fstab(5))."""

from __future__ import annotations

import re
from dataclasses import dataclass

from zeroseal.volumes.volume import Volume

_DEVICE = re.compile(r"/dev/(?:[svh]d[a-z]|xvd[a-z]|nvme0n1p|mmcblk0p)([1-9]\d*)")
_FIRST_DISK = re.compile(r"/dev/(?:[svh]da|xvda|nvme0n1p|mmcblk0p)\d+")


@dataclass(frozen=True)
class MountEntry:
    """One line: what is mounted where. ``mount_point`` is ``none`` for swap."""

    spec: str
    mount_point: str
    kind: str
    options: tuple[str, ...]


def parse_fstab(text: str) -> list[MountEntry]:
    """Parses the table; lines that make no sense are left out, as mount(8) does."""
    entries = []
    for line in text.splitlines():
        fields = line.split()
        if len(fields) < 3 or fields[0].startswith("#"):
            continue
        spec, mount_point, kind = (_unescape(field) for field in fields[:3])
        options = tuple(fields[3].split(",")) if len(fields) > 3 else ()
        entries.append(MountEntry(spec, mount_point, kind, options))
    return entries


def find_volume(spec: str, volumes: list[Volume]) -> Volume | None:
    """The volume that a spec means: UUID=, LABEL=, PARTUUID=, PARTLABEL= or a /dev name."""
    key, _equals, value = spec.partition("=")
    value = value.strip("\"'")
    for volume in volumes:
        content = volume.content
        match key.upper():
            case "UUID":
                found = content.uuid.lower() == value.lower() != ""
            case "LABEL":
                found = content.label == value != ""
            case "PARTUUID":
                found = volume.part_uuid.lower() == value.lower() != ""
            case "PARTLABEL":
                found = volume.part_label == value != ""
            case _:
                found = _is_device_of(spec, volume)
        if found:
            return volume
    return None


def _is_device_of(spec: str, volume: Volume) -> bool:
    """Whether a kernel name means this partition of the machine's first disk."""
    for prefix, value in (
        ("/dev/disk/by-uuid/", volume.content.uuid),
        ("/dev/disk/by-label/", volume.content.label),
        ("/dev/disk/by-partuuid/", volume.part_uuid),
        ("/dev/disk/by-partlabel/", volume.part_label),
    ):
        if spec.startswith(prefix):
            return bool(value) and spec.removeprefix(prefix).lower() == value.lower()
    if volume.is_logical:
        mapped = f"{_mapper_part(volume.group)}-{_mapper_part(volume.logical_name)}"
        return spec in (f"/dev/{volume.group}/{volume.logical_name}", f"/dev/mapper/{mapped}")
    found = _DEVICE.fullmatch(spec)
    return bool(found and _FIRST_DISK.fullmatch(spec) and int(found[1]) == volume.number)


def _mapper_part(name: str) -> str:
    """The device mapper doubles hyphens in the names that it joins with one."""
    return name.replace("-", "--")


def _unescape(field: str) -> str:
    """Octal escapes stand for blanks in names."""
    return re.sub(r"\\([0-7]{3})", lambda match: chr(int(match[1], 8)), field)
