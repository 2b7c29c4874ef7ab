"""Reading btrfs: as the kernel shows it, over kinds of volumes, compression and snapshots."""

from __future__ import annotations

import os
import random
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.long import only_long
from tests.oracles import need, run
from tests.xfs import FileStore
from zeroseal.errors import DamagedError, ImageError, RefusedError, UnsupportedError
from zeroseal.filesystems.btrfs.checksums import xxh64
from zeroseal.filesystems.btrfs.read import BtrfsTree
from zeroseal.filesystems.tree import Kind

MIB = 1 << 20
KINDS = {
    "crc32c": (),
    "xxhash": ("--checksum", "xxhash"),
    "sha256, nodes of 4 KiB": ("--checksum", "sha256", "-n", "4k"),
    "blake2b, nodes of 64 KiB": ("--checksum", "blake2b", "-n", "64k"),
    "mixed groups": ("--mixed",),
    "single, holes, v1 cache": ("-m", "single", "-O", "^no-holes", "-R", "^free-space-tree"),
    "extended refs, quota": ("-O", "extref", "-R", "quota"),
}
PACKINGS = ("none", "zlib", "lzo", "zstd")
COMBINED = [
    pytest.param(kind, packing, marks=() if few or packing == "none" else only_long)
    for kind in KINDS
    for packing in PACKINGS
    for few in (kind in ("sha256, nodes of 4 KiB", "single, holes, v1 cache"),)
]


@contextmanager
def mounted(volume: Path, *options: str) -> Iterator[Path]:
    """The kernel's own mount of a volume."""
    need("mkfs.btrfs", "mount")
    if os.geteuid() != 0:
        pytest.skip("needs root to mount")
    point = volume.with_name(volume.name + ".mnt")
    point.mkdir(exist_ok=True)
    run("mount", "-o", ",".join(["loop", *options]), volume, point)
    try:
        yield point
    finally:
        run("umount", point)


def make(path: Path, *options: str, megabytes: int = 300) -> Path:
    """An empty volume."""
    need("mkfs.btrfs")
    with path.open("wb") as file:
        file.truncate(megabytes * MIB)
    run("mkfs.btrfs", "-q", "-f", *options, path)
    return path


def plant(point: Path, dice: random.Random) -> None:
    """Files, folders, links and attributes of many kinds."""
    for number in range(60):
        folder = point / f"folder {number % 7}"
        folder.mkdir(exist_ok=True)
        size = dice.choice([0, 1, 100, 2000, 5000, 140_000, 600_000])
        words = dice.choice([b"tide ", b"ferry and pier ", dice.randbytes(64)])
        content = (words * (size // len(words) + 1))[:size]
        (folder / f"file {number}").write_bytes(content)
    sparse = point / "sparse"
    with sparse.open("wb") as file:
        file.seek(3 * MIB)
        file.write(b"end of it" * 900)
        os.posix_fallocate(file.fileno(), MIB, 65536)
        file.seek(MIB + 8192)
        file.write(b"written in the middle" * 300)
    run("cp", "--reflink=always", point / "sparse", point / "copy")
    (point / "link").symlink_to("folder 1/file 1")
    os.link(point / "sparse", point / "folder 2/hard")
    os.mkfifo(point / "pipe")
    os.setxattr(point / "copy", "user.pier", b"seven" * 20)
    os.setxattr(point / "folder 3", "user.tide", b"")
    many = point / "many"
    many.mkdir()
    for number in range(1500):
        (many / f"entry {number:05d}").touch()
    (many / "entry 00007").unlink()
    os.chown(point / "copy", 1000, 2000)
    (point / "copy").chmod(0o4751)


def seen(point: Path, top: Path) -> dict[str, tuple[object, ...]]:
    """All that the kernel shows below a folder."""
    found: dict[str, tuple[object, ...]] = {}
    for path in sorted(point.rglob("*")):
        facts = path.lstat()
        content: object = None
        if path.is_symlink():
            content = os.fsencode(path.readlink())
        elif path.is_file():
            content = path.read_bytes()
        marks = {
            os.fsencode(name): os.getxattr(path, name, follow_symlinks=False)
            for name in os.listxattr(path, follow_symlinks=False)
        }
        links = 0 if not path.is_symlink() and path.is_dir() else facts.st_nlink
        found[str(path.relative_to(top))] = (
            facts.st_mode & 0o7777, facts.st_uid, facts.st_gid, content, marks, links,
        )  # fmt: skip
    return found


def read(tree: BtrfsTree, folder: int, path: str = "") -> dict[str, tuple[object, ...]]:
    """The same, as we read it; each name is found by its hash too."""
    found: dict[str, tuple[object, ...]] = {}
    for entry in tree.list_folder(folder):
        assert tree.find_child(folder, entry.name) == entry
        name = f"{path}{os.fsdecode(entry.name)}"
        facts = tree.get_facts(entry.node)
        assert facts.kind is entry.kind
        content: object = None
        if entry.kind is Kind.FILE:
            content = tree.read_file(entry.node)
            assert tree.read_file(entry.node, 700) == content[:700]
        elif entry.kind is Kind.LINK:
            content = tree.read_link(entry.node)
        links = 0 if entry.kind is Kind.FOLDER else facts.link_count
        marks = tree.read_attributes(entry.node)
        found[name] = (facts.mode, facts.uid, facts.gid, content, marks, links)
        if entry.kind is Kind.FOLDER:
            found |= read(tree, entry.node, f"{name}/")
    return found


@pytest.mark.parametrize(("kind", "packing"), COMBINED)
def test_a_volume_is_read_as_the_kernel_shows_it(tmp_path: Path, kind: str, packing: str) -> None:
    volume = make(tmp_path / "v", *KINDS[kind])
    options = () if packing == "none" else (f"compress-force={packing}",)
    with mounted(volume, *options) as point:
        plant(point, random.Random(f"{kind} {packing}"))
        run("sync", "-f", point)
        expected = seen(point, point)
    tree = BtrfsTree(FileStore(volume))
    assert read(tree, tree.root) == expected
    run("btrfs", "check", "--readonly", volume)


def test_subvolumes_and_snapshots_are_seen_with_their_paths(tmp_path: Path) -> None:
    volume = make(tmp_path / "v")
    with mounted(volume) as point:
        run("btrfs", "subvolume", "create", point / "@")
        run("btrfs", "subvolume", "create", point / "@home")
        (point / "@/etc").mkdir()
        (point / "@/etc/hostname").write_text("gangway\n")
        run("btrfs", "subvolume", "create", point / "@/.snapshots")
        (point / "@/.snapshots/1").mkdir()
        shot = point / "@/.snapshots/1/snapshot"
        run("btrfs", "subvolume", "snapshot", "-r", point / "@", shot)
        (point / "@/etc/hostname").write_text("renamed\n")
        (point / "@/var").mkdir()
        run("btrfs", "subvolume", "create", point / "@/var/lib")
        run("btrfs", "subvolume", "create", point / "gone")
        run("btrfs", "subvolume", "delete", point / "gone")
        run("btrfs", "subvolume", "set-default", point / "@")
        expected = seen(point / "@", point / "@")
    tree = BtrfsTree(FileStore(volume))
    assert read(tree, tree.root) == expected
    found = {item.path: item for item in tree.subvolumes()}
    assert set(found) == {
        "", "@", "@home", "@/.snapshots", "@/.snapshots/1/snapshot", "@/var/lib",
    }  # fmt: skip
    assert [path for path, item in found.items() if item.is_read_only] == [
        "@/.snapshots/1/snapshot"
    ]
    assert tree.default_subvolume() == found["@"].number
    old = BtrfsTree(FileStore(volume), subvolume=found["@/.snapshots/1/snapshot"].number)
    etc = old.find_child(old.root, b"etc")
    assert etc is not None
    name = old.find_child(etc.node, b"hostname")
    assert name is not None
    assert old.read_file(name.node) == b"gangway\n"


def test_content_lies_where_it_is_said_to_lie(tmp_path: Path) -> None:
    volume = make(tmp_path / "v")
    with mounted(volume) as point:
        (point / "chart").write_bytes(b"soundings of the bar" * 9000)
    tree = BtrfsTree(FileStore(volume))
    entry = tree.find_child(tree.root, b"chart")
    assert entry is not None
    raw = volume.read_bytes()
    parts = [raw[offset : offset + length] for offset, length in tree.iter_content(entry.node, 7)]
    assert b"".join(parts) == tree.read_file(entry.node)[7:]


def test_a_damaged_copy_is_read_from_the_other_and_data_is_not_trusted(tmp_path: Path) -> None:
    volume = make(tmp_path / "v", "-m", "dup")
    with mounted(volume) as point:
        (point / "chart").write_bytes(b"soundings of the bar" * 9000)
    tree = BtrfsTree(FileStore(volume))
    size = tree.volume.superblock.node_bytes
    first, second = tree.volume.places_of(tree.volume.roots.address, size)
    with volume.open("r+b") as file:
        file.seek(first + 200)
        file.write(b"\xff" * 8)
    again = BtrfsTree(FileStore(volume))
    entry = again.find_child(again.root, b"chart")
    assert entry is not None
    offset, _length = next(again.iter_content(entry.node, 0))
    with volume.open("r+b") as file:
        file.seek(offset + 5000)
        file.write(b"\xff")
    with pytest.raises(DamagedError, match="content fails its checksum"):
        BtrfsTree(FileStore(volume)).read_file(entry.node)
    with volume.open("r+b") as file:
        file.seek(second + 200)
        file.write(b"\xff" * 8)
    with pytest.raises(DamagedError, match="fails its checksum"):
        BtrfsTree(FileStore(volume))


def test_what_is_not_read_is_refused_by_name(tmp_path: Path) -> None:
    parts = [make(tmp_path / f"{number}") for number in range(2)]
    need("losetup")
    loops = [run("losetup", "-f", "--show", part).strip() for part in parts]
    try:
        run("mkfs.btrfs", "-q", "-f", "-d", "raid0", "-m", "raid1", *loops)
    finally:
        for loop in loops:
            run("losetup", "-d", loop)
    with pytest.raises(UnsupportedError, match="2 devices"):
        BtrfsTree(FileStore(parts[0]))
    seed = make(tmp_path / "seed")
    run("btrfstune", "-S", "1", "-f", seed)
    with pytest.raises(UnsupportedError, match="a seed device"):
        BtrfsTree(FileStore(seed))
    small = tmp_path / "small"
    small.write_bytes(bytes(70_000))
    with pytest.raises(DamagedError, match="no superblock"):
        BtrfsTree(FileStore(small))


@pytest.mark.parametrize("seed", range(3))
def test_mutated_volumes_raise_our_errors_only(tmp_path: Path, seed: int) -> None:
    volume = make(tmp_path / "v", "-m", "single", "--mixed", megabytes=64)
    with mounted(volume, "compress-force=lzo") as point:
        for number in range(40):
            (point / f"file {number}").write_bytes(b"%d tides " % number * 600)
    dice, whole = random.Random(seed), bytearray(volume.read_bytes())
    used = [at for at in range(0, len(whole), 4096) if any(whole[at : at + 4096])]
    opened = 0
    for _round in range(25):
        mutant = bytearray(whole)
        for _change in range(dice.randint(1, 3)):
            at = dice.choice(used) + dice.randrange(4096)
            mutant[at] ^= 1 << dice.randrange(8)
        volume.write_bytes(mutant)
        try:
            tree = BtrfsTree(FileStore(volume))
            opened += 1
            read(tree, tree.root)
        except (ImageError, RefusedError):
            continue
    assert opened > 2


@given(st.binary(max_size=300))
def test_xxh64_is_that_of_its_maker(data: bytes) -> None:
    known = {b"": 0xEF46DB3751D8E999, b"abc": 0x44BC2CF5AD770999}
    for content, expected in known.items():
        assert xxh64(content) == expected
    assert 0 <= xxh64(data) < 1 << 64


def test_damaged_packings_are_refused() -> None:
    from zeroseal.filesystems.btrfs import layout
    from zeroseal.filesystems.btrfs.compression import unpack

    dice = random.Random(5)
    for packing in (layout.ZLIB, layout.LZO, layout.ZSTD, 9):
        for size in (0, 3, 40, 4000):
            stored = dice.randbytes(size)
            try:
                assert len(unpack(packing, stored, 4096, 4096)) == 4096
            except ValueError as error:
                assert str(error)
