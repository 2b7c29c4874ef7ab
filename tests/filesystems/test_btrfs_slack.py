"""Old content on btrfs: planted by the kernel in every way it can stay, then cleaned and sought."""

from __future__ import annotations

import os
import random
from pathlib import Path

import pytest

from tests.filesystems.test_btrfs_read import COMBINED, KINDS, MIB, make, mounted, read, seen
from tests.oracles import run
from tests.xfs import FileStore
from zeroseal.filesystems.btrfs.check import check_volume
from zeroseal.filesystems.btrfs.compression import unpack
from zeroseal.filesystems.btrfs.inventory import BtrfsInventory
from zeroseal.filesystems.btrfs.read import BtrfsTree
from zeroseal.filesystems.btrfs.usage import read_usage
from zeroseal.filesystems.inventory import Part

CANARY = b"Kittiwake-"


def canaries(count: int) -> bytes:
    """Text with a canary in each sixteen bytes, hard to pack away."""
    dice = random.Random(count)
    return b"".join(CANARY + b"%05x." % dice.randrange(1 << 20) for _ in range(count // 16 + 1))[
        :count
    ]


def plant(point: Path, is_packed: bool) -> None:
    """Content that goes, each in another way; what stays has no canary."""
    for number in range(300):
        (point / f"gone-{number}").write_bytes(canaries(100 + 97 * number))
    os.sync()
    for number in range(300):
        (point / f"gone-{number}").unlink()
    (point / "cut").write_bytes(canaries(300_000))
    (point / "holed").write_bytes(canaries(500_000))
    (point / "part").write_bytes(canaries(400_000))
    (point / "tail").write_bytes(b"t" * 50_000 + canaries(3000))
    (point / "small").write_bytes(canaries(700))
    (point / "shared").write_bytes(canaries(260_000))
    run("cp", "--reflink=always", point / "shared", point / "sharing")
    os.setxattr(point / "small", "user.note", canaries(200))
    os.sync()
    os.truncate(point / "cut", 0)
    run("fallocate", "-p", "-o", "65536", "-l", "200704", point / "holed")
    for name, start, length in (
        ("holed", 0, 65536), ("holed", 266240, 500_000 - 266240), ("part", 0, 150_000),
        ("part", 190_000, 210_000), ("part", 150_000, 40_000), ("shared", 0, 131072),
        ("sharing", 0, 131072), ("shared", 131072, 260_000 - 131072),
    ):  # fmt: skip
        with (point / name).open("r+b") as file:
            file.seek(start)
            file.write(b"new content" * (length // 11 + 1))
            file.truncate(max(length + start, 260_000))
    os.truncate(point / "sharing", 140_000)
    with (point / "sharing").open("r+b") as file:
        file.seek(131072)
        file.write(b"s" * 5000)
        file.truncate(136_000)
    os.truncate(point / "tail", 50_000)
    (point / "small").write_bytes(b"small")
    os.removexattr(point / "small", "user.note")
    with (point / "ahead").open("wb") as file:
        os.posix_fallocate(file.fileno(), 0, 2 * MIB)
        file.seek(300_000)
        file.write(b"in the middle" * 1000)
    for number in range(400):
        (point / f"{CANARY.decode()}name-{number}").touch()
    os.sync()
    for number in range(400):
        name = f"{CANARY.decode()}name-{number}"
        if number % 3:
            (point / name).unlink()
        else:
            (point / name).rename(point / f"name-{number}")
    for number in range(30):
        (point / f"stays-{number}").write_bytes(b"stays %d " % number * 900)
    assert is_packed or CANARY not in b"".join(
        path.read_bytes() for path in point.iterdir() if path.is_file()
    )


def search(volume: Path) -> int:
    return volume.read_bytes().count(CANARY)


def packed_canaries(volume: Path) -> int:
    """In extents that are compressed, also where no file shows them any more."""
    store = FileStore(volume)
    tree = BtrfsTree(store)
    sector, count = tree.volume.superblock.sector_bytes, 0
    for use in read_usage(tree.volume).data.values():
        if use.packing:
            stored = store.read(tree.volume.places_of(use.address, use.length)[0], use.length)
            count += unpack(use.packing, stored, use.plain_bytes, sector).count(CANARY)
    store.close()
    return count


def clean(volume: Path) -> None:
    store = FileStore(volume)
    inventory = BtrfsInventory(BtrfsTree(store))
    for part in Part:
        for patch in inventory.patches(part):
            patch.apply(store)
    store.close()


def judge(volume: Path) -> None:
    run("btrfs", "check", "--readonly", "--check-data-csum", volume)
    store = FileStore(volume)
    assert check_volume(store, "v") == []
    inventory = BtrfsInventory(BtrfsTree(store))
    assert [inventory.stale_bytes(part) for part in Part] == [0, 0, 0, 0]
    store.close()


@pytest.mark.parametrize(("kind", "packing"), COMBINED)
def test_what_the_kernel_leaves_behind_is_zeroed(tmp_path: Path, kind: str, packing: str) -> None:
    volume = make(tmp_path / "v", *KINDS[kind], "-L", CANARY.decode() * 2)
    run("btrfs", "filesystem", "label", volume, "new")
    options = () if packing == "none" else (f"compress-force={packing}",)
    with mounted(volume, *options) as point:
        plant(point, packing != "none")
        run("btrfs", "subvolume", "snapshot", point, point / "snapshot")
        with (point / "stays-3").open("r+b") as file:
            file.write(b"changed after the snapshot")
        run("sync", "-f", point)
        expected = seen(point, point)
    assert search(volume)
    clean(volume)
    assert search(volume) == packed_canaries(volume) == 0
    judge(volume)
    store = FileStore(volume)
    tree = BtrfsTree(store)
    assert read(tree, tree.root) == expected
    store.close()
    with mounted(volume) as point:
        assert seen(point, point) == expected
        (point / "more").write_bytes(b"m" * 300_000)
        assert "no errors found" in run("btrfs", "scrub", "start", "-B", point)
    run("btrfs", "check", "--readonly", "--check-data-csum", volume)
