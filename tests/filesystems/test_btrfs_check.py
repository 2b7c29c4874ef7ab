"""The checker of btrfs: content with what the kernel writes, and with nothing that is damaged."""

from __future__ import annotations

import os
import random
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.filesystems.test_btrfs_read import KINDS, make, mounted, plant
from tests.oracles import run
from tests.xfs import FileStore
from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.check import check_volume
from zeroseal.filesystems.btrfs.layout import Header, Key, Superblock
from zeroseal.filesystems.btrfs.volume import BtrfsVolume, TreeRoot

Change = Callable[[Key, bytes], bytes | Key | None]


def use(point: Path, dice: random.Random, rounds: int) -> None:
    """Files come, change and go, with snapshots in between."""
    (point / "work").mkdir()
    for number in range(rounds):
        path = point / "work" / f"file {dice.randrange(40)}"
        size = dice.choice([0, 30, 3000, 9000, 90_000, 400_000])
        what = dice.randrange(8)
        if what < 4 or not path.exists():
            path.write_bytes(dice.randbytes(64) * (size // 64))
        elif what == 4:
            path.unlink()
        elif what == 5:
            os.truncate(path, size)
        elif what == 6:
            run("cp", "--reflink=always", path, path.with_name(f"copy {number}"))
        else:
            with path.open("r+b") as file:
                file.seek(dice.randrange(1 + size))
                file.write(dice.randbytes(5000))
        if number % 40 == 20:
            run(
                "btrfs",
                "subvolume",
                "snapshot",
                point,
                point / f"shot {number} {dice.randrange(1 << 30)}",
            )
        if number % 10 == 9:
            run("sync", "-f", point)
    for shot in sorted(point.glob("shot *"))[::2]:
        run("btrfs", "subvolume", "delete", "-C", shot)
    run("btrfs", "subvolume", "sync", point)


@pytest.mark.parametrize("kind", KINDS)
def test_what_the_kernel_wrote_is_sound(tmp_path: Path, kind: str) -> None:
    volume = make(tmp_path / "v", *KINDS[kind])
    dice = random.Random(kind)
    for options in ((), ("compress-force=zstd",), ("nodatacow",)):
        with mounted(volume, *options) as point:
            if not (point / "many").exists():
                plant(point, dice)
            shutil.rmtree(point / "work", ignore_errors=True)
            use(point, dice, 120)
        assert check_volume(FileStore(volume)) == []
    with mounted(volume) as point:
        run("btrfs", "balance", "start", "--full-balance", point)
    assert check_volume(FileStore(volume)) == []
    run("btrfs", "check", "--readonly", volume)


@pytest.fixture(scope="module")
def sound(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A volume with a few of everything, both copies of its trees kept."""
    volume = make(tmp_path_factory.mktemp("btrfs") / "v", "-m", "dup")
    with mounted(volume) as point:
        (point / "pier").mkdir()
        for number in range(9):
            (point / "pier" / f"tide {number}").write_bytes(b"%d tides, " % number * 3000)
        (point / "link").symlink_to("pier")
    assert check_volume(FileStore(volume)) == []
    return volume


def node_address(volume: BtrfsVolume, root: TreeRoot, key: Key) -> int:
    """The leaf that a key lies in."""
    address = root.address
    while True:
        node = volume.read_node(address)
        if not node.level:
            return address
        below = [child for first, child in zip(node.keys, node.children, strict=True)
                 if first <= key]  # fmt: skip
        address = below[-1][0]


def rewrite(path: Path, places: tuple[int, ...], raw: bytes, volume: BtrfsVolume) -> None:
    """Writes a node to each place with a checksum that fits."""
    made = volume.checksum(raw[layout.CHECKSUM_BYTES :])
    with path.open("r+b") as file:
        for place in places:
            file.seek(place)
            file.write(made + raw[len(made) :])


def damage(path: Path, tree: int, kind: int, change: Change, copies: int = 2) -> None:
    """Changes the first item of a kind for which ``change`` gives something else."""
    volume = BtrfsVolume(FileStore(path))
    root = volume.roots if tree == layout.ROOT_TREE else volume.tree(tree)
    for key, data in volume.items(root, Key(0, 0, 0), Key((1 << 64) - 1, 255, (1 << 64) - 1)):
        made = change(key, data) if key.kind == kind else None
        if made is None:
            continue
        address = node_address(volume, root, key)
        raw = bytearray(volume.read_raw(address))
        index = volume.read_node(address).keys.index(key)
        at = Header.SIZE + index * 25
        if isinstance(made, Key):
            raw[at : at + 17] = (
                made.object.to_bytes(8, "little") + bytes([made.kind])
                + made.offset.to_bytes(8, "little")
            )  # fmt: skip
        else:
            start = Header.SIZE + int.from_bytes(raw[at + 17 : at + 21], "little")
            raw[start : start + len(data)] = made
        places = volume.places_of(address, len(raw))[-copies:]
        rewrite(path, places, bytes(raw), volume)
        return
    raise AssertionError("no such item")


def with_number(at: int, length: int, add: int, inode: int = 0) -> Change:
    """A change that adds to a number of an item, of one inode or of any."""

    def change(key: Key, data: bytes) -> bytes | None:
        if (inode and key.object != inode) or len(data) < at + length:
            return None
        value = int.from_bytes(data[at : at + length], "little") + add
        return data[:at] + value.to_bytes(length, "little") + data[at + length :]

    return change


def with_letter(key: Key, data: bytes) -> bytes | None:
    """Another last letter of a name."""
    del key
    return data[:-1] + b"X" if data.endswith((b"3", b"4")) else None


def shorter(key: Key, data: bytes) -> Key | None:
    """A free range that ends earlier; the first ones are of groups that mkfs took away again."""
    del data
    return key._replace(offset=key.offset - 4096) if key.object > 20 << 20 else None


FS, EXTENTS = layout.FS_TREE, layout.EXTENT_TREE
DAMAGES = {
    "links": (FS, layout.INODE_ITEM, with_number(40, 4, 1, 258), "counts 2 links"),
    "stored bytes": (FS, layout.INODE_ITEM, with_number(24, 8, 4096, 258), "stored bytes is wrong"),
    "folder size": (FS, layout.INODE_ITEM, with_number(16, 8, 2, 257), "size is not that of"),
    "name by index": (FS, layout.DIR_INDEX, with_letter, "by hash or by index only"),
    "name by hash": (FS, layout.DIR_ITEM, with_letter, "under the wrong hash"),
    "reference": (FS, layout.INODE_REF, with_letter, "no reference back"),
    "type": (FS, layout.DIR_INDEX, with_number(29, 1, 1, 257), "wrong file type"),
    "target": (FS, layout.DIR_INDEX, with_number(0, 8, 900, 257), "does not exist"),
    "extent count": (EXTENTS, layout.EXTENT_ITEM, with_number(0, 8, 1), "references and lists"),
    "node count": (EXTENTS, layout.METADATA_ITEM, with_number(0, 8, 1), "references and lists"),
    "group": (EXTENTS, layout.BLOCK_GROUP_ITEM, with_number(0, 8, 4096), "used bytes is wrong"),
    "free space": (
        layout.FREE_SPACE_TREE, layout.FREE_SPACE_EXTENT,
        shorter, "free-space tree",
    ),
    "checksum": (
        layout.CHECKSUM_TREE, layout.EXTENT_CHECKSUM, with_number(0, 4, 1), "match its checksum",
    ),
    "device extent": (
        layout.DEVICE_TREE, layout.DEVICE_EXTENT, with_number(16, 8, 65536), "device extents",
    ),
    "place of content": (
        FS, layout.EXTENT_DATA, with_number(21, 8, 1 << 16), "extent tree does not list it",
    ),
}  # fmt: skip


@pytest.mark.parametrize("kind", DAMAGES)
def test_damage_on_purpose_is_found(tmp_path: Path, sound: Path, kind: str) -> None:
    tree, item, change, expected = DAMAGES[kind]
    path = tmp_path / "v"
    run("cp", "--sparse=always", sound, path)
    damage(path, tree, item, change)
    found = " ".join(problem.what for problem in check_volume(FileStore(path)))
    assert expected in found


def test_copies_that_differ_and_a_wrong_total_are_found(tmp_path: Path, sound: Path) -> None:
    path = tmp_path / "v"
    run("cp", "--sparse=always", sound, path)
    damage(path, FS, layout.INODE_ITEM, with_number(112, 8, 1, 258), copies=1)
    assert [problem.what for problem in check_volume(FileStore(path))] == ["its copies differ"]
    run("cp", "--sparse=always", sound, path)
    volume = BtrfsVolume(FileStore(path))
    raw = bytearray(volume.superblock.raw)
    raw[120:128] = (volume.superblock.used_bytes + 4096).to_bytes(8, "little")
    rewrite(path, (layout.SUPERBLOCK_AT,), bytes(raw), volume)
    assert Superblock.SIZE == layout.SUPERBLOCK_BYTES
    found = check_volume(FileStore(path))
    assert ["used bytes, but there are" in problem.what for problem in found] == [True]


def test_content_that_was_changed_beneath_it_is_found(tmp_path: Path, sound: Path) -> None:
    path = tmp_path / "v"
    path.write_bytes(sound.read_bytes().replace(b"3 tides, 3 tides", b"3 tides, 4 tides", 1))
    found = check_volume(FileStore(path))
    assert ["does not match its checksum" in problem.what for problem in found] == [True]
