"""The rare shapes of ext: deep trees, indexes of two levels, huge files, shared attributes."""

from __future__ import annotations

import os
import random
from pathlib import Path

import pytest

from tests.disks import make_ext, write_tree
from tests.filesystems.test_ext_edit import NOW, commit, open_writable
from tests.oracles import judge_ext, mounted, run
from zeroseal.blocks.staged import StagedStore
from zeroseal.filesystems.editing import EditError
from zeroseal.filesystems.ext.check import check_volume
from zeroseal.filesystems.ext.edit import ExtEditor
from zeroseal.filesystems.ext.hashing import HALF_MD4, HashSettings
from zeroseal.filesystems.ext.index import FolderShape, Name, build_index
from zeroseal.filesystems.ext.mapping import read_mapping
from zeroseal.filesystems.ext.read import ExtTree
from zeroseal.images.detect import open_image

FRAGMENTED = [
    (["-t", "ext4", "-b", "1024"], 1),
    (["-t", "ext4", "-b", "1024", "-O", "^metadata_csum"], 1),
    (["-t", "ext3", "-b", "1024"], 2),
    (["-t", "ext2", "-b", "2048"], 2),
]


def fragment(editor: ExtEditor, blocks: int) -> tuple[int, bytes]:
    """Makes a file whose every block lies apart: the only free ones lie between other files."""
    chance = random.Random(blocks)
    size = editor.volume.block_bytes
    for number in range(2 * blocks + 40):
        editor.create_file(editor.root, b"f%d" % number, b"x", 0o644)
    free = editor.volume.superblock.free_blocks_lo
    editor.create_file(editor.root, b"filler", bytes(size * (free - free // 200 - 8)), 0o644)
    for number in range(0, 2 * blocks + 40, 2):
        editor.remove(editor.root, b"f%d" % number)
    content = chance.randbytes(size * blocks)
    return editor.create_file(editor.root, b"fragmented", content, 0o600), content


@pytest.mark.parametrize(("options", "tree_blocks"), FRAGMENTED, ids=lambda value: str(value))
def test_a_file_in_hundreds_of_pieces_is_written_read_cut_and_removed(
    tmp_path: Path, options: list[str], tree_blocks: int
) -> None:
    path = make_ext(tmp_path / "v.img", 24, *options, "-N", "4096")
    staged = StagedStore(open_image(path))
    editor = ExtEditor(staged, NOW)
    node, content = fragment(editor, 700)
    editor.finish()
    commit(staged, path)
    judge_ext(path)
    tree = ExtTree(open_image(path))
    mapping = read_mapping(tree.volume, node, tree.volume.read_inode(node))
    assert len(mapping.runs) > 300
    assert len(mapping.tree_blocks) >= tree_blocks
    assert tree.read_file(node) == content

    editor = ExtEditor(open_writable(path), NOW)
    editor.truncate(node, 400_001)
    editor.finish()
    judge_ext(path)
    assert ExtTree(open_image(path)).read_file(node) == content[:400_001]
    editor = ExtEditor(open_writable(path), NOW)
    editor.remove(editor.root, b"fragmented")
    editor.finish()
    judge_ext(path)
    assert content[5000:5100] not in path.read_bytes()


@pytest.mark.parametrize("options", [["-O", "metadata_csum"], ["-O", "^metadata_csum"]], ids=str)
def test_a_folder_with_two_levels_of_index(tmp_path: Path, options: list[str]) -> None:
    path = make_ext(tmp_path / "v.img", 24, "-t", "ext4", "-b", "1024", "-N", "12000", *options)
    editor = ExtEditor(open_writable(path), NOW)
    folder = editor.create_folder(editor.root, b"large", 0o755)
    target = editor.create_file(editor.root, b"target", b"x", 0o644)
    names = [b"%05d-%s" % (number, b"n" * 180) for number in range(700)]
    for name in names:
        editor.add_name(folder, name, target)
    editor.finish()
    judge_ext(path)
    assert check_volume(open_image(path)) == []
    assert "Indirect levels: 1" in run("debugfs", "-R", "htree large", path)
    for name in names[::3]:
        editor.remove(folder, name)
    for number in range(100):
        editor.add_name(folder, b"late-%d" % number, target)
    editor.finish()
    judge_ext(path)
    left = {entry.name for entry in ExtTree(open_image(path)).list_folder(folder)}
    assert left == set(names) - set(names[::3]) | {b"late-%d" % number for number in range(100)}


@pytest.mark.parametrize("options", [["-t", "ext3"], ["-t", "ext4"]], ids=str)
def test_leaves_of_an_index_that_became_empty_are_sound(tmp_path: Path, options: list[str]) -> None:
    path = make_ext(tmp_path / "v.img", 8, *options, "-b", "1024")
    editor = ExtEditor(open_writable(path), NOW)
    names = [b"%03d-%s" % (number, b"e" * 150) for number in range(60)]
    for name in names:
        editor.create_file(editor.root, name, b"", 0o644)
    for name in names[:57]:
        editor.remove(editor.root, name)
    editor.finish()
    judge_ext(path)
    assert check_volume(open_image(path)) == []
    for name in names[:57]:
        editor.create_file(editor.root, name, b"", 0o644)
    editor.finish()
    judge_ext(path)
    assert check_volume(open_image(path)) == []


def test_an_index_splits_names_of_one_hash_with_the_collision_bit() -> None:
    shape = FolderShape(1024, has_types=True, own_seed=7)
    settings = HashSettings(HALF_MD4, unsigned=False, seed=(1, 2, 3, 4))
    names = [Name(b"%d" % number, 12, 1) for number in range(300)]
    blocks = build_index(names, 11, 2, settings, shape)
    assert len(blocks) > 5
    assert all(len(block) == 1024 for block in blocks)
    again = build_index(list(reversed(names)), 11, 2, settings, shape)
    assert again == blocks  # the order in which names come does not matter


@pytest.mark.parametrize("kind", ["ext2", "ext4"])
def test_a_file_of_more_than_two_gigabytes_is_a_hole_and_marks_the_volume(
    tmp_path: Path, kind: str
) -> None:
    path = make_ext(tmp_path / "v.img", 8, "-t", kind, "-O", "^large_file", "-b", "4096")
    editor = ExtEditor(open_writable(path), NOW)
    node = editor.create_file(editor.root, b"huge", b"begin", 0o644)
    editor.truncate(node, 3 << 30)
    editor.finish()
    judge_ext(path)
    assert "large_file" in run("dumpe2fs", "-h", path)
    tree = ExtTree(open_image(path))
    assert tree.get_facts(node).size_bytes == 3 << 30
    assert tree.read_file(node, 100_000) == b"begin".ljust(100_000, b"\0")


def test_indirect_lists_of_three_levels(tmp_path: Path) -> None:
    source = tmp_path / "tree"
    write_tree(source, {"/a": ""})
    with (source / "deep").open("wb") as deep:
        for megabyte in (0, 1, 70, 80):  # direct, single, double, triple with 1 KiB blocks
            deep.seek(megabyte << 20)
            deep.write(b"here is megabyte %d" % megabyte)
    path = make_ext(tmp_path / "v.img", 8, "-t", "ext2", "-b", "1024", tree=source)
    tree = ExtTree(open_image(path))
    entry = tree.find_child(tree.root, b"deep")
    assert entry
    assert tree.read_file(entry.node) == (source / "deep").read_bytes()
    editor = ExtEditor(open_writable(path), NOW)
    editor.truncate(entry.node, (75 << 20) + 3)
    editor.finish()
    judge_ext(path)
    content = ExtTree(open_image(path)).read_file(entry.node)
    assert content == (source / "deep").read_bytes()[: (75 << 20) + 3]
    editor = ExtEditor(open_writable(path), NOW)
    editor.remove(editor.root, b"deep")
    editor.finish()
    judge_ext(path)
    assert b"here is megabyte" not in path.read_bytes()


def test_a_block_of_attributes_shared_by_files_goes_with_the_last(tmp_path: Path) -> None:
    path = make_ext(tmp_path / "v.img", 8, "-t", "ext4", "-I", "128")
    with mounted(tmp_path / "mnt", "-o", "loop,user_xattr", path) as point:
        for file in ("one", "other"):
            (point / file).write_text(file)
            os.setxattr(point / file, "user.canary", b"attribute-canary")
    assert b"attribute-canary" in path.read_bytes()
    for name, left in ((b"one", True), (b"other", False)):
        editor = ExtEditor(open_writable(path), NOW)
        editor.remove(editor.root, name)
        editor.finish()
        judge_ext(path)
        assert check_volume(open_image(path)) == []
        raw = path.read_bytes()
        # the journal keeps an older copy until it is blanked
        volume = ExtTree(open_image(path)).volume
        journal = read_mapping(volume, 8, volume.read_inode(8)).runs
        for journal_run in journal:
            start = journal_run.physical * volume.block_bytes
            end = start + journal_run.blocks * volume.block_bytes
            raw = raw[:start] + bytes(end - start) + raw[end:]
        assert (b"attribute-canary" in raw) == left


def test_attributes_right_behind_a_short_inode_survive_an_edit(tmp_path: Path) -> None:
    path = make_ext(tmp_path / "v.img", 4, "-t", "ext3", "-I", "256")
    (tmp_path / "f").write_text("hello")
    run("debugfs", "-w", "-f", "-", path, feed=f"write {tmp_path}/f f\nsif f extra_isize 4\n")
    run("debugfs", "-w", "-R", "ea_set f user.kept precious-value", path)
    editor = ExtEditor(open_writable(path), NOW + (1 << 33))
    entry = editor.find_child(editor.root, b"f")
    assert entry
    assert editor.read_attributes(entry.node) == {b"user.kept": b"precious-value"}
    editor.replace_content(entry.node, b"other")
    editor.set_mode(entry.node, 0o600)
    editor.finish()
    judge_ext(path)
    assert "precious-value" in run("debugfs", "-R", "ea_get f user.kept", path)


def test_wrong_use_of_the_editor_is_a_plain_error_and_changes_nothing(tmp_path: Path) -> None:
    path = make_ext(tmp_path / "v.img", 4)
    before = path.read_bytes()
    editor = ExtEditor(StagedStore(open_image(path)), NOW)
    folder = editor.create_folder(editor.root, b"folder", 0o755)
    editor.create_file(folder, b"file", b"", 0o644)
    for wrong in (
        lambda: editor.create_file(editor.root, b"", b"", 0o644),
        lambda: editor.create_file(editor.root, b"a/b", b"", 0o644),
        lambda: editor.create_file(editor.root, b"..", b"", 0o644),
        lambda: editor.create_file(editor.root, b"x" * 256, b"", 0o644),
        lambda: editor.create_file(editor.root, b"folder", b"", 0o644),
        lambda: editor.remove(editor.root, b"nothing"),
        lambda: editor.remove(editor.root, b"folder"),
        lambda: editor.add_name(editor.root, b"second", folder),
        lambda: editor.create_link(editor.root, b"l", b""),
        lambda: editor.create_link(editor.root, b"l", b"x" * 5000),
    ):
        with pytest.raises(EditError, match=r"."):
            wrong()
    assert path.read_bytes() == before
