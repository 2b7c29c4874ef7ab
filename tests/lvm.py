"""Disks with LVM on them, made by its own programs without a device mapper."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from tests.oracles import need, partition_range, run

MIB = 1 << 20
_QUIET = ["--driverloaded", "n", "--config"]
_CONFIG = (
    'devices{{use_devicesfile=0 global_filter=[{devices} "r|.*|"]}} '
    "activation{{udev_sync=0 udev_rules=0}} backup{{backup=0 archive=0}}"
)


class LvmDisk:
    """A raw disk whose partitions are physical volumes, while loop devices lie over them."""

    def __init__(self, raw: Path, devices: dict[str, int], host: str = "") -> None:
        self.raw, self._devices, self._host = raw, devices, host

    def call(self, program: str, *words: str | Path) -> str:
        """Runs one of LVM's programs."""
        devices = "".join(f'"a|^{device}$|",' for device in self._devices)
        named = ["unshare", "--uts", "sh", "-c", 'hostname "$0" && exec "$@"', self._host]
        call = [program, *_QUIET, _CONFIG.format(devices=devices), *words]
        return run(*(named if self._host else []), *call)

    @property
    def devices(self) -> list[str]:
        """The loop devices, one a partition."""
        return list(self._devices)

    def create(self, name: str, megabytes: int, *words: str) -> None:
        """Makes a logical volume in the group ``tide-vg``."""
        size = ["-an", "-Zn", "-Wn", "-L", f"{megabytes}M"]
        self.call("lvcreate", *size, "-n", name, *words, "tide-vg")

    def places(self, name: str, group: str = "tide-vg") -> list[tuple[int, int]]:
        """(offset on the disk, length) of a volume's parts in order, as LVM's report has them."""
        fields = "seg_start,seg_size,stripes,stripe_size,seg_pe_ranges,vg_extent_size"
        words = ["--reportformat", "json", "--units", "b", "--nosuffix", "-o", fields]
        report = json.loads(self.call("lvs", *words, f"{group}/{name}"))
        found = []
        for segment in sorted(report["report"][0]["lv"], key=lambda item: int(item["seg_start"])):
            extent = int(segment["vg_extent_size"])
            starts = []
            for place in segment["seg_pe_ranges"].split():
                device, _colon, extents = place.rpartition(":")
                first = int(extents.split("-")[0])
                starts.append(self._devices[device] + self._pe_start(device) + first * extent)
            size, stripes = int(segment["seg_size"]), int(segment["stripes"])
            step = int(segment["stripe_size"]) if stripes > 1 else size
            for number in range(size // step):
                row, column = divmod(number, stripes)
                found.append((starts[column] + row * step, step))
        return found

    def _pe_start(self, device: str) -> int:
        words = ["--noheadings", "--units", "b", "--nosuffix", "-o", "pe_start"]
        return int(self.call("pvs", *words, device))


@contextmanager
def lvm_disk(
    raw: Path, *megabytes: int, metadata: str = "1m", host: str = "", group: str = "tide-vg"
) -> Iterator[LvmDisk]:
    """Makes a disk with a physical volume of each size, all in one group.

    ``host`` is the name of the machine for LVM's programs, empty for the real one's.
    """
    need("pvcreate", "losetup", "sgdisk")
    with raw.open("wb") as disk:
        disk.truncate((sum(megabytes) + 2) * MIB)
    words, start, starts = [], 1, []
    for number, size in enumerate(megabytes, 1):
        words += ["-n", f"{number}:{start}M:+{size}M", "-t", f"{number}:8e00"]
        starts.append((start * MIB, size * MIB))
        start += size
    run("sgdisk", *words, raw)
    devices = {}
    try:
        for offset, size in starts:
            told = ["--show", "-f", "-o", str(offset), "--sizelimit", str(size)]
            devices[run("losetup", *told, raw).strip()] = offset
        made = LvmDisk(raw, devices, host)
        made.call("pvcreate", "--metadatasize", metadata, *made.devices)
        made.call("vgcreate", "-s", "1m", group, *made.devices)
        yield made
    finally:
        for device in devices:
            run("losetup", "-d", device)


@contextmanager
def opened_lvm(raw: Path) -> Iterator[LvmDisk]:
    """LVM's programs over the partitions of a disk that is there already."""
    devices: dict[str, int] = {}
    try:
        for number in range(1, len(run("sgdisk", "-p", raw).partition("Number")[2].splitlines())):
            offset, size = partition_range(raw, number)
            words = ("--show", "-f", "-o", str(offset), "--sizelimit", str(size))
            devices[run("losetup", *words, raw).strip()] = offset
        yield LvmDisk(raw, devices)
    finally:
        for device in devices:
            run("losetup", "-d", device)


def volume_range(raw: Path, partition: int, name: str) -> tuple[int, int]:
    """(begin, length) on the disk of a logical volume in one piece, as LVM's own tools tell."""
    begin, size = partition_range(raw, partition)
    words = ("losetup", "--show", "-f", "-o", str(begin), "--sizelimit", str(size), raw)
    device = run(*words).strip()
    try:
        disk = LvmDisk(raw, {device: begin})
        numbers = ("--noheadings", "--nosuffix", "--units", "b")
        start = int(disk.call("pvs", *numbers, "-o", "pe_start"))
        columns = "lv_name,vg_extent_size,seg_pe_ranges,lv_size"
        told = disk.call("lvs", *numbers, "-o", columns)
    finally:
        run("losetup", "-d", device)
    rows = {row[0]: row[1:] for row in map(str.split, told.splitlines())}
    extent, places, length = rows[name]
    first = int(places.rpartition(":")[2].partition("-")[0])
    return begin + start + first * int(extent), int(length)


def put(raw: Path, places: list[tuple[int, int]], content: bytes) -> None:
    """Writes a volume's content to the disk, by its places."""
    with raw.open("r+b") as disk:
        for offset, length in places:
            disk.seek(offset)
            disk.write(content[:length])
            content = content[length:]


def take(raw: Path, places: list[tuple[int, int]]) -> bytes:
    """Reads a volume's content from the disk, by its places."""
    with raw.open("rb") as disk:
        return b"".join(os.pread(disk.fileno(), length, offset) for offset, length in places)
