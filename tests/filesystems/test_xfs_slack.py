"""What stays beside the files of XFS: canaries everywhere, and the log as the kernel wants it."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from tests.oracles import find_texts, run
from tests.patching import clean_part, inventory
from tests.xfs import SMALLEST_MIB, FileStore, judge_xfs, kernel, make_xfs
from zeroseal.blocks.staged import StagedStore
from zeroseal.filesystems.inventory import Part
from zeroseal.filesystems.tree import Kind
from zeroseal.filesystems.xfs.check import check_volume
from zeroseal.filesystems.xfs.edit import XfsEditor
from zeroseal.filesystems.xfs.log import highest_cycle
from zeroseal.filesystems.xfs.read import XfsTree

NOW = 1_900_000_000
CANARY = b"canary-in-the-coal-hold-"
OPTIONS = ["", "-m rmapbt=1", "-b size=1024 -n size=8192", "-i size=2048 -i nrext64=1"]


def lay_canaries(point: Path) -> None:
    """Names, contents, attributes and links that go, some before we come and some by us."""
    for folder in ("keep", "gone"):
        (point / folder).mkdir()
    for number in range(1500):
        (point / "keep" / f"canary-name-{number:05}").write_bytes(CANARY * 20)
    for number in range(300):
        (point / "keep" / f"good-{number}").write_bytes(b"good" * 100)
    for path in (point / "keep").glob("canary-*"):
        path.unlink()
    for number in range(300):
        path = point / "gone" / f"canary-{number}"
        path.write_bytes(CANARY * 200)
        os.setxattr(path, "user.canary-in-a-name", CANARY * (number % 100))
    (point / "gone" / "link").symlink_to(CANARY.decode() * 30)
    cut = point / "keep" / "good-1"
    with cut.open("wb") as file:
        file.write(CANARY * 3000)
        file.flush()
        os.fsync(file.fileno())
        file.truncate(3)
    os.setxattr(point / "keep" / "good-2", "user.gone", CANARY * 100)
    os.setxattr(point / "keep" / "good-2", "user.kept", b"kept" * 50)
    os.removexattr(point / "keep" / "good-2", "user.gone")
    with (point / "keep" / "ahead").open("wb") as file:
        os.posix_fallocate(file.fileno(), 0, 1 << 20)
    run("xfs_io", "-c", f"label {CANARY.decode()[:12]}", point)
    run("xfs_io", "-c", "label pier", point)


def plant_in_slack(volume: Path) -> int:
    """Writes canaries where no program looks: behind ends and in unwritten blocks."""
    store, planted = FileStore(volume), 0
    tree = XfsTree(store)
    pending = [tree.root]
    while pending:
        for entry in tree.list_folder(pending.pop()):
            slot = tree.volume.read_slot(entry.node)
            if entry.kind is Kind.FOLDER:
                pending.append(entry.node)
            elif entry.kind is Kind.FILE:
                for offset, length in tree.iter_content(entry.node, 0):
                    if length % tree.volume.block_bytes:
                        store.write(offset + length, CANARY)
                        planted += 1
                if entry.name == b"ahead":
                    from zeroseal.filesystems.xfs.forks import read_mapping

                    run_ = read_mapping(tree.volume, slot).runs[0]
                    assert run_.unwritten
                    store.write(tree.volume.offset_of(run_.fsblock) + 5000, CANARY)
    for group in range(tree.volume.superblock.group_count):
        if tree.volume.block_bytes > 2048:
            store.write(tree.volume.group_offset(group, 0) + 3000, CANARY)
    store.close()
    return planted


@pytest.mark.parametrize("options", OPTIONS)
def test_nothing_that_was_removed_is_left_anywhere(tmp_path: Path, options: str) -> None:
    volume = make_xfs(tmp_path / "v", *options.split())
    with kernel(volume) as point:
        lay_canaries(point)
    assert plant_in_slack(volume) > 200
    assert find_texts(volume, [b"canary"]) == {b"canary"}
    store = FileStore(volume)
    editor = XfsEditor(store, NOW)
    editor.remove_tree(editor.root, b"gone")
    editor.finish()
    before = {part: inventory("xfs", store).stale_bytes(part) for part in Part}
    assert before[Part.SLACK]
    assert before[Part.JOURNAL]
    for part in (Part.SLACK, Part.FREE_INODES, Part.FREE_SPACE, Part.JOURNAL):
        clean_part("xfs", store, part)
        assert inventory("xfs", store).stale_bytes(part) == 0
    assert find_texts(volume, [b"canary", b"canary".decode().encode("utf-16-le")]) == set()
    assert check_volume(store, "v") == []
    judge_xfs(volume)
    store.close()
    with kernel(volume) as point:
        assert len(list((point / "keep").iterdir())) == 301
        assert (point / "keep/good-7").read_bytes() == b"good" * 100
        assert os.getxattr(point / "keep/good-2", "user.kept") == b"kept" * 50
        (point / "new").write_bytes(b"new" * 5000)
    judge_xfs(volume)


@pytest.mark.parametrize("options", ["", "-l su=64k", "-l size=70m", "-s size=4096"])
def test_an_empty_log_is_one_that_kernel_and_repair_accept(tmp_path: Path, options: str) -> None:
    volume = make_xfs(tmp_path / "v", *options.split())
    for _round in range(3):
        with kernel(volume) as point:
            for number in range(400):
                (point / f"f{number}").write_bytes(b"x" * number)
                (point / f"f{number}").unlink()
        store = FileStore(volume)
        before = highest_cycle(store, XfsTree(store).volume.superblock)
        clean_part("xfs", store, Part.JOURNAL)
        assert highest_cycle(store, XfsTree(store).volume.superblock) > before
        store.close()
        judge_xfs(volume)


def test_space_set_aside_over_old_data_is_zeroed_as_ranges(tmp_path: Path) -> None:
    """What lies there costs neither memory nor staged bytes, however much it is."""
    volume = make_xfs(tmp_path / "v", megabytes=SMALLEST_MIB)
    with kernel(volume) as point:
        (point / "old").write_bytes(b"deleted-canary " * (90 << 16))
        os.sync()
        (point / "old").unlink()
        os.sync()
        for number in range(6):
            with (point / f"aside-{number}").open("wb") as file:
                os.posix_fallocate(file.fileno(), 0, 15 << 20)
            (point / f"tail-{number}").write_bytes(b"used")
            run("fallocate", "-n", "-l", "8M", point / f"tail-{number}")
    store = FileStore(volume)
    staged = StagedStore(store)
    assert inventory("xfs", staged).stale_bytes(Part.SLACK) > 10 << 20
    clean_part("xfs", staged, Part.SLACK)
    assert staged.written_bytes < 1 << 20
    assert inventory("xfs", staged).stale_bytes(Part.SLACK) == 0
    for extent in staged.iter_changes():
        if extent.is_zero:
            store.zero(extent.offset_bytes, extent.length)
        else:
            store.write(extent.offset_bytes, staged.read(extent.offset_bytes, extent.length))
    judge_xfs(volume)
    with kernel(volume, "ro") as point:
        assert (point / "tail-3").read_bytes() == b"used"
        assert not any((point / "aside-3").read_bytes())
