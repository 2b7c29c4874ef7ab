"""Our consistency checker finds damage done on purpose; mutations raise only our errors."""

from __future__ import annotations

import contextlib
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.disks import make_ext, write_tree
from tests.oracles import run
from zeroseal.blocks.store import MemoryStore
from zeroseal.errors import ZeroSealError
from zeroseal.filesystems.ext.check import check_volume
from zeroseal.filesystems.ext.read import ExtTree
from zeroseal.filesystems.tree import Kind
from zeroseal.images.detect import open_image


def used_volume(folder: Path, *options: str) -> Path:
    source = folder / "tree"
    if not source.exists():
        tree = {f"/f/name-{number}": "x" * number * 40 for number in range(120)}
        write_tree(source, tree | {"/g/h/i": "deep", "/link": "-> g"})
    return make_ext(folder / "v.img", 8, *(options or ("-t", "ext4", "-b", "1024")), tree=source)


@pytest.mark.parametrize(
    "options", [["-t", "ext4"], ["-t", "ext3", "-b", "1024"], ["-t", "ext2"]], ids=" ".join
)
def test_a_sound_volume_has_no_problems(tmp_path: Path, options: list[str]) -> None:
    assert check_volume(open_image(used_volume(tmp_path, *options))) == []


@pytest.mark.parametrize(
    ("commands", "told"),
    [
        (["set_inode_field g/h/i links_count 3"], "links"),
        (["clri g/h/i"], "free inode"),
        (["unlink g/h"], "no name"),
        (["freeb 1200 3"], "bitmap"),
        (["setb 8000"], "bitmap"),
        (["freei f/name-7"], "bitmap"),
        (["set_inode_field f/name-100 blocks 2"], "sectors"),
        (["set_super_value free_blocks_count 17"], "free blocks"),
        (["set_super_value free_inodes_count 17"], "free inodes"),
        (["set_bg 0 used_dirs_count 9", "set_bg 0 checksum calc"], "folders"),
        (["set_bg 0 checksum 1"], "checksum"),
        (["set_inode_field f/name-9 mode 040755"], "type"),
        (["ln f/name-3 g/another"], "links"),
        (["set_inode_field f size 9216"], "bytes"),
    ],
    ids=lambda value: value[0] if isinstance(value, list) else "",
)
def test_damage_done_on_purpose_is_found(tmp_path: Path, commands: list[str], told: str) -> None:
    path = used_volume(tmp_path)
    run("debugfs", "-w", "-f", "-", path, feed="\n".join(commands))
    problems = check_volume(open_image(path))
    assert any(told in f"{problem.where} {problem.what}" for problem in problems), problems


def test_one_block_in_two_files_is_found(tmp_path: Path) -> None:
    path = used_volume(tmp_path)
    stat = run("debugfs", "-R", "blocks f/name-90", path).split()
    run("debugfs", "-w", "-f", "-", path, feed=f"set_inode_field f/name-80 block[5] {stat[0]}\n")
    problems = check_volume(open_image(path))
    assert any("belongs to another" in problem.what for problem in problems), problems


@pytest.mark.parametrize("structure", ["inode", "block bitmap", "folder", "group"])
def test_one_flipped_bit_in_any_checksummed_structure_is_found(
    tmp_path: Path, structure: str
) -> None:
    path = used_volume(tmp_path)
    tree = ExtTree(open_image(path))
    volume = tree.volume
    folder = tree.find_child(tree.root, b"f")
    assert folder
    places = {
        "inode": volume.inode_offset(folder.node) + 40,
        "block bitmap": volume.get_group(0).block_bitmap * 1024 + 900,
        "folder": next(tree.iter_runs(folder.node)).physical * 1024 + 30,
        "group": volume.descriptor_offset(0) + 12,
    }
    raw = bytearray(path.read_bytes())
    raw[places[structure]] ^= 4
    assert check_volume(MemoryStore(bytes(raw)))


@given(
    kind=st.sampled_from([("-t", "ext4", "-b", "1024"), ("-t", "ext3", "-b", "1024")]),
    places=st.lists(
        st.tuples(st.integers(1024, 400_000), st.integers(0, 255)), min_size=1, max_size=30
    ),
    fixed=st.booleans(),
)
def test_mutated_volumes_raise_only_our_errors(
    tmp_path: Path, kind: tuple[str, ...], places: list[tuple[int, int]], fixed: bool
) -> None:
    folder = tmp_path / kind[1]
    folder.mkdir(exist_ok=True)
    options = (*kind, "-O", "^metadata_csum") if fixed else kind
    raw = bytearray(used_volume(folder, *options).read_bytes())
    for place, value in places:
        raw[place] = value
    store = MemoryStore(bytes(raw))
    with contextlib.suppress(ZeroSealError):
        check_volume(store)
    with contextlib.suppress(ZeroSealError):
        tree = ExtTree(store)
        pending, seen = [tree.root], set()
        while pending:
            node = pending.pop()
            seen.add(node)
            for entry in tree.list_folder(node):
                if entry.kind is Kind.FOLDER and entry.node not in seen:
                    pending.append(entry.node)
                elif entry.kind is Kind.FILE:
                    tree.read_file(entry.node, 1 << 20)
                    tree.read_attributes(entry.node)
