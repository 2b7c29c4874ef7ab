"""Reading ext: trees laid out by mke2fs and debugfs are read as they were made."""

from __future__ import annotations

import random
from pathlib import Path

import pytest

from tests.disks import make_ext, write_tree
from tests.oracles import run
from zeroseal.errors import DamagedError, NeedsRecoveryError, UnsupportedError
from zeroseal.filesystems.ext.edit import ExtEditor
from zeroseal.filesystems.ext.hashing import (
    HALF_MD4,
    LEGACY,
    TEA,
    HashSettings,
    hash_name,
    hash_names,
)
from zeroseal.filesystems.ext.read import ExtTree
from zeroseal.filesystems.tree import Kind
from zeroseal.images.detect import open_image

KINDS = [
    ["-t", "ext4"],
    ["-t", "ext4", "-b", "1024"],
    ["-t", "ext3", "-b", "2048"],
    ["-t", "ext2", "-b", "1024", "-I", "128", "-O", "^filetype"],
]


def open_tree(path: Path) -> ExtTree:
    return ExtTree(open_image(path))


def walk(tree: ExtTree, path: str) -> int:
    node = tree.root
    for part in path.strip("/").split("/"):
        entry = tree.find_child(node, part.encode())
        assert entry, f"{part} of {path} is not there"
        node = entry.node
    return node


@pytest.mark.parametrize("options", KINDS, ids=" ".join)
def test_a_tree_is_read_as_it_was_laid_out(tmp_path: Path, options: list[str]) -> None:
    chance = random.Random(1)
    source = tmp_path / "tree"
    write_tree(source, {"/a/b/c": "deep\n", "/short": "-> a/b", "/long": "-> " + "x/" * 90 + "end"})
    (source / "big").write_bytes(chance.randbytes(3_000_000))
    with (source / "sparse").open("wb") as sparse:
        sparse.seek(5_000_000)
        sparse.write(b"end")
    many = source / "many"
    many.mkdir()
    for number in range(900):
        (many / f"name-{number:04}-{'y' * (number % 90)}").touch()
    path = make_ext(tmp_path / "v.img", 24, *options, tree=source)
    tree = open_tree(path)
    for name in ("a/b/c", "big", "sparse"):
        assert tree.read_file(walk(tree, name)) == (source / name).read_bytes()
    assert tree.read_file(walk(tree, "big"), 1000) == (source / "big").read_bytes()[:1000]
    assert tree.read_link(walk(tree, "short")) == b"a/b"
    assert tree.read_link(walk(tree, "long")) == b"x/" * 90 + b"end"
    names = {entry.name.decode() for entry in tree.list_folder(walk(tree, "many"))}
    assert names == {item.name for item in many.iterdir()}
    kinds = {entry.name: entry.kind for entry in tree.list_folder(tree.root)}
    assert (kinds[b"a"], kinds[b"big"], kinds[b"short"]) == (Kind.FOLDER, Kind.FILE, Kind.LINK)
    assert tree.find_child(tree.root, b"nothing") is None
    assert tree.find_child(tree.root, b"..") is None


def test_owner_mode_size_and_attributes_are_those_that_debugfs_set(tmp_path: Path) -> None:
    path = make_ext(tmp_path / "v.img", 8)
    (tmp_path / "f").write_text("hello")
    run("debugfs", "-w", "-f", "-", path, feed="\n".join([
        f"write {tmp_path}/f f",
        "set_inode_field f uid 70000", "set_inode_field f gid 5",
        "set_inode_field f mode 0104751",
        "ea_set f user.colour blue", f"ea_set f security.long {'z' * 300}",
    ]))  # fmt: skip
    tree = open_tree(path)
    node = walk(tree, "f")
    facts = tree.get_facts(node)
    assert (facts.uid, facts.gid, facts.mode, facts.size_bytes) == (70000, 5, 0o4751, 5)
    assert tree.read_attributes(node) == {b"user.colour": b"blue", b"security.long": b"z" * 300}


@pytest.mark.parametrize("version", [LEGACY, HALF_MD4, TEA])
@pytest.mark.parametrize("text", ["a", "gangway", "x" * 31, "x" * 32, "y" * 100, "räume-ÿ"])
def test_folder_hashes_are_those_of_debugfs(tmp_path: Path, version: int, text: str) -> None:
    seed = "01234567-89ab-cdef-0123-456789abcdef"
    path = make_ext(tmp_path / "v.img", 2)
    for unsigned in (False, True):
        number = version + (3 if unsigned else 0)
        told = run("debugfs", "-R", f"dx_hash -h {number} -s {seed} {text}", path)
        raw_seed = bytes.fromhex(seed.replace("-", ""))
        words = tuple(int.from_bytes(raw_seed[i : i + 4], "little") for i in (0, 4, 8, 12))
        settings = HashSettings(version, unsigned, words)  # type: ignore[arg-type]  # four words
        major, minor = hash_name(text.encode(), settings)
        assert f"0x{major:x} (minor 0x{minor:x})" in told


@pytest.mark.parametrize("version", [0, 1, 2])
@pytest.mark.parametrize("unsigned", [True, False])
def test_hashing_many_names_at_once_gives_what_one_by_one_gives(
    version: int, unsigned: bool
) -> None:
    chance = random.Random(version)
    names = [chance.randbytes(chance.choice([1, 3, 4, 15, 16, 17, 31, 32, 33, 64, 200, 255]))
             for _ in range(300)]  # fmt: skip
    settings = HashSettings(version, unsigned, (1, 2, 3, 0xFFFFFFFF))
    assert hash_names(names, settings) == [hash_name(name, settings) for name in names]
    assert hash_names([], settings) == []


@pytest.mark.parametrize(
    ("feature", "told"),
    [
        ("encrypt", "encrypt"),
        ("FEATURE_I12", "dirdata"),
        ("FEATURE_I29", "unknown feature 0x20000000"),
        ("journal_dev", "is on another device"),
    ],
)
def test_a_feature_that_we_do_not_know_is_refused_by_name(
    tmp_path: Path, feature: str, told: str
) -> None:
    path = make_ext(tmp_path / "v.img", 16, "-t", "ext4", "-O", "^metadata_csum")
    run("debugfs", "-w", "-R", f"feature {feature}", path)
    with pytest.raises(UnsupportedError, match=told):
        open_tree(path)


def test_a_feature_that_can_be_read_but_not_changed_says_so(tmp_path: Path) -> None:
    path = make_ext(tmp_path / "v.img", 16, "-t", "ext4")
    run("debugfs", "-w", "-R", "feature shared_blocks", path)
    assert open_tree(path).list_folder(2)
    with pytest.raises(UnsupportedError, match=r"shared_blocks.*not\s+changed"):
        ExtEditor(open_image(path), 0)


@pytest.mark.parametrize(
    ("commands", "error", "told"),
    [
        (["feature needs_recovery"], NeedsRecoveryError, "shut it down cleanly and"),
        (["set_super_value state 2"], DamagedError, "errors"),
        (["set_super_value last_orphan 12"], NeedsRecoveryError, "not shut down cleanly"),
        (["set_super_value inodes_count 5"], DamagedError, "number of inodes"),
    ],
    ids=["unclean", "marked with errors", "orphans", "impossible"],
)
def test_an_unfit_file_system_is_refused(
    tmp_path: Path, commands: list[str], error: type[Exception], told: str
) -> None:
    path = make_ext(tmp_path / "v.img", 8)
    run("debugfs", "-w", "-f", "-", path, feed="\n".join(commands))
    with pytest.raises(error, match=told):
        open_tree(path)
