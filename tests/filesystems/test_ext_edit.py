"""Changing ext: random edits against a plain model, judged by e2fsck and by our own checker."""

from __future__ import annotations

import random
from pathlib import Path

import pytest

from tests.disks import make_ext
from tests.oracles import judge_ext, mounted, run
from zeroseal.blocks.staged import StagedStore
from zeroseal.errors import NoSpaceError
from zeroseal.filesystems.ext.check import check_volume
from zeroseal.filesystems.ext.edit import ExtEditor
from zeroseal.filesystems.ext.read import ExtTree
from zeroseal.filesystems.ext.unused import iter_free_inodes, iter_free_space, iter_journal_body
from zeroseal.images.detect import open_image
from zeroseal.images.host_file import HostFile
from zeroseal.images.raw import RawImage

NOW = 1_700_000_000

MATRIX = [
    ["-t", "ext4"],
    ["-t", "ext4", "-b", "1024"],
    ["-t", "ext4", "-b", "2048", "-O", "^metadata_csum"],
    ["-t", "ext3"],
    ["-t", "ext2", "-b", "1024"],
    ["-t", "ext4", "-O", "^64bit,metadata_csum"],
    ["-t", "ext3", "-I", "128", "-O", "^dir_index"],
    ["-t", "ext4", "-O", "^metadata_csum,uninit_bg,^flex_bg"],
    [
        "-t",
        "ext4",
        "-b",
        "1024",
        "-g",
        "2048",
        "-O",
        "metadata_csum_seed,orphan_file,sparse_super2",
    ],
    ["-t", "ext2", "-O", "^filetype", "-b", "1024"],
    ["-t", "ext4", "-I", "1024", "-E", "lazy_itable_init=1"],
    ["-t", "ext4", "-O", "inline_data"],
    ["-t", "ext4", "-b", "1024", "-I", "1024", "-O", "inline_data,^metadata_csum,large_dir"],
    ["-t", "ext4", "-b", "1024", "-O", "bigalloc", "-C", "8192"],
    ["-t", "ext4", "-O", "bigalloc,orphan_file,inline_data,metadata_csum_seed", "-C", "16384"],
    ["-t", "ext4", "-O", "quota,project", "-E", "quotatype=usrquota:grpquota:prjquota"],
    ["-t", "ext4", "-b", "2048", "-O", "bigalloc,quota,^64bit", "-C", "4096"],
    ["-t", "ext4", "-b", "1024", "-g", "1024", "-O", "meta_bg,^resize_inode,^flex_bg"],
    ["-t", "ext4", "-b", "1024", "-g", "512", "-O", "meta_bg,^resize_inode,^metadata_csum"],
    ["-t", "ext4", "-O", "mmp,ea_inode,verity,stable_inodes"],
    ["-t", "ext4", "-b", "1024", "-O", "casefold,large_dir,mmp"],
]

Path_ = tuple[bytes, ...]


def commit(staged: StagedStore, path: Path) -> None:
    """Brings a staged layer into the file it lies over."""
    changes = [
        (extent, b"" if extent.is_zero else staged.read(extent.offset_bytes, extent.length))
        for extent in staged.iter_changes()
    ]
    target = RawImage(HostFile(path, writable=True))
    for extent, data in changes:
        if extent.is_zero:
            target.zero(extent.offset_bytes, extent.length)
        else:
            target.write(extent.offset_bytes, data)
    target.close()


class Model:
    """What the tree should hold: folders and files by path."""

    def __init__(self, editor: ExtEditor, chance: random.Random) -> None:
        self.editor = editor
        self.chance = chance
        self.folders: dict[Path_, int] = {(): editor.root}
        self.files: dict[Path_, list[object]] = {}  # [node, content], shared by hard links
        self.links: dict[Path_, bytes] = {}
        self.count = 0

    def new_path(self, crowded: bool) -> Path_:
        self.count += 1
        folder = () if crowded else self.chance.choice(list(self.folders))
        length = self.chance.choice([1, 5, 30, 80, 200])
        name = "".join(self.chance.choice("abcdé") for _ in range(length)) + str(self.count)
        return (*folder, name.encode()[:255])

    def step(self, crowded: bool) -> None:
        kind = self.chance.random()
        editor, chance = self.editor, self.chance
        if kind < (0.75 if crowded else 0.4) or not self.files:
            path = self.new_path(crowded)
            size = chance.choice([0, 10] if crowded else [0, 10, 5000, 70_000, 400_000])
            content = chance.randbytes(size)
            node = editor.create_file(self.folders[path[:-1]], path[-1], content, 0o640, 7, 70_000)
            self.files[path] = [node, content]
        elif kind < 0.8 and not crowded:
            self.change_tree(kind)
        else:
            file = self.files[chance.choice(list(self.files))]
            target = file[0]
            assert isinstance(target, int)
            assert isinstance(file[1], bytes)
            if kind < 0.85:
                file[1] = chance.randbytes(chance.choice([0, 3, 9000]))
                editor.replace_content(target, file[1])
            elif kind < 0.92:
                size = chance.choice([0, 1, 4095, 20_000, 2_000_000])
                editor.truncate(target, size)
                file[1] = file[1][:size].ljust(size, b"\0")
            else:
                path = chance.choice(list(self.files))
                editor.remove(self.folders[path[:-1]], path[-1])
                del self.files[path]

    def change_tree(self, kind: float) -> None:
        editor, chance = self.editor, self.chance
        path = self.new_path(crowded=False)
        above = self.folders[path[:-1]]
        if kind < 0.55:
            self.folders[path] = editor.create_folder(above, path[-1], 0o750)
        elif kind < 0.62:
            self.links[path] = b"t" * chance.choice([5, 59, 60, 200])
            editor.create_link(above, path[-1], self.links[path])
        elif kind < 0.7:
            file = self.files[chance.choice(list(self.files))]
            assert isinstance(file[0], int)
            editor.add_name(above, path[-1], file[0])
            self.files[path] = file
        elif len(self.folders) > 1:
            doomed = chance.choice([path for path in self.folders if path])
            editor.remove_tree(self.folders[doomed[:-1]], doomed[-1])
            for group in (self.folders, self.files, self.links):
                for path in [path for path in group if path[: len(doomed)] == doomed]:
                    del group[path]

    def compare(self, tree: ExtTree) -> None:
        """Everything is there with its content, and nothing else."""
        nodes: dict[Path_, int] = {(): tree.root}
        for folder in sorted(self.folders, key=len):
            listed = {entry.name: entry.node for entry in tree.list_folder(nodes[folder])}
            listed.pop(b"lost+found", None) if not folder else None
            wanted = {
                path[-1]
                for group in (self.folders, self.files, self.links)
                for path in group
                if path and path[:-1] == folder
            }
            assert set(listed) == wanted
            nodes |= {(*folder, name): node for name, node in listed.items()}
        for path, (_node, content) in self.files.items():
            assert tree.read_file(nodes[path]) == content
        for path, target in self.links.items():
            assert tree.read_link(nodes[path]) == target


@pytest.mark.parametrize("seed", range(33))
def test_random_edits_leave_a_sound_file_system(tmp_path: Path, seed: int) -> None:
    chance = random.Random(seed)
    size = chance.choice([8, 24, 40])
    path = make_ext(tmp_path / "v.img", size, *MATRIX[seed % len(MATRIX)], hash_seed=seed)
    staged = StagedStore(open_image(path))
    model = Model(ExtEditor(staged, NOW), chance)
    crowded = seed % 3 == 2
    try:
        for _ in range(700 if crowded else 60):
            model.step(crowded)
    except NoSpaceError:
        return  # a full volume is tried below; an edit that failed half-way is never committed
    model.editor.finish()
    assert check_volume(staged) == []
    commit(staged, path)
    judge_ext(path)
    model.compare(ExtTree(open_image(path)))


@pytest.mark.parametrize("options", MATRIX, ids=" ".join)
def test_what_is_removed_is_zeroed_and_what_is_unused_can_be(
    tmp_path: Path, options: list[str]
) -> None:
    canaries = [b"content-canary", b"name-canary", b"target-canary", b"cut-canary"]
    path = make_ext(tmp_path / "v.img", 16, *options)
    staged = StagedStore(open_image(path))
    editor = ExtEditor(staged, NOW)
    folder = editor.create_folder(editor.root, b"folder-name-canary", 0o755)
    for number in range(300):
        name = b"file-name-canary-%d" % number
        editor.create_file(folder, name, b"content-canary " * (number * 10), 0o644)
    editor.create_link(folder, b"link-name-canary", b"target-canary")
    editor.create_link(folder, b"long-link", b"target-canary/" * 10)
    cut = editor.create_file(editor.root, b"cut", b"kept " + b"cut-canary" * 2000, 0o644)
    editor.finish()
    commit(staged, path)
    staged = StagedStore(open_image(path))
    editor = ExtEditor(staged, NOW)
    editor.truncate(cut, 5)
    editor.remove_tree(editor.root, b"folder-name-canary")
    editor.finish()
    commit(staged, path)
    judge_ext(path)
    raw = path.read_bytes()
    assert [canary for canary in canaries if canary in raw] == []

    image = open_image(path)
    volume = ExtTree(image).volume
    target = RawImage(HostFile(path, writable=True))
    for ranges in (iter_free_space(volume), iter_free_inodes(volume), iter_journal_body(volume)):
        for offset, length in list(ranges):
            target.write(offset, b"\xaa" * length)
            target.zero(offset, length)
    target.close()
    judge_ext(path)


def test_a_kernel_reads_and_empties_what_we_wrote(tmp_path: Path) -> None:
    path = make_ext(tmp_path / "v.img", 24)
    staged = StagedStore(open_image(path))
    model = Model(ExtEditor(staged, NOW), random.Random(99))
    for _ in range(120):
        model.step(crowded=False)
    model.editor.finish()
    commit(staged, path)
    with mounted(tmp_path / "mnt", "-o", "loop", path) as point:
        for name, (_node, content) in model.files.items():
            assert point.joinpath(*(part.decode() for part in name)).read_bytes() == content
        run("find", point, "-mindepth", "1", "-not", "-name", "lost+found", "-delete")
    judge_ext(path)


def test_a_full_volume_is_said_and_nothing_is_written_beside_it(tmp_path: Path) -> None:
    path = make_ext(tmp_path / "v.img", 2)
    editor = ExtEditor(StagedStore(open_image(path)), NOW, "partition 9")
    with pytest.raises(NoSpaceError, match="partition 9 is full"):
        editor.create_file(editor.root, b"big", bytes(3_000_000), 0o644)


def test_times_and_owners_of_what_is_not_edited_stay(tmp_path: Path) -> None:
    path = make_ext(tmp_path / "v.img", 8)
    editor = ExtEditor(open_writable(path), NOW)
    above = editor.create_folder(editor.root, b"above", 0o755)
    file = editor.create_file(above, b"file", b"x", 0o600, 5, 6)
    editor.finish()
    later = ExtEditor(open_writable(path), NOW + 500)
    later.replace_content(file, b"other")
    later.create_file(above, b"new", b"", 0o644)
    later.set_mode(file, 0o4711)
    later.set_owner(file, 70_001, 8)
    later.finish()
    facts = later.get_facts(file)
    assert (facts.mode, facts.uid, facts.gid, facts.changed_at) == (0o4711, 70_001, 8, NOW + 500)
    assert later.get_facts(above).changed_at == NOW
    judge_ext(path)


def open_writable(path: Path) -> RawImage:
    return RawImage(HostFile(path, writable=True))
