"""Changing XFS: random edits against a plain model; xfs_repair, the kernel, our checker judge."""

from __future__ import annotations

import os
import random
import stat
from pathlib import Path

import pytest

from tests.edit_model import WAYS, Model, dump
from tests.long import IS_LONG, some_of
from tests.xfs import FileStore, judge_xfs, kernel, make_xfs
from zeroseal.blocks.staged import StagedStore
from zeroseal.errors import NeedsRecoveryError, NoSpaceError, UnsupportedError
from zeroseal.filesystems.tree import Kind
from zeroseal.filesystems.xfs.check import check_volume
from zeroseal.filesystems.xfs.edit import XfsEditor
from zeroseal.filesystems.xfs.read import XfsTree

NOW = 1_900_000_000  # after all that the kernel writes here
V4 = "crc=0"
MATRIX = [
    "",
    "-m rmapbt=1,reflink=1",
    f"-m {V4},finobt=0",
    "-b size=1024",
    "-b size=1024 -n size=8192 -m rmapbt=1",
    "-n size=64k",
    "-i size=2048",
    "-i nrext64=1 -m bigtime=1,inobtcount=1,rmapbt=1",
    "-m finobt=0,reflink=0",
    f"-b size=512 -m {V4}",
    "-s size=4096",
    "-i sparse=0",
    "-b size=65536",
    "-d agcount=4,su=64k,sw=2 -m rmapbt=1",
    f"-n ftype=0 -m {V4}",
    "-b size=2048 -i size=1024 -m rmapbt=1,inobtcount=1",
]


def edit_at_random(volume: Path, seed: int, steps: int, rounds: int = 2) -> None:
    """Edits, and judges after each round."""
    store, chance = FileStore(volume), random.Random(seed)
    tree = dump(XfsTree(store))
    for _round in range(rounds):
        model = Model(XfsEditor(store, NOW), chance, tree, f"{WAYS} rights")
        for _ in range(steps):
            model.step()
        model.editor.finish()
        tree = model.tree
        assert dump(XfsTree(store)) == tree
        assert check_volume(store, "v") == []
        judge_xfs(volume)
    store.close()


@pytest.mark.parametrize("options", MATRIX)
def test_random_edits_leave_a_sound_volume(tmp_path: Path, options: str) -> None:
    seeds = range(int(os.environ.get("ZEROSEAL_XFS_SEEDS", "1")))  # more by hand
    for seed in seeds:
        edit_at_random(make_xfs(tmp_path / "v", *options.split()), seed, 35)


def fill(point: Path) -> None:
    """What the kernel makes: fragmented, large, with attributes of all sizes, and holes."""
    chance = random.Random(3)
    for number in range(1200):
        (point / f"f{number:04}").write_bytes(chance.randbytes(chance.randrange(20_000)))
    for number in range(0, 1200, 2):
        (point / f"f{number:04}").unlink()
    (point / "many").mkdir()
    for number in range(2500):
        (point / "many" / f"entry-number-{number}").touch()
    with (point / "holes").open("wb") as file:
        for number in range(1500):
            file.seek(number * 16384)
            file.write(b"h" * 4096)
    for number in range(200):
        os.setxattr(point / "many", f"user.{number}", b"z" * 100)
    os.setxattr(point / "f0001", "user.large", b"v" * 5000)
    os.setxattr(point / "f0001", "security.selinux", b"system_u:object_r:etc_t:s0")
    (point / "link").symlink_to("y" * 900)
    (point / "short").symlink_to("many")
    os.mkfifo(point / "pipe")
    os.mknod(point / "device", 0o600 | stat.S_IFBLK, os.makedev(8, 1))
    with (point / "ahead").open("wb") as file:
        os.posix_fallocate(file.fileno(), 0, 3 << 20)


KERNEL_MATRIX = ["", "-m rmapbt=1,reflink=1", "-b size=1024 -n size=8192 -m rmapbt=1",
                 "-n size=64k -i nrext64=1 -m bigtime=1,inobtcount=1,rmapbt=1"]  # fmt: skip


@pytest.mark.parametrize(
    "options", some_of({name: name for name in KERNEL_MATRIX}, (KERNEL_MATRIX[0], KERNEL_MATRIX[3]))
)
def test_what_the_kernel_made_is_read_changed_and_given_back_to_it(
    tmp_path: Path, options: str
) -> None:
    volume = make_xfs(tmp_path / "v", *options.split())
    with kernel(volume) as point:
        fill(point)
        for name in ("shared", "again"):
            os.system(f"cp --reflink=auto {point}/holes {point}/{name}")
            os.system(f"cp --reflink=auto {point}/f0003 {point}/{name}-small")
    store = FileStore(volume)
    assert check_volume(store, "v") == []
    with kernel(volume, "ro") as point:
        compare(XfsTree(store), point)
    store.close()
    edit_at_random(volume, 5, 60)
    store = FileStore(volume)
    with kernel(volume) as point:
        compare(XfsTree(store), point)
        for number in range(300):
            (point / f"new-{number}").write_bytes(b"new" * number)
        os.system(f"rm -rf {point}/many {point}/f0*")
    judge_xfs(volume)
    assert check_volume(store, "v") == []


def compare(tree: XfsTree, point: Path) -> None:
    """Our tree holds what the kernel shows."""
    pending = [(tree.root, point)]
    while pending:
        node, folder = pending.pop()
        entries = {os.fsdecode(entry.name): entry for entry in tree.list_folder(node)}
        assert sorted(entries) == sorted(path.name for path in folder.iterdir())
        for name, entry in entries.items():
            path, facts = folder / name, tree.get_facts(entry.node)
            told = path.lstat()
            assert tree.find_child(node, entry.name) == entry
            assert (told.st_ino, stat.S_IMODE(told.st_mode)) == (entry.node, facts.mode)
            assert (told.st_uid, told.st_gid) == (facts.uid, facts.gid)
            assert told.st_nlink == facts.link_count
            assert int(max(told.st_mtime, told.st_ctime)) == facts.changed_at
            if entry.kind is Kind.FILE:
                assert path.read_bytes() == tree.read_file(entry.node)
            elif entry.kind is Kind.LINK:
                assert os.fsencode(path.readlink()) == tree.read_link(entry.node)
            elif entry.kind is Kind.FOLDER:
                pending.append((entry.node, path))
            shown = {
                key.encode(): os.getxattr(path, key, follow_symlinks=False)
                for key in os.listxattr(path, follow_symlinks=False)
            }
            assert shown == tree.read_attributes(entry.node)


def test_a_folder_of_fifty_thousand_names_is_made_and_taken_apart(tmp_path: Path) -> None:
    count = 50_000 if IS_LONG else 12_000
    volume = make_xfs(tmp_path / "v")
    store = FileStore(volume)
    editor = XfsEditor(store, NOW)
    folder = editor.create_folder(editor.root, b"large", 0o755)
    for number in range(count):
        editor.create_file(folder, b"a rather long name of a file %d" % number, b"", 0o644)
    editor.finish()
    judge_xfs(volume)
    tree = XfsTree(store)
    entry = tree.find_child(folder, b"a rather long name of a file 7415")
    assert entry is not None
    assert len(tree.list_folder(folder)) == count
    editor = XfsEditor(store, NOW)
    for number in range(0, count, 2):
        editor.remove(folder, b"a rather long name of a file %d" % number)
    editor.finish()
    judge_xfs(volume)
    assert check_volume(store, "v") == []
    editor = XfsEditor(store, NOW)
    assert editor.remove_tree(editor.root, b"large") == count // 2 + 1
    editor.finish()
    judge_xfs(volume)


@pytest.mark.parametrize("options", ["", "-m rmapbt=1,reflink=1"])
def test_a_volume_without_room_refuses_and_lets_things_go(tmp_path: Path, options: str) -> None:
    volume = make_xfs(tmp_path / "v", *options.split())
    with kernel(volume) as point:
        (point / "keep").write_bytes(b"k" * 300_000)
        for number in range(4000):
            (point / f"small-{number}").write_bytes(b"s" * 5000)
        os.system(f"dd if=/dev/zero of={point}/all bs=64k status=none 2>/dev/null")
        os.system(f"for i in $(seq 900); do echo $i > {point}/last-$i; done 2>/dev/null")
        os.system(f"rm {point}/small-*[02468]")
        os.system(f"dd if=/dev/zero of={point}/more bs=4k status=none 2>/dev/null")
    store = FileStore(volume)
    editor = XfsEditor(StagedStore(store), NOW)
    with pytest.raises(NoSpaceError, match="is full:"):
        editor.create_file(editor.root, b"too-large", bytes(200 << 20), 0o644)
    editor = XfsEditor(store, NOW)
    keep = editor.find_child(editor.root, b"keep")
    assert keep is not None
    editor.replace_content(keep.node, b"n" * 300_000)  # as much as it had
    for number in range(1, 4000, 2):
        editor.remove(editor.root, b"small-%d" % number)
    editor.finish()
    judge_xfs(volume)
    assert check_volume(store, "v") == []
    assert XfsTree(store).read_file(keep.node) == b"n" * 300_000


def test_new_files_get_the_label_of_their_folder(tmp_path: Path) -> None:
    volume, label = make_xfs(tmp_path / "v"), b"system_u:object_r:etc_t:s0"
    with kernel(volume) as point:
        (point / "etc").mkdir()
        os.setxattr(point / "etc", "security.selinux", label)
    store = FileStore(volume)
    editor = XfsEditor(store, NOW)
    etc = editor.find_child(editor.root, b"etc")
    assert etc is not None
    editor.create_file(etc.node, b"file", b"x" * 9000, 0o644)
    editor.create_link(etc.node, b"link", b"t" * 300)
    editor.create_folder(etc.node, b"folder", 0o755)
    editor.finish()
    judge_xfs(volume)
    with kernel(volume, "ro") as point:
        for name in ("file", "link", "folder"):
            path = point / "etc" / name
            assert os.getxattr(path, "security.selinux", follow_symlinks=False) == label


def test_a_shared_block_is_copied_before_its_end_is_cut(tmp_path: Path) -> None:
    volume = make_xfs(tmp_path / "v", "-m", "reflink=1,rmapbt=1")
    with kernel(volume) as point:
        (point / "one").write_bytes(b"o" * 100_000)
        os.system(f"cp --reflink=always {point}/one {point}/two")
    store = FileStore(volume)
    editor = XfsEditor(store, NOW)
    one = editor.find_child(editor.root, b"one")
    assert one is not None
    with pytest.raises(UnsupportedError, match="shares blocks with other files"):
        editor.zero_content(one.node, 0)
    editor.truncate(one.node, 50_001)
    editor.finish()
    judge_xfs(volume)
    tree = dump(XfsTree(store))
    assert tree == {(b"one",): b"o" * 50_001, (b"two",): b"o" * 100_000}


def test_a_log_that_is_not_empty_is_refused_with_the_way_out(tmp_path: Path) -> None:
    volume = make_xfs(tmp_path / "v")
    with kernel(volume) as point:
        (point / "a").write_bytes(b"a" * 10_000)
        os.sync()
        (point / "b").write_bytes(b"b")
        copy = tmp_path / "copy"
        os.system(f"xfs_io -c 'syncfs' {point}; cp --sparse=always {volume} {copy}")
    with pytest.raises(NeedsRecoveryError, match="mount the volume once and unmount it"):
        XfsTree(FileStore(copy))
    assert (b"b",) in dump(XfsTree(FileStore(volume)))


@pytest.mark.parametrize(
    ("options", "told"),
    [
        ("-r rtdev=RT", "a realtime section"),
        ("-l logdev=RT,size=64m", "its log on another device"),
        (f"-m {V4} -n version=ci", "the feature ascii-ci"),
    ],
)
def test_what_is_not_supported_is_refused_by_name(tmp_path: Path, options: str, told: str) -> None:
    other = tmp_path / "other"
    other.write_bytes(bytes(100 << 20))
    words = options.replace("RT", str(other)).split()
    volume = make_xfs(tmp_path / "v", *words)
    with pytest.raises(UnsupportedError, match=told):
        XfsTree(FileStore(volume))
