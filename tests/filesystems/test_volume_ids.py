"""Another UUID or serial number on a volume: judged, and mounted beside its twin."""

from __future__ import annotations

import hashlib
import os
import random
import re
import shutil
import struct
from pathlib import Path
from typing import Any

import pytest

from tests.disks import make_ext
from tests.filesystems.test_btrfs_edit import judge as judge_btrfs
from tests.filesystems.test_btrfs_read import make as make_btrfs
from tests.filesystems.test_btrfs_read import plant
from tests.filesystems.test_fat import make_fat
from tests.long import some_of
from tests.ntfs import judge_ntfs, make_ntfs
from tests.oracles import judge_ext, kernel_mount, mounted, need, run
from tests.xfs import FileStore, judge_xfs, make_xfs
from zeroseal.errors import RefusedError
from zeroseal.filesystems.driver import VolumeDriver
from zeroseal.filesystems.drivers import DRIVERS, recognise
from zeroseal.filesystems.tree import FileTree, Kind

NOW = 1_795_000_000
EXT = {
    "plain": ("-t", "ext4", "-b", "4096"),
    "seed": ("-t", "ext4", "-O", "metadata_csum_seed"),
    "small blocks": ("-t", "ext4", "-b", "1024", "-O", "^resize_inode,meta_bg"),
    "group sums": ("-t", "ext4", "-O", "^metadata_csum,uninit_bg"),
    "old": ("-t", "ext3",),
    "no 64bit": ("-t", "ext4", "-O", "^64bit", "-I", "128"),
    "clusters": ("-t", "ext4", "-O", "bigalloc", "-C", "16384"),
    "orphan file": ("-t", "ext4", "-O", "orphan_file"),
    "many features": ("-t", "ext4", "-O", "mmp,inline_data,sparse_super2,large_dir"),
}  # fmt: skip


def driver_for(store: FileStore) -> VolumeDriver[Any]:
    kind = recognise(store).kind
    return next(driver for driver in DRIVERS if kind in driver.kinds)


def digest(tree: FileTree) -> dict[str, str]:
    """Every path with what it holds."""
    found, pending = {}, [("", tree.root)]
    while pending:
        path, node = pending.pop()
        for entry in tree.list_folder(node):
            name = f"{path}/{entry.name!r}"
            if entry.kind is Kind.FOLDER:
                pending.append((name, entry.node))
            content = tree.read_file(entry.node) if entry.kind is Kind.FILE else b""
            attributes = repr(sorted(tree.read_attributes(entry.node).items())).encode()
            found[name] = hashlib.sha256(content + b"|" + attributes).hexdigest()
    return found


def renew(path: Path) -> tuple[str, str]:
    """Gives a volume another identity; its content must be the same."""
    store = FileStore(path)
    try:
        driver = driver_for(store)
        old, new = recognise(store).uuid, driver.new_volume_id()
        before = digest(driver.read(store, "v"))
        driver.set_volume_id(store, "v", new)
        assert recognise(store).uuid == new != old
        tree = driver.read(store, "v")
        assert digest(tree) == before
        assert len(before) > 3
        assert driver.check(tree) == []
        editor = driver.edit(driver.read(store, "v"), NOW)
        editor.create_file(editor.root, b"written since", b"tide" * 3000, 0o644)
        editor.finish()
    finally:
        store.close()
    assert run("blkid", "-p", "-s", "UUID", "-o", "value", path).strip() == new
    return old, new


def fill(point: Path, dice: random.Random, many: int = 900) -> None:
    """Large and deep folders, files in many pieces, attributes in blocks of their own."""
    for number in range(many):
        folder = point / ("large" if number % 3 else f"folder {number % 11}")
        folder.mkdir(exist_ok=True)
        (folder / f"a name of some length {number:06d}").write_bytes(b"x" * (number % 70))
    with (point / "pieces").open("wb") as file:
        for number in range(0, 400, 2):
            file.seek(number * 4096)
            file.write(dice.randbytes(64))
    for number in range(20):
        path = point / f"marked {number}"
        path.write_bytes(b"pier")
        os.setxattr(path, "user.long", dice.randbytes(300 if number % 2 else 600))
        os.setxattr(path, "user.same", b"s" * 200)
    (point / "link").symlink_to("l" * 200)


def mountable(path: Path) -> None:
    need("mount", "losetup")
    if os.geteuid() != 0 and not os.environ.get("CI"):
        pytest.skip("cannot mount here")
    assert path


@pytest.mark.parametrize("options", some_of(EXT, ("plain", "small blocks", "many features")))
def test_an_ext_volume_gets_another_uuid(tmp_path: Path, options: tuple[str, ...]) -> None:
    path = make_ext(tmp_path / "volume", 160, *options)
    mountable(path)
    with kernel_mount(path) as point:
        fill(point, random.Random(1))
        shutil.rmtree(point / "folder 3")
    _old, new = renew(path)
    judge_ext(path)
    for block_no in re.findall(r"Backup superblock at (\d+)", run("dumpe2fs", path)):
        size = re.search(r"Block size: +(\d+)", run("dumpe2fs", "-h", path))
        assert size
        told = run(
            "dumpe2fs", "-h", "-o", f"superblock={block_no}", "-o", f"blocksize={size[1]}", path
        )
        assert new in told


def test_ext_volumes_that_depend_on_their_uuid_are_refused(tmp_path: Path) -> None:
    path = make_ext(tmp_path / "volume", 16, "-t", "ext4", "-O", "stable_inodes")
    before = path.read_bytes()
    store = FileStore(path)
    with pytest.raises(RefusedError, match="the feature stable_inodes"):
        driver_for(store).set_volume_id(
            store, "partition 2", "7" * 8 + "-7777-4777-8777-" + "7" * 12
        )
    store.close()
    assert path.read_bytes() == before


XFS = {
    "plain": (),
    "all trees": ("-m", "rmapbt=1,reflink=1,finobt=1"),
    "no sums": ("-m", "crc=0"),
    "large sectors": ("-s", "size=4096"),
}


@pytest.mark.parametrize("options", some_of(XFS, ("all trees", "no sums")))
@pytest.mark.parametrize("is_used", [False, True], ids=["as made", "used by the kernel"])
def test_an_xfs_volume_gets_another_uuid(
    tmp_path: Path, options: tuple[str, ...], is_used: bool
) -> None:
    path = make_xfs(tmp_path / "volume", *options)
    mountable(path)
    if is_used and "crc=0" not in options:
        with kernel_mount(path, "nouuid") as point:
            fill(point, random.Random(2))
    else:
        store = FileStore(path)
        editor = driver_for(store).edit(driver_for(store).read(store, "v"), NOW)
        for number in range(300):
            editor.create_file(editor.root, b"name %d" % number, b"c" * number, 0o644)
        editor.finish()
        store.close()
    twin = tmp_path / "twin"
    shutil.copyfile(path, twin)
    for _time in range(2):  # also where there was another one before
        renew(path) if _time == 0 else renew_again(path)
        judge_xfs(path)
    if "crc=0" not in options:
        with kernel_mount(path) as _first, kernel_mount(twin) as second:  # without "nouuid"
            (second / "both").write_text("are mounted")


BTRFS = {"plain": (), "single": ("-m", "single"), "other sums": ("--csum", "sha256")}


def renew_again(path: Path) -> None:
    store = FileStore(path)
    driver = driver_for(store)
    driver.set_volume_id(store, "v", driver.new_volume_id())
    assert driver.check(driver.read(store, "v")) == []
    store.close()


@pytest.mark.parametrize("options", some_of(BTRFS, ("plain",)))
def test_a_btrfs_volume_gets_another_uuid(tmp_path: Path, options: tuple[str, ...]) -> None:
    path = make_btrfs(tmp_path / "volume", *options)
    with mounted(tmp_path / "point", "-o", "loop", path) as point:
        plant(point, random.Random(3))
    twin = tmp_path / "twin"
    shutil.copyfile(path, twin)
    device = run("blkid", "-p", "-s", "UUID_SUB", "-o", "value", path)
    renew(path)
    judge_btrfs(path)
    assert run("blkid", "-p", "-s", "UUID_SUB", "-o", "value", path) != device
    with (
        mounted(tmp_path / "first", "-o", "loop", path) as first,
        mounted(tmp_path / "second", "-o", "loop", twin) as second,
    ):
        (first / "here").write_text("1")
        assert not (second / "here").exists()
    judge_btrfs(path)
    judge_btrfs(twin)
    renew_again(path)
    judge_btrfs(path)


@pytest.mark.parametrize(("bits", "size"), [("12", "4M"), ("16", "20M"), ("32", "64M")])
def test_a_fat_volume_gets_another_serial_number(tmp_path: Path, bits: str, size: str) -> None:
    path = make_fat(tmp_path / "volume", bits, size, [])
    for number in range(6):
        run("mmd", "-i", path, f"::folder {number}")
    _old, new = renew(path)
    run("fsck.fat", "-n", path)
    if bits == "32":
        raw = path.read_bytes()
        assert raw[67:71] == raw[6 * 512 + 67 : 6 * 512 + 71]
        assert struct.unpack_from("<I", raw, 67)[0] == int(new.replace("-", ""), 16)


def test_an_ntfs_volume_gets_another_serial_number(tmp_path: Path) -> None:
    path = make_ntfs(tmp_path / "volume")
    store = FileStore(path)
    editor = driver_for(store).edit(driver_for(store).read(store, "v"), NOW)
    for number in range(5):
        editor.create_file(editor.root, b"name %d" % number, b"c" * 3000, 0o644)
    editor.finish()
    store.close()
    _old, new = renew(path)
    judge_ntfs(path)
    raw = path.read_bytes()
    boot = next(n for n in range(len(raw) - 512, 0, -512) if raw[n + 3 : n + 11] == b"NTFS    ")
    assert raw[boot + 72 : boot + 80] == int(new, 16).to_bytes(8, "little")
