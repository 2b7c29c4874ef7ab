"""Our consistency checker finds damage done on purpose; mutations raise only our errors."""

from __future__ import annotations

import contextlib
import subprocess
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.disks import make_ext, write_tree
from tests.oracles import judge_ext, run
from tests.patching import clean_part
from tests.xfs import FileStore
from zeroseal.blocks.store import MemoryStore
from zeroseal.errors import ZeroSealError
from zeroseal.filesystems.ext.check import check_volume
from zeroseal.filesystems.ext.edit import ExtEditor
from zeroseal.filesystems.ext.read import ExtTree
from zeroseal.filesystems.inventory import Part
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
        (["set_inode_field g/h/i links_count 3"], "link count"),
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
        (["ln f/name-3 g/another"], "link count"),
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


def test_mutated_volumes_raise_only_our_errors(tmp_path: Path) -> None:
    opened: list[bool] = []
    behind = st.integers(2048, 400_000)  # behind the superblock, so that it is opened

    @given(
        kind=st.sampled_from([("-t", "ext4", "-b", "1024"), ("-t", "ext3", "-b", "1024")]),
        places=st.lists(
            st.tuples(behind | behind | st.integers(1024, 400_000), st.integers(0, 255)),
            min_size=1,
            max_size=30,
        ),
        fixed=st.booleans(),
    )
    def mutate(kind: tuple[str, ...], places: list[tuple[int, int]], fixed: bool) -> None:
        folder = tmp_path / kind[1]
        folder.mkdir(exist_ok=True)
        options = (*kind, "-O", "^metadata_csum") if fixed else kind
        raw = bytearray(used_volume(folder, *options).read_bytes())
        for place, value in places:
            raw[place] = value
        opened.append(look_at_all(MemoryStore(bytes(raw))))

    mutate()
    assert sum(opened) >= len(opened) // 2  # else nothing behind the superblock was tried


def look_at_all(store: MemoryStore) -> bool:
    """Checks and reads a volume; whether it could be opened at all."""
    with contextlib.suppress(ZeroSealError):
        check_volume(store)
    try:
        tree = ExtTree(store)
    except ZeroSealError:
        return False
    with contextlib.suppress(ZeroSealError):
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
    return True


@pytest.mark.parametrize("values", [(0, 1), (12, 0xFFFF)], ids=str)
def test_no_field_of_the_superblock_is_sound_for_us_that_e2fsck_refuses(
    tmp_path: Path, values: tuple[int, int]
) -> None:
    """Each field of two bytes in turn; e2fsck may mend from a copy what we refuse."""
    base = used_volume(tmp_path, "-t", "ext4", "-b", "1024", "-O", "^metadata_csum").read_bytes()
    trial, odd = tmp_path / "trial", []
    for offset in (*range(0, 0x60, 2), *range(0xCE, 0xE8, 2), *range(0xFE, 0x108, 2),
                   *range(0x150, 0x160, 2), 0x240, 0x244, 0x26C, 0x280):  # fmt: skip
        for value in values:
            raw = bytearray(base)
            raw[1024 + offset : 1026 + offset] = value.to_bytes(2, "little")
            if look_at_all(MemoryStore(bytes(raw))) and not check_volume(MemoryStore(bytes(raw))):
                trial.write_bytes(raw)
                judge = subprocess.run(["e2fsck", "-fn", trial], capture_output=True, check=False)
                odd += [(hex(offset), value)] * bool(judge.returncode)
    assert odd == []


def test_a_first_inode_behind_all_inodes_is_refused(tmp_path: Path) -> None:
    raw = bytearray(used_volume(tmp_path, "-t", "ext4", "-O", "^metadata_csum").read_bytes())
    raw[1024 + 0x54 : 1024 + 0x58] = (100_000).to_bytes(4, "little")
    assert any("impossible" in problem.what for problem in check_volume(MemoryStore(bytes(raw))))


_SHAPES = [
    ("1024", "", "8"), ("1024", "", "72"), ("2048", "", "40"), ("4096", "", "300"),
    ("1024", "2048", "40"), ("1024", "16384", "300"), ("2048", "8192", "40"),
    ("4096", "65536", "300"),
]  # fmt: skip


@pytest.mark.parametrize("shape", _SHAPES, ids=str)
def test_volumes_made_grown_and_shrunk_to_the_limit_of_the_kept_blocks(
    tmp_path: Path, shape: tuple[str, str, str]
) -> None:
    """Inode 7 keeps its list of lists also where no block is kept for descriptors any more."""
    block, cluster, megabytes = shape
    path, size = tmp_path / "v", int(megabytes)
    options = ["-O", "bigalloc", "-C", cluster] if cluster else []
    run("mke2fs", "-q", "-F", "-t", "ext4", "-b", block, *options, path, f"{size}M")
    for target in (size, size * 2, size * 9, size * 40, size):
        if target != size or path.stat().st_size >> 20 > size:
            if path.stat().st_size < target << 20:
                run("truncate", "-s", f"{target}M", path)
            run("resize2fs", "-f", path, f"{target}M")
            # 1.47.0 leaves wrong counts of a volume with clusters
            subprocess.run(["e2fsck", "-fy", path], capture_output=True, check=False)
        run("e2fsck", "-fn", path)
        assert check_volume(open_image(path)) == [], target
    store = FileStore(path)
    editor = ExtEditor(store, 1_795_000_000)
    editor.create_file(editor.root, b"new", b"n" * 70_000, 0o644)
    editor.finish()
    for part in Part:
        clean_part("ext4", store, part)
    assert check_volume(store) == []
    judge_ext(path)
