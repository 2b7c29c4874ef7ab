"""Changing btrfs: random edits against a plain model; btrfs check, the kernel and ours judge."""

from __future__ import annotations

import os
import random
import subprocess
from contextlib import suppress
from pathlib import Path
from typing import Any

import pytest

from tests.edit_model import WAYS, Model, Tree, dump
from tests.filesystems.test_btrfs_read import KINDS, MIB, make, mounted, plant, read, seen
from tests.long import IS_LONG, only_long
from tests.oracles import run
from tests.xfs import FileStore
from zeroseal.blocks.search import Needle, Searcher
from zeroseal.blocks.staged import StagedStore
from zeroseal.errors import (
    NeedsRecoveryError,
    NoSpaceError,
    RefusedError,
    UnsupportedError,
    ZeroSealError,
)
from zeroseal.filesystems.btrfs import layout
from zeroseal.filesystems.btrfs.check import check_volume
from zeroseal.filesystems.btrfs.driver import BtrfsDriver
from zeroseal.filesystems.btrfs.edit import BtrfsEditor
from zeroseal.filesystems.btrfs.hidden import search_hidden
from zeroseal.filesystems.btrfs.inventory import BtrfsInventory
from zeroseal.filesystems.btrfs.layout import SUPERBLOCK_AT, Key, Superblock
from zeroseal.filesystems.btrfs.node_build import with_checksum
from zeroseal.filesystems.btrfs.owners import find_owned
from zeroseal.filesystems.btrfs.quota_edit import count_quotas
from zeroseal.filesystems.btrfs.read import BtrfsTree
from zeroseal.filesystems.btrfs.recover import recover_volume
from zeroseal.filesystems.btrfs.space import iter_group_items
from zeroseal.filesystems.btrfs.usage import read_usage
from zeroseal.filesystems.btrfs.volume import BtrfsVolume
from zeroseal.filesystems.inventory import Part
from zeroseal.filesystems.tree import EditableTree

NOW = 1_900_000_000  # after all that the kernel writes here
MORE_KINDS = KINDS | {
    "nodes of 4 KiB, no skinny metadata": ("-n", "4k", "-O", "^skinny-metadata"),
    "two copies of all": ("-m", "dup", "-d", "dup"),
    "bitmaps of free space": ("-n", "4k", "--mixed"),
}
FEW_KINDS = (
    "crc32c", "single, holes, v1 cache", "extended refs, quota", "bitmaps of free space",
    "nodes of 4 KiB, no skinny metadata",
)  # fmt: skip
MOUNTS = (
    "compress-force=zlib",
    "compress=lzo",
    "compress-force=zstd",
    "nodatacow",
    "nodatasum",
    "",
)
SEEDS = range(int(os.environ.get("ZEROSEAL_BTRFS_SEEDS", "1")))  # more by hand


class At:
    """An editor whose root is another subvolume."""

    def __init__(self, editor: BtrfsEditor, root: int) -> None:
        self._editor, self.root = editor, root

    def __getattr__(self, name: str) -> Any:
        return getattr(self._editor, name)


def judge(volume: Path) -> None:
    """The reference checker, with data checksums, and our own."""
    told = run("btrfs", "check", "--readonly", "--check-data-csum", volume)
    assert "mismatch" not in told
    assert "ERROR" not in told
    store = FileStore(volume)
    assert check_volume(store, "v") == []
    store.close()


def clean(store: FileStore) -> None:
    """Zeroes what nothing uses: mkfs leaves trees that it wrote at first."""
    inventory = BtrfsInventory(BtrfsTree(store))
    for patch in (*inventory.patches(Part.FREE_SPACE), *inventory.patches(Part.SLACK)):
        patch.apply(store)


def churn(point: Path, dice: random.Random, count: int) -> None:
    """Changes some files as programs do: the volume gets holes, extents in parts, shared ones."""
    files = sorted(path for path in point.rglob("*") if not path.is_symlink() and path.is_file())
    for path in dice.sample(files, min(count, len(files))):
        match dice.choice("dao"):
            case "d":
                path.unlink()
            case "a":
                with path.open("ab") as file:
                    file.write(dice.randbytes(dice.choice([10, 5000, 200_000])))
            case _:
                with path.open("r+b") as file:
                    file.seek(dice.randrange(100_000))
                    file.write(dice.randbytes(dice.choice([10, 5000, 70_000])))


def test_random_edits_leave_a_sound_volume(tmp_path: Path) -> None:
    for seed in SEEDS:
        for kind, options in MORE_KINDS.items():
            volume = make(tmp_path / "v", *options, megabytes=260)
            store, dice = FileStore(volume), random.Random(f"{kind} {seed}")
            tree: Tree = {}
            clean(store)
            for _round in range(2):
                model = Model(BtrfsEditor(store, NOW), dice, tree, f"{WAYS} rights")
                for _ in range(35):
                    model.step()
                model.editor.finish()
                tree = model.tree
                assert dump(BtrfsTree(store)) == tree, (kind, seed)
                judge(volume)
            inventory = BtrfsInventory(BtrfsTree(store))
            assert [inventory.stale_bytes(part) for part in Part] == [0, 0, 0, 0]
            store.close()


def test_the_first_node_that_is_taken_may_be_one_of_the_extent_tree(tmp_path: Path) -> None:
    """What is free is read from that tree, which is not whole while one of its nodes is split."""
    volume = make(tmp_path / "v", *MORE_KINDS["nodes of 4 KiB, no skinny metadata"], megabytes=260)
    store = FileStore(volume)
    splits = 0
    for number in range(60):
        before = BtrfsTree(store).volume.tree(layout.EXTENT_TREE)
        editor = BtrfsEditor(store, NOW)
        editor.create_file(editor.root, b"%d" % number, bytes([number]) * 9000, 0o600)
        editor.finish()
        volume_now = BtrfsTree(store).volume
        splits += volume_now.tree(layout.EXTENT_TREE) != before
        assert check_volume(store, "v") == [], number
    assert splits
    store.close()
    judge(volume)


@pytest.mark.parametrize(
    "kind",
    [pytest.param(kind, marks=() if kind in FEW_KINDS else only_long) for kind in MORE_KINDS],
)
def test_what_the_kernel_made_with_snapshots_is_changed_and_given_back_to_it(
    tmp_path: Path, kind: str
) -> None:
    for seed in SEEDS:
        _with_snapshots(tmp_path / "v", kind, random.Random(f"{kind} {seed}"))


def _with_snapshots(volume: Path, kind: str, dice: random.Random) -> None:
    make(volume, *MORE_KINDS[kind], megabytes=400)
    options = dice.choice(MOUNTS)
    with mounted(volume, *filter(None, [options])) as point:
        run("btrfs", "subvolume", "create", point / "@")
        plant(point / "@", dice)
        for number in range(3):
            run("btrfs", "subvolume", "snapshot", point / "@", point / f"old{number}")
            churn(point / "@", dice, 25)
            churn(point / f"old{number}", dice, 5)
            run("sync", "-f", point)
    judge(volume)
    _edit_all(volume, dice, drops=False)
    _edit_all(volume, dice, drops=True)
    run("dmesg", "--clear")
    with mounted(volume, *filter(None, [options])) as point:
        store = FileStore(volume)
        tree = BtrfsTree(store)
        assert read(tree, tree.root) == seen(point, point)
        store.close()
        churn(point / "@", dice, 20)
        run("btrfs", "subvolume", "snapshot", point / "@", point / "again")
        churn(point / "@", dice, 10)
        run("btrfs", "balance", "start", "--full-balance", point)
        assert "no errors found" in run("btrfs", "scrub", "start", "-B", point)
    judge(volume)
    told = [
        line
        for line in run("dmesg").splitlines()
        if volume_words(line)
        and not any(word in line for word in ("qgroup", "space cache v1"))  # of its own make
    ]
    assert told == []


def volume_words(line: str) -> bool:
    """Whether the kernel complains of btrfs."""
    words = ("btrfs error", "btrfs warning", "btrfs critical", "fs/btrfs")
    return any(word in line.lower() for word in words)


def _edit_all(volume: Path, dice: random.Random, drops: bool) -> None:
    """Edits a subvolume and its snapshots in one go; drops one of those."""
    store = FileStore(volume)
    tree = BtrfsTree(store)
    subvolumes = {one.path: one for one in tree.subvolumes() if one.path}
    editor = BtrfsEditor(store, NOW)
    models = {
        path: Model(
            At(editor, one.node),
            dice,
            dump(tree, one.node),
            f"{WAYS} rights",
        )
        for path, one in subvolumes.items()
    }
    for _ in range(60):
        models[dice.choice(sorted(models))].step()
    gone = dice.choice([path for path in sorted(models) if path != "@"]) if drops else ""
    if gone:
        editor.remove_subvolume(subvolumes[gone].number)
    editor.finish()
    tree = BtrfsTree(store)
    assert {one.path for one in tree.subvolumes() if one.path} == {*models} - {gone}
    for path, model in models.items():
        if path != gone:
            assert dump(tree, subvolumes[path].node) == model.tree
    store.close()
    judge(volume)


def test_subvolumes_that_were_received_are_changed_like_others(tmp_path: Path) -> None:
    """``btrfs receive`` clones extents of the parent and notes its UUID."""
    volume, dice = tmp_path / "v", random.Random("received")
    make(volume, *MORE_KINDS["crc32c"], megabytes=300)
    with mounted(volume) as point:
        run("btrfs", "subvolume", "create", point / "@")
        plant(point / "@", dice)
        run("btrfs", "subvolume", "snapshot", "-r", point / "@", point / "one")
        churn(point / "@", dice, 15)
        run("btrfs", "subvolume", "snapshot", "-r", point / "@", point / "two")
        (point / "in").mkdir()
        run("btrfs", "send", "-f", tmp_path / "full", point / "one")
        run("btrfs", "send", "-p", point / "one", "-f", tmp_path / "step", point / "two")
        for stream in ("full", "step"):
            run("btrfs", "receive", "-f", tmp_path / stream, point / "in")
        run("btrfs", "property", "set", "-f", point / "in" / "two", "ro", "false")
    judge(volume)
    _edit_all(volume, dice, drops=False)
    _edit_all(volume, dice, drops=True)
    with mounted(volume) as point:
        assert "no errors found" in run("btrfs", "scrub", "start", "-B", point)


def test_a_folder_of_fifty_thousand_names_is_made_and_taken_apart(tmp_path: Path) -> None:
    count = 50_000 if IS_LONG else 3_000
    volume = make(tmp_path / "v", megabytes=4000 if IS_LONG else 300)  # with room for nodes
    store = FileStore(volume)
    editor = BtrfsEditor(store, NOW)
    folder = editor.create_folder(editor.root, b"large", 0o755)
    for number in range(count):
        editor.create_file(folder, b"a rather long name of a file %d" % number, b"", 0o644)
    editor.finish()
    judge(volume)
    editor = BtrfsEditor(store, NOW)
    assert len(editor.list_folder(folder)) == count
    for number in range(0, count, 2):
        editor.remove(folder, b"a rather long name of a file %d" % number)
    editor.finish()
    judge(volume)
    assert BtrfsEditor(store, NOW).find_child(folder, b"a rather long name of a file 4") is None
    editor = BtrfsEditor(store, NOW)
    assert editor.remove_tree(editor.root, b"large") == count // 2 + 1
    editor.finish()
    judge(volume)


def test_a_file_has_more_names_in_a_folder_than_one_item_holds(tmp_path: Path) -> None:
    volume = make(tmp_path / "v", "-n", "4k")
    store = FileStore(volume)
    editor = BtrfsEditor(store, NOW)
    node = editor.create_file(editor.root, b"first", b"one file", 0o644)
    for number in range(120):
        editor.add_name(editor.root, b"name %d of many that lead to one file" % number, node)
    editor.finish()
    judge(volume)
    editor = BtrfsEditor(store, NOW)
    for number in range(0, 120, 3):
        editor.remove(editor.root, b"name %d of many that lead to one file" % number)
    editor.finish()
    judge(volume)
    assert editor.get_facts(node).link_count == 81
    store.close()


def test_a_volume_without_room_refuses_and_lets_things_go(tmp_path: Path) -> None:
    volume = make(tmp_path / "v", "--mixed", megabytes=64)
    with mounted(volume) as point:
        (point / "keep").write_bytes(b"k" * 300_000)
        for number in range(1500):
            (point / f"small-{number}").write_bytes(b"s" * 5000)
        os.system(f"dd if=/dev/zero of={point}/all bs=64k status=none 2>/dev/null")
        run("sync", "-f", point)
    store = FileStore(volume)
    editor: EditableTree = BtrfsEditor(StagedStore(store), NOW)
    with pytest.raises(NoSpaceError, match="is full:"):
        editor.create_file(editor.root, b"too-large", bytes(80 * MIB), 0o644)
    editor = BtrfsEditor(store, NOW)
    keep = editor.find_child(editor.root, b"keep")
    assert keep is not None
    editor.replace_content(keep.node, b"n" * 300_000)  # as much as it had
    for number in range(1, 1500, 2):
        if editor.find_child(editor.root, b"small-%d" % number):
            editor.remove(editor.root, b"small-%d" % number)
    editor.finish()
    judge(volume)


def test_content_is_zeroed_where_it_lies(tmp_path: Path) -> None:
    volume = make(tmp_path / "v")
    with mounted(volume) as point:
        (point / "swap").touch()
        run("chattr", "+C", point / "swap")
        (point / "swap").write_bytes(b"in memory once " * 20_000)
        (point / "plain").write_bytes(b"p" * 100_000)
        (point / "packed").touch()
        run("btrfs", "property", "set", point / "packed", "compression", "zstd")
        (point / "packed").write_bytes(b"tide table " * 20_000)
    store = FileStore(volume)
    editor = BtrfsEditor(store, NOW)
    for name, start in ((b"swap", 4096), (b"plain", 777), (b"packed", 10)):
        entry = editor.find_child(editor.root, name)
        assert entry is not None
        content = editor.read_file(entry.node)
        places = list(editor.iter_content(entry.node, 0))
        editor.zero_content(entry.node, start)
        editor.finish()
        assert editor.read_file(entry.node) == content[:start].ljust(len(content), b"\0")
        if name != b"packed":
            assert list(editor.iter_content(entry.node, 0)) == places
    judge(volume)
    assert volume.read_bytes().count(b"in memory once ") <= 4096 // 15 + 1
    store.close()


def test_a_snapshot_that_is_dropped_is_zeroed_but_for_what_others_share(tmp_path: Path) -> None:
    volume = make(tmp_path / "v", "-R", "quota")
    with mounted(volume) as point:
        run("btrfs", "subvolume", "create", point / "@")
        (point / "@/shared").write_bytes(b"stays in both " * 9000)
        (point / "@/old").write_bytes(b"Kittiwake-old. " * 9000)
        (point / "@/part").write_bytes(b"Kittiwake-part " * 9000)
        run("btrfs", "subvolume", "snapshot", "-r", point / "@", point / "old")
        (point / "@/old").unlink()
        with (point / "@/part").open("r+b") as file:
            file.write(b"written over it" * 8000)
    store = FileStore(volume)
    expected = {path: value for path, value in dump(BtrfsTree(store)).items() if path[0] != b"old"}
    number = {one.path: one.number for one in BtrfsTree(store).subvolumes()}["old"]
    editor = BtrfsEditor(store, NOW)
    editor.remove_subvolume(number)
    editor.finish()
    assert dump(BtrfsTree(store)) == expected
    store.close()
    judge(volume)
    assert volume.read_bytes().count(b"Kittiwake-old") == 0
    shown = expected[b"@", b"part"]
    assert isinstance(shown, bytes)
    assert volume.read_bytes().count(b"Kittiwake-part") == shown.count(b"Kittiwake-part") > 0


def test_what_the_kernel_had_not_finished_removing_is_given_back(tmp_path: Path) -> None:
    volume = make(tmp_path / "v", "-n", "4k")
    with mounted(volume) as point:
        run("btrfs", "subvolume", "create", point / "gone")
        for number in range(4000):
            (point / "gone" / f"file {number}").write_bytes(b"Kittiwake %d " % number * 20)
        run("sync", "-f", point)
        with (point / "held").open("wb") as file:
            file.write(b"Kittiwake held open" * 4000)
            file.flush()
            os.fsync(file.fileno())
            (point / "held").unlink()
            run("btrfs", "subvolume", "delete", "-c", point / "gone")
            copy = volume.with_name("copy")
            copy.write_bytes(volume.read_bytes())  # as a machine that lost its power
    store = FileStore(copy)
    with pytest.raises(NeedsRecoveryError, match="whose space the kernel has not freed yet"):
        BtrfsDriver().check_editable(BtrfsTree(store, "v"))
    found = recover_volume(store, "v")
    assert found is not None
    assert found.orphans == 2
    assert recover_volume(store, "v") is None
    store.close()
    judge(copy)
    with mounted(copy) as point:
        assert list(point.iterdir()) == []


def test_quota_groups_are_counted_as_the_kernel_counts_them(tmp_path: Path) -> None:
    volume = make(tmp_path / "v")
    with mounted(volume) as point:
        run("btrfs", "quota", "enable", point)
        run("btrfs", "subvolume", "create", point / "@")
        run("btrfs", "qgroup", "create", "1/7", point)
        plant(point / "@", random.Random(3))
        run("btrfs", "subvolume", "snapshot", "-i", "1/7", point / "@", point / "old")
        churn(point / "@", random.Random(4), 30)
        run("btrfs", "quota", "rescan", "-w", point)
        run("sync", "-f", point)
    run("btrfs", "check", "--readonly", volume)
    store = FileStore(volume)
    opened = BtrfsVolume(store)
    told = {
        key.offset: (int.from_bytes(data[8:16], "little"), int.from_bytes(data[24:32], "little"))
        for key, data in opened.all_items(opened.tree(8))
        if key.kind == 242
    }
    counted = count_quotas(opened)
    assert len(told) == 4
    assert {group: counted.get(group, (0, 0)) for group in told} == told
    editor = BtrfsEditor(store, NOW)
    editor.create_file(editor.root, b"more", b"m" * 90_000, 0o644)
    editor.finish()
    store.close()
    judge(volume)


def test_a_hidden_subvolume_does_not_go_with_its_folder(tmp_path: Path) -> None:
    volume = make(tmp_path / "v")
    with mounted(volume) as point:
        (point / "folder").mkdir()
        run("btrfs", "subvolume", "create", point / "folder/mounted")
        (point / "folder/mounted/file").touch()
    store = FileStore(volume)
    number = next(one.number for one in BtrfsTree(store).subvolumes() if one.path)
    editor = BtrfsEditor(StagedStore(store), NOW)
    view = editor.at(editor.root, frozenset({number}))
    with pytest.raises(RefusedError, match="is a subvolume that is mounted elsewhere"):
        view.remove_tree(view.root, b"folder")
    editor = BtrfsEditor(store, NOW)
    assert editor.remove_tree(editor.root, b"folder") == 3
    editor.finish()
    judge(volume)


def test_features_that_are_not_kept_are_refused_by_name(tmp_path: Path) -> None:
    volume = make(tmp_path / "v")
    raw = bytearray(volume.read_bytes())
    top = Superblock.parse(bytes(raw[SUPERBLOCK_AT : SUPERBLOCK_AT + Superblock.SIZE]))
    top.compat_ro |= 1 << 40
    store = FileStore(volume)
    made = with_checksum(BtrfsVolume(store), top.build())
    store.write(SUPERBLOCK_AT, made)
    with pytest.raises(UnsupportedError, match="features 0x10000000000, with which it can be read"):
        BtrfsVolume(store).check_editable()
    store.close()


def test_nothing_is_written_where_nothing_changed(tmp_path: Path) -> None:
    volume = make(tmp_path / "v")
    before = volume.read_bytes()
    store = FileStore(volume)
    BtrfsEditor(store, NOW).finish()
    store.close()
    assert volume.read_bytes() == before
    assert (
        subprocess.run(["btrfs", "check", str(volume)], capture_output=True, check=False).returncode
        == 0
    )


@pytest.mark.parametrize("seed", range(60 if IS_LONG else 2))
def test_mutants_whose_checksums_hold_raise_our_errors_only(crowded: Path, seed: int) -> None:
    base, dice = FileStore(crowded), random.Random(seed)
    volume = BtrfsVolume(base)
    nodes, size = list(read_usage(volume).nodes), volume.superblock.node_bytes
    store = StagedStore(base)
    for _ in range(dice.randint(1, 3)):
        places = volume.places_of(dice.choice(nodes), size)
        raw = bytearray(store.read(places[0], size))
        count = int.from_bytes(raw[96:100], "little")
        used = [at for at in range(101 + count * 25, size) if raw[at]]
        at = (
            dice.choice(used)
            if used and dice.random() < 0.5
            else dice.randrange(48, 101 + count * 25)
        )
        raw[at] = dice.choice([0, 255, raw[at] ^ 1 << dice.randrange(8)])
        for place in places:
            store.write(place, with_checksum(volume, raw))
    for work in (_look_at_all, _edit_some):
        with suppress(ZeroSealError):
            work(store, dice)
    store.close()


@pytest.fixture(scope="module")
def crowded(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A volume with a bit of all, and snapshots."""
    volume = make(tmp_path_factory.mktemp("crowded") / "v", "-n", "4k")
    with mounted(volume, "compress=lzo") as point:
        run("btrfs", "subvolume", "create", point / "@")
        plant(point / "@", random.Random(1))
        run("btrfs", "subvolume", "snapshot", point / "@", point / "old")
        churn(point / "@", random.Random(2), 30)
    return volume


def _look_at_all(store: StagedStore, dice: random.Random) -> None:
    check_volume(store, "v")
    inventory = BtrfsInventory(BtrfsTree(store))
    for part in Part:
        inventory.patches(part)
    inventory.owner_of(dice.randrange(store.size_bytes))
    find_owned(BtrfsTree(store), [1000])
    search_hidden(BtrfsTree(store), Searcher([Needle(0, b"ferry and pier")]))
    recover_volume(store, "v")


def _edit_some(store: StagedStore, dice: random.Random) -> None:
    editor = BtrfsEditor(store, NOW)
    for one in editor.subvolumes():
        entries = editor.list_folder(one.node)
        for entry in dice.sample(entries, min(3, len(entries))):
            with suppress(ZeroSealError):
                dice.choice([editor.truncate, editor.zero_content])(entry.node, 5000)
            with suppress(ZeroSealError):
                editor.remove_tree(one.node, entry.name)
        editor.create_file(one.node, b"new", dice.randbytes(9000), 0o644)
        if one.path == "old":
            editor.remove_subvolume(one.number)
    editor.finish()


def _move_groups_to_a_tree_of_their_own(store: FileStore) -> None:
    """What ``btrfstune --convert-to-block-group-tree`` does, which is not here."""
    editor = BtrfsEditor(store, NOW)
    trees, opened = editor._trees, editor.volume
    groups = list(iter_group_items(opened))
    like = opened.read_node(trees.root(layout.CHECKSUM_TREE).address)
    address = trees._new_node(layout.BLOCK_GROUP_TREE, like, level=0)
    _key, data = next(opened.items_of(opened.roots, layout.CHECKSUM_TREE, layout.ROOT_ITEM))
    trees.put(layout.ROOT_TREE, Key(layout.BLOCK_GROUP_TREE, layout.ROOT_ITEM, 0), data)
    trees.set_root(layout.BLOCK_GROUP_TREE, address, 0)
    trees.change_root_item(layout.BLOCK_GROUP_TREE, used_bytes=0)
    for key, item in groups:
        trees.drop(layout.EXTENT_TREE, key)
        trees.put(layout.BLOCK_GROUP_TREE, key, item)
    opened.superblock.compat_ro |= layout.GROUP_TREE_FEATURE
    editor.finish()


def test_block_groups_in_a_tree_of_their_own_are_kept_as_the_kernel_wants_them(
    tmp_path: Path,
) -> None:
    """mkfs.btrfs and btrfs check here are too old for it: the kernel judges."""
    volume = make(tmp_path / "v")
    store = FileStore(volume)
    _move_groups_to_a_tree_of_their_own(store)
    run("dmesg", "--clear")
    for seed in range(3):
        dice = random.Random(seed)
        model = Model(BtrfsEditor(store, NOW), dice, dump(BtrfsTree(store)), f"{WAYS} rights")
        for _ in range(40):
            model.step()
        model.editor.finish()
        assert check_volume(store, "v") == []
        with mounted(volume) as point:
            (point / f"of the kernel {seed}").write_bytes(dice.randbytes(700_000))
            run("btrfs", "balance", "start", "-musage=50", "-f", point)
            assert "no errors found" in run("btrfs", "scrub", "start", "-B", point)
        assert dump(BtrfsTree(store)).keys() >= model.tree.keys()
        assert check_volume(store, "v") == []
    assert BtrfsVolume(store).superblock.compat_ro & layout.GROUP_TREE_FEATURE
    assert [line for line in run("dmesg").splitlines() if volume_words(line)] == []
    store.close()
