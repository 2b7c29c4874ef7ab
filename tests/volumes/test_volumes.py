"""Partition tables, swap and signatures, made by the real tools."""

from __future__ import annotations

import struct
import uuid
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.disks import MIB
from tests.oracles import run
from zeroseal.blocks.store import MemoryStore
from zeroseal.errors import DamagedError, ZeroSealError
from zeroseal.filesystems.drivers import read_disk, recognise
from zeroseal.images.detect import open_image
from zeroseal.volumes.disk import Disk
from zeroseal.volumes.swap import data_range, find_swap


def empty_disk(path: Path, mib: int = 64) -> Path:
    with path.open("wb") as disk:
        disk.truncate(mib * MIB)
    return path


def read(path: Path) -> Disk:
    return read_disk(open_image(path))


def test_a_gpt_disk_is_read_as_sgdisk_made_it(tmp_path: Path) -> None:
    path = empty_disk(tmp_path / "d.raw")
    guid = "aaaaaaaa-bbbb-4ccc-8ddd-eeeeeeeeeeee"
    run("sgdisk", "-n", "1:2048:+8M", "-t", "1:ef00", "-c", "1:esp", "-n", "5:0:0",
        "-t", "5:8300", "-u", f"5:{guid}", "-c", "5:räume", path)  # fmt: skip
    disk = read(path)
    assert disk.table == "GPT"
    assert [volume.number for volume in disk.volumes] == [1, 5]
    esp, rest = disk.volumes
    assert (esp.offset_bytes, esp.size_bytes, esp.type_name) == (MIB, 8 * MIB, "EFI system")
    assert (rest.offset_bytes, rest.part_uuid, rest.part_label) == (9 * MIB, guid, "räume")
    assert rest.offset_bytes + rest.size_bytes == (64 * MIB - 33 * 512) // 4096 * 4096 or (
        rest.size_bytes > 54 * MIB
    )


def test_a_broken_primary_table_is_read_from_the_backup_and_said(tmp_path: Path) -> None:
    path = empty_disk(tmp_path / "d.raw")
    run("sgdisk", "-n", "1:2048:+8M", path)
    raw = bytearray(path.read_bytes())
    raw[512 + 40] ^= 1
    path.write_bytes(raw)
    disk = read(path)
    assert len(disk.volumes) == 1
    assert "backup" in disk.notes[0]
    raw[-512 + 40] ^= 1
    path.write_bytes(raw)
    with pytest.raises(DamagedError, match="checksum"):
        read(path)


def test_an_mbr_disk_with_logical_partitions(tmp_path: Path) -> None:
    path = empty_disk(tmp_path / "d.raw")
    run("parted", "-s", path, "mklabel", "msdos", "mkpart", "primary", "ext4", "1MiB", "9MiB",
        "mkpart", "extended", "10MiB", "60MiB", "mkpart", "logical", "11MiB", "20MiB",
        "mkpart", "logical", "linux-swap", "21MiB", "30MiB")  # fmt: skip
    disk = read(path)
    assert disk.table == "MBR"
    found = [(volume.number, volume.offset_bytes, volume.size_bytes) for volume in disk.volumes]
    assert found == [(1, MIB, 8 * MIB), (5, 11 * MIB, 9 * MIB), (6, 21 * MIB, 9 * MIB)]
    signature = run("blkid", "-p", "-s", "PTUUID", "-o", "value", path).strip()
    assert disk.volumes[1].part_uuid == f"{signature}-05"


def test_a_chain_of_logical_partitions_that_goes_backwards_is_damage(tmp_path: Path) -> None:
    path = empty_disk(tmp_path / "d.raw")
    run("parted", "-s", path, "mklabel", "msdos", "mkpart", "extended", "10MiB", "60MiB",
        "mkpart", "logical", "11MiB", "20MiB", "mkpart", "logical", "21MiB", "30MiB")  # fmt: skip
    raw = bytearray(path.read_bytes())
    first_table = struct.unpack_from("<I", raw, 446 + 8)[0] * 512
    struct.pack_into("<I", raw, first_table + 446 + 16 + 8, 0)
    path.write_bytes(raw)
    with pytest.raises(DamagedError, match="contains a loop"):
        read(path)


@pytest.mark.parametrize(
    ("maker", "kind"),
    [
        (["mke2fs", "-q", "-F", "-t", "ext2"], "ext2"),
        (["mke2fs", "-q", "-F", "-t", "ext3"], "ext3"),
        (["mke2fs", "-q", "-F", "-t", "ext4"], "ext4"),
        (["mkswap", "-q"], "swap"),
        (["mkfs.vfat"], "vfat"),
        (["mkfs.xfs", "-q", "-f"], "xfs"),
        (["mkfs.btrfs", "-q", "-f"], "btrfs"),
        (["mkntfs", "-q", "-Q", "-F"], "ntfs"),
    ],
    ids=lambda value: value if isinstance(value, str) else value[0],
)
def test_what_lies_on_a_disk_is_recognised_with_its_uuid(
    tmp_path: Path, maker: list[str], kind: str
) -> None:
    path = empty_disk(tmp_path / "v.raw", 320)
    run(*maker, path)
    (volume,) = read(path).volumes
    assert volume.content.kind == kind
    if kind not in ("ntfs", "btrfs"):
        uuid = run("blkid", "-p", "-s", "UUID", "-o", "value", path).strip()
        assert volume.content.uuid == uuid


def test_a_hibernated_swap_is_refused(tmp_path: Path) -> None:
    path = empty_disk(tmp_path / "v.raw", 8)
    run("mkswap", "-q", "-L", "tide", path)
    raw = bytearray(path.read_bytes())
    area = find_swap(MemoryStore(bytes(raw)))
    assert area
    assert (area.label, area.hibernated) == ("tide", False)
    assert data_range(MemoryStore(bytes(raw)), area) == (4096, 8 * MIB - 4096)
    raw[4086:4096] = b"S1SUSPEND\0"
    path.write_bytes(raw)
    assert "hibernated" in read(path).volumes[0].content.refusal


@given(places=st.lists(st.tuples(st.integers(446, 1536), st.integers(0, 255)), max_size=20))
def test_damaged_tables_raise_only_our_errors(
    tmp_path: Path, places: list[tuple[int, int]]
) -> None:
    path = tmp_path / "d.raw"
    if not path.exists():
        run("sgdisk", "-n", "1:2048:+1M", "-n", "2:0:0", empty_disk(path, 4))
    raw = bytearray(path.read_bytes())
    for place, value in places:
        raw[place] = value
    try:
        disk = read_disk(MemoryStore(bytes(raw)))
    except ZeroSealError:
        return
    for volume in disk.volumes:
        assert volume.offset_bytes + volume.size_bytes <= len(raw)


def test_a_stick_that_bitlocker_encrypted_is_no_fat() -> None:
    sector = bytearray(8192)
    sector[3:11], sector[82:90] = b"MSWIN4.1", b"FAT32   "
    sector[424:440] = uuid.UUID("4967d63b-2e29-4ad8-8399-f6a339e3d001").bytes_le
    content = recognise(MemoryStore(bytes(sector)))
    assert (content.kind, "BitLocker" in content.refusal) == ("bitlocker", True)
