"""Growing a file system to the size of its volume: judged, filled to the end, shrunk by nothing."""

from __future__ import annotations

import os
import random
from pathlib import Path

import pytest

from tests.disks import make_ext
from tests.filesystems.test_btrfs_edit import judge as judge_btrfs
from tests.filesystems.test_btrfs_read import make as make_btrfs
from tests.filesystems.test_volume_ids import BTRFS, digest, driver_for, fill, mountable
from tests.long import some_of
from tests.oracles import judge_ext, kernel_mount, mounted, run
from tests.xfs import FileStore, judge_xfs, make_xfs
from zeroseal.errors import UnsupportedError

MIB = 1 << 20
EXT = {
    "plain": [("-t", "ext4", "-b", "4096"), 100, 700],
    "further descriptors": [("-t", "ext4", "-b", "1024"), 60, 1200],
    "a few blocks": [("-t", "ext4", "-b", "1024"), 60, 61],
    "too few for a group": [("-t", "ext4", "-b", "1024", "-g", "8192"), 64, 65],
    "no 64bit": [("-t", "ext4", "-b", "1024", "-O", "^64bit", "-I", "128"), 50, 900],
    "group sums": [("-t", "ext4", "-b", "1024", "-O", "^metadata_csum,uninit_bg"), 50, 600],
    "meta groups": [("-t", "ext4", "-b", "1024", "-O", "^resize_inode,meta_bg"), 50, 900],
    "old": [("-t", "ext3", "-b", "1024"), 50, 600],
    "no flexible groups": [("-t", "ext4", "-b", "2048", "-O", "^flex_bg"), 50, 800],
    "older still": [("-t", "ext2", "-b", "1024", "-O", "^sparse_super,^resize_inode"), 30, 200],
}


def grow(path: Path, megabytes: int) -> int:
    """Grows a volume; what it held is still there, and our own checker finds nothing."""
    os.truncate(path, megabytes * MIB)
    store = FileStore(path)
    try:
        driver = driver_for(store)
        before = digest(driver.read(store, "v"))
        size = driver.grow(store, "v")
        tree = driver.read(store, "v")
        assert digest(tree) == before
        assert driver.check(tree) == []
        assert driver.stated_bytes(tree) in (0, size)
        assert driver.grow(store, "v") == size  # nothing is left to do
        return size
    finally:
        store.close()


def fill_up(point: Path) -> int:
    """Writes until nothing fits any more; returns how many bytes did."""
    total, piece = 0, b"tide" * (MIB // 4)
    try:
        with (point / "all of it").open("wb") as file:
            while True:
                file.write(piece)
                total += len(piece)
    except OSError:
        return total


@pytest.mark.parametrize(
    ("options", "before", "after"),
    some_of(EXT, ("further descriptors", "a few blocks", "meta groups", "no 64bit")),
)
def test_an_ext_volume_grows(
    tmp_path: Path, options: tuple[str, ...], before: int, after: int
) -> None:
    path = make_ext(tmp_path / "volume", before, *options)
    mountable(path)
    with kernel_mount(path) as point:
        fill(point, random.Random(4), 300)
    size = grow(path, after)
    lost = after * MIB - size
    assert lost < 3 * MIB if after > before + 1 else size >= before * MIB
    judge_ext(path)
    if after < 700:
        with kernel_mount(path) as point:
            assert fill_up(point) > (after - before) * MIB * 3 // 4 - MIB
        judge_ext(path)
    told = run("resize2fs", "-f", path)  # finds what it would have made itself, or more
    assert told is not None
    run("e2fsck", "-fn", path)


def test_ext_volumes_that_cannot_grow_here_are_refused_unchanged(tmp_path: Path) -> None:
    for options, why in (
        (("-O", "bigalloc"), "the feature bigalloc"),
        (("-O", "sparse_super2"), "the feature sparse_super2"),
        (("-b", "1024", "-O", "^resize_inode"), "no room for the descriptors"),
    ):
        path = make_ext(tmp_path / "volume", 40, "-t", "ext4", *options)
        before = path.read_bytes()
        os.truncate(path, 1200 * MIB)
        store = FileStore(path)
        with pytest.raises(UnsupportedError, match=why):
            driver_for(store).grow(store, "partition 2")
        store.close()
        os.truncate(path, len(before))
        assert path.read_bytes() == before


XFS: dict[str, list[object]] = {
    "a few blocks": [(), 321],
    "plain": [(), 700],
    "all trees": [("-m", "rmapbt=1,reflink=1,finobt=1"), 1000],
    "no sums": [("-m", "crc=0,finobt=0"), 900],
    "large sectors": [("-s", "size=4096", "-d", "agcount=3"), 2000],
    "no room for a group": [("-d", "agsize=90m"), 361],
}


@pytest.mark.parametrize(("options", "after"), some_of(XFS, ("all trees", "no room for a group")))
def test_an_xfs_volume_grows(tmp_path: Path, options: tuple[str, ...], after: int) -> None:
    path = make_xfs(tmp_path / "volume", *options)
    mountable(path)
    if "crc=0,finobt=0" not in options:
        with kernel_mount(path, "nouuid") as point:
            fill(point, random.Random(5), 300)
    size = grow(path, after)
    assert after * MIB - size < 2 * MIB
    judge_xfs(path)
    if after < 800:
        with kernel_mount(path, "nouuid") as point:
            assert fill_up(point) > (after - 320) * MIB * 9 // 10
        judge_xfs(path)


@pytest.mark.parametrize("options", some_of(BTRFS, ("single",)))
def test_a_btrfs_volume_grows(tmp_path: Path, options: tuple[str, ...]) -> None:
    path = make_btrfs(tmp_path / "volume", *options)
    with mounted(tmp_path / "point", "-o", "loop", path) as point:
        fill(point, random.Random(6), 100)
    assert grow(path, 900) == 900 * MIB
    judge_btrfs(path)
    with mounted(tmp_path / "again", "-o", "loop", path) as point:
        assert fill_up(point) > 500 * MIB
    judge_btrfs(path)
