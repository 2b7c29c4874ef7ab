"""Features beyond the ordinary, made by mke2fs, the kernel and debugfs, judged by e2fsck."""

from __future__ import annotations

import os
import random
from pathlib import Path

import pytest

from tests.disks import make_ext, write_tree
from tests.filesystems.test_ext_edit import NOW, open_writable
from tests.filesystems.test_ext_slack import content_of
from tests.oracles import find_texts, judge_ext, mounted, run
from tests.patching import write_patches
from zeroseal.errors import InUseError, UnsupportedError
from zeroseal.filesystems.editing import EntryExistsError
from zeroseal.filesystems.ext import layout
from zeroseal.filesystems.ext.check import check_volume
from zeroseal.filesystems.ext.edit import ExtEditor
from zeroseal.filesystems.ext.hashing import fold_case
from zeroseal.filesystems.ext.quota import Quota, QuotaFile, parse_quota_file
from zeroseal.filesystems.ext.quota_edit import build_quota_file
from zeroseal.filesystems.ext.read import ExtTree
from zeroseal.filesystems.ext.slack import iter_slack
from zeroseal.filesystems.ext.unused import iter_free_space, iter_journal_body
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.images.detect import open_image


def edit(path: Path) -> ExtEditor:
    return ExtEditor(open_writable(path), NOW)


def judge(path: Path) -> None:
    judge_ext(path)
    assert check_volume(open_image(path)) == []


def node_of(tree: ExtTree, path: str) -> int:
    node = tree.root
    for name in path.strip("/").split("/"):
        entry = tree.find_child(node, name.encode())
        assert entry, path
        node = entry.node
    return node


# content in the inode


def test_files_folders_and_links_in_their_inodes_are_read_changed_and_removed(
    tmp_path: Path,
) -> None:
    path = make_ext(tmp_path / "v.img", 16, "-t", "ext4", "-O", "inline_data")
    with mounted(tmp_path / "m", "-o", "loop", path) as point:
        for size in (0, 1, 59, 60, 61, 100, 150, 160, 161, 5000):
            (point / f"f{size}").write_bytes(b"%d" % (size % 10) * size)
        (point / "small").mkdir()
        for number in range(9):
            (point / "small" / f"nc{number}").mkdir()
        (point / "link").symlink_to("t" * 90)
        os.setxattr(point / "f100", "user.note", b"attribute")
        run("sync")
        for number in range(0, 9, 2):
            (point / "small" / f"nc{number}").rmdir()
        (point / "shrunk").write_bytes(b"shrunk-canary" * 10)
        os.truncate(point / "shrunk", 3)
    tree = ExtTree(open_image(path))
    assert tree.get_inode(node_of(tree, "small")).is_inline
    assert tree.get_inode(node_of(tree, "f100")).is_inline
    assert tree.read_attributes(node_of(tree, "f100")) == {b"user.note": b"attribute"}
    assert tree.read_link(node_of(tree, "link")) == b"t" * 90
    judge(path)
    editor = edit(path)
    editor.replace_content(node_of(editor, "f60"), b"other")
    editor.truncate(node_of(editor, "f150"), 7)
    editor.remove(editor.root, b"f160")
    small = node_of(editor, "small")
    editor.remove(small, b"nc1")
    editor.finish()
    judge(path)
    editor.create_file(small, b"new", b"n" * 70, 0o644)
    editor.set_mode(node_of(editor, "f59"), 0o600)
    editor.finish()
    judge(path)
    with mounted(tmp_path / "again", "-o", "loop", path) as point:
        assert (point / "f60").read_bytes() == b"other"
        assert (point / "f150").read_bytes() == b"0" * 7
        assert (point / "f100").read_bytes() == b"0" * 100
        assert os.getxattr(point / "f100", "user.note") == b"attribute"
        assert sorted(entry.name for entry in (point / "small").iterdir()) == [
            "nc3", "nc5", "nc7", "new"
        ]  # fmt: skip
    before = content_of(path)
    write_patches(open_writable(path), iter_slack(ExtVolume(open_writable(path))))
    assert list(iter_slack(ExtVolume(open_image(path)))) == []
    judge(path)
    assert content_of(path) == before


def test_slack_of_content_in_an_inode_is_zeroed(tmp_path: Path) -> None:
    source = tmp_path / "t"
    write_tree(source, {"/file": "x" * 100, "/short": "y", "/folder/one": "", "/folder/other": ""})
    path = make_ext(tmp_path / "v.img", 8, "-t", "ext4", "-O", "inline_data", tree=source)
    tree = ExtTree(open_image(path))
    slots = {name: tree.volume.inode_offset(node_of(tree, name)) for name in ("short", "folder")}
    run("debugfs", "-w", "-R", "set_inode_field file size 61", path)
    with path.open("r+b") as disk:
        disk.seek(slots["short"] + 0x28 + 30)
        disk.write(b"canary-file")
        disk.seek(slots["folder"] + 0x28 + 44)
        disk.write(b"canary-names")
    run("debugfs", "-w", "-f", "-", path, feed="sif short mode 0100600\nsif folder mode 040700\n")
    write_patches(open_writable(path), iter_slack(ExtVolume(open_writable(path))))
    judge(path)
    raw = path.read_bytes()
    assert b"canary" not in raw
    assert b"x" * 61 not in raw.replace(b"x" * 60, b"")
    assert set(content_of(path)) >= {"/folder/one", "/folder/other"}


# clusters


def test_a_cut_file_keeps_its_part_of_a_cluster_and_the_rest_is_zeroed(tmp_path: Path) -> None:
    path = make_ext(
        tmp_path / "v.img", 16, "-t", "ext4", "-b", "1024", "-O", "bigalloc", "-C", "16384"
    )
    with mounted(tmp_path / "m", "-o", "loop", path) as point:
        (point / "file").write_bytes(b"cluster-canary--" * 5000)
        (point / "sparse").write_bytes(b"")
        with (point / "sparse").open("r+b") as file:
            for at in (0, 3000, 9000, 40_000):
                file.seek(at)
                file.write(b"island")
        (point / "folder").mkdir()
        for number in range(200):
            (point / "folder" / f"{'n' * 80}{number}").touch()
    judge(path)
    editor = edit(path)
    editor.truncate(node_of(editor, "file"), 2050)
    editor.truncate(node_of(editor, "sparse"), 5000)
    for number in range(60):
        editor.create_file(node_of(editor, "folder"), b"more-%d" % number * 9, b"", 0o644)
    editor.finish()
    judge(path)
    for offset, length in list(iter_journal_body(editor.volume)):
        open_writable(path).zero(offset, length)
    raw = path.read_bytes()
    assert raw.count(b"cluster-canary--") == 2050 // 16
    with mounted(tmp_path / "again", "-o", "loop", path) as point:
        assert (point / "sparse").read_bytes()[3000:3006] == b"island"
        assert (point / "file").read_bytes()[2040:] == b"canary--cl"
        run("rm", "-r", point / "folder", point / "file")
    judge(path)


def test_blocks_of_a_cluster_that_nobody_owns_are_free_space(tmp_path: Path) -> None:
    source = tmp_path / "t"
    write_tree(source, {"/small": "s" * 100, "/large": "l" * 9000})
    path = make_ext(
        tmp_path / "v.img", 16, "-t", "ext4", "-b", "1024", "-O", "bigalloc", "-C", "32768",
        tree=source,
    )  # fmt: skip
    tree = ExtTree(open_image(path))
    run_ = next(tree.iter_runs(node_of(tree, "small")))
    with path.open("r+b") as disk:
        disk.seek((run_.physical + 20) * 1024)
        disk.write(b"canary-in-a-cluster")
        disk.seek(10)
        disk.write(b"a boot loader")
    store = open_writable(path)
    for offset, length in list(iter_free_space(ExtVolume(store))):
        store.zero(offset, length)
    store.close()
    judge(path)
    assert find_texts(path, [b"canary-in-a-cluster", b"a boot loader"]) == {b"a boot loader"}
    assert content_of(path)["/large"].endswith(b"l" * 9000)


# attributes in inodes of their own


def test_values_in_inodes_of_their_own_are_read_counted_and_go_with_their_last_user(
    tmp_path: Path,
) -> None:
    path = make_ext(tmp_path / "v.img", 16, "-t", "ext4", "-b", "1024", "-O", "ea_inode,quota")
    run("tune2fs", "-O", "^quota", path)  # this kernel mounts none
    value = b"large-value-canary" * 500
    with mounted(tmp_path / "m", "-o", "loop", path) as point:
        for name in ("one", "other", "third"):
            (point / name).write_text(name)
            os.setxattr(point / name, "user.large", value)
            os.setxattr(point / name, "user.small", b"small")
        os.setxattr(point / "third", "user.own", b"own-canary" * 300)
    run("tune2fs", "-O", "quota", path)
    run("e2fsck", "-fy", path, status=1)  # tune2fs does not count the values
    judge(path)
    tree = ExtTree(open_image(path))
    assert tree.read_attributes(node_of(tree, "third")) == {
        b"user.large": value, b"user.small": b"small", b"user.own": b"own-canary" * 300
    }  # fmt: skip
    for name, left in (("one", True), ("third", True), ("other", False)):
        editor = edit(path)
        editor.remove(editor.root, name.encode())
        editor.finish()
        judge(path)
        for offset, length in list(iter_journal_body(editor.volume)):
            open_writable(path).zero(offset, length)
        assert (b"large-value-canary" in path.read_bytes()) == left
    assert b"own-canary" not in path.read_bytes()


def test_a_wrong_count_of_a_values_users_is_found(tmp_path: Path) -> None:
    path = make_ext(tmp_path / "v.img", 8, "-t", "ext4", "-O", "ea_inode,^metadata_csum")
    with mounted(tmp_path / "m", "-o", "loop", path) as point:
        (point / "f").write_text("f")
        os.setxattr(point / "f", "user.large", b"v" * 9000)
    tree = ExtTree(open_image(path))
    holder = next(
        number
        for number in range(11, 40)
        if tree.volume.read_inode(number).flags & layout.INODE_EA_INODE
    )
    run("debugfs", "-w", "-R", f"set_inode_field <{holder}> version 5", path)
    assert any("value is used 1 times" in item.what for item in check_volume(open_image(path)))


# quota


def test_quota_files_say_what_is_used_and_keep_limits(tmp_path: Path) -> None:
    source = tmp_path / "t"
    write_tree(source, {f"/home/file{number}": "q" * 5000 * number for number in range(9)})
    path = make_ext(
        tmp_path / "v.img", 24, "-t", "ext4", "-O", "quota,project",
        "-E", "quotatype=usrquota:grpquota:prjquota", tree=source,
    )  # fmt: skip
    owners = "".join(
        f"sif home/file{number} uid {1000 + number * 300}\nsif home/file{number} gid 70000\n"
        for number in range(9)
    )
    run("debugfs", "-w", "-f", "-", path, feed=owners)
    run("e2fsck", "-fy", path, status=1)
    editor = edit(path)
    home = node_of(editor, "home")
    editor.remove(home, b"file3")
    editor.set_owner(node_of(editor, "home/file4"), 123_456, 7)
    editor.create_file(home, b"new", b"n" * 30_000, 0o644, 2_000_000, 5)
    editor.finish()
    judge(path)
    told = run("debugfs", "-R", "list_quota user", path)
    assert " 1900 " not in told
    assert "123456" in told
    run("debugfs", "-w", "-R", "set_inode_field home/new uid 9", path)
    assert any(item.where == "quota" for item in check_volume(open_image(path)))


def test_quota_files_of_many_users_survive_a_round_trip() -> None:
    chance = random.Random(5)
    quotas = {
        chance.randrange(1 << 32): Quota(*(chance.randrange(1 << 40) for _ in range(8)))
        for _ in range(500)
    }
    file = QuotaFile(bytes(range(12)), quotas)
    raw = build_quota_file("group", file)
    assert parse_quota_file("group", raw) == file
    with pytest.raises(ValueError, match="does not start with a quota"):
        parse_quota_file("user", raw)
    with pytest.raises(ValueError, match="is outside the file or occurs twice"):
        parse_quota_file("group", raw[: len(raw) // 2048 * 1024])


# folders: three levels, and no case


def test_a_folder_with_three_levels_of_index(tmp_path: Path) -> None:
    path = make_ext(tmp_path / "v.img", 60, "-t", "ext4", "-b", "1024", "-O", "large_dir")
    run("tune2fs", "-E", "hash_alg=legacy", path)
    names = [b"%06d-%s" % (number, b"n" * 230) for number in range(40_000)]
    with mounted(tmp_path / "m", "-o", "loop", path) as point:
        (point / "large").mkdir()
        (point / "target").touch()
        for name in names:
            os.link(point / "target", point / "large" / name.decode())
    assert "Indirect levels: 2" in run("debugfs", "-R", "htree large", path)[:500]
    editor = edit(path)
    folder = node_of(editor, "large")
    for name in names[::4000]:
        editor.remove(folder, name)
        editor.create_file(folder, name[::-1], b"", 0o644)
    editor.finish()
    judge(path)
    listed = {entry.name for entry in ExtTree(open_image(path)).list_folder(folder)}
    assert listed == set(names) - set(names[::4000]) | {name[::-1] for name in names[::4000]}


def test_a_folder_that_ignores_case_keeps_its_order(tmp_path: Path) -> None:
    source = tmp_path / "t"
    (source / "folded").mkdir(parents=True)
    path = make_ext(
        tmp_path / "v.img", 16, "-t", "ext4", "-b", "1024", "-O", "casefold",
        "-E", "encoding=utf8", tree=source,
    )  # fmt: skip
    run("debugfs", "-w", "-R", "set_inode_field folded flags 0x40080000", path)
    editor = edit(path)
    folded = node_of(editor, "folded")
    for number in range(150):
        editor.create_file(folded, f"Straße-{number}-ÅÉ-{'N' * 30}".encode(), b"", 0o644)
    inner = editor.create_folder(folded, b"Inner", 0o755)
    assert editor.get_inode(inner).flags & layout.INODE_CASEFOLD
    for taken in ("INNER", "strasse-7-a\u030ae\u0301-" + "n" * 30):
        with pytest.raises(EntryExistsError, match="already"):
            editor.create_file(folded, taken.encode(), b"", 0o644)
    editor.remove(folded, f"Straße-9-ÅÉ-{'N' * 30}".encode())
    editor.finish()
    judge(path)
    with pytest.raises(UnsupportedError, match="not supported"):
        fold_case("\U0001fae0".encode())


# volumes that somebody has mounted, and where they were mounted


def test_a_volume_marked_as_mounted_elsewhere_is_refused(tmp_path: Path) -> None:
    path = make_ext(
        tmp_path / "v.img", 8, "-t", "ext4", "-b", "1024", "-O", "mmp,^metadata_csum",
        "-E", "mmp_update_interval=1",
    )  # fmt: skip
    names = "set_mmp_value nodename host-canary\nset_mmp_value bdevname device-canary\n"
    run("debugfs", "-w", "-f", "-", path, feed=names + "ssv last_mounted /media/mount-canary\n")
    canaries = [b"host-canary", b"device-canary", b"mount-canary"]
    assert find_texts(path, canaries) == set(canaries)
    place = ExtTree(open_image(path)).volume.superblock.mmp_block * 1024 + 4
    with path.open("r+b") as disk:
        disk.seek(place)
        sequence = disk.read(4)
        disk.seek(place)
        disk.write(b"\x07\0\0\0")
    with pytest.raises(InUseError, match="multiple-mount protection"):
        ExtTree(open_image(path))
    with path.open("r+b") as disk:
        disk.seek(place)
        disk.write(sequence)
    store = open_writable(path)
    write_patches(store, iter_slack(ExtVolume(store)))
    for offset, length in list(iter_journal_body(ExtVolume(store))):
        store.zero(offset, length)
    judge(path)
    assert find_texts(path, canaries) == set()


def test_a_file_protected_by_hashes_is_read_and_removed_but_not_changed(tmp_path: Path) -> None:
    source = tmp_path / "t"
    write_tree(source, {"/signed": "s" * 5000})
    path = make_ext(tmp_path / "v.img", 8, "-t", "ext4", "-O", "verity", tree=source)
    tree = ExtTree(open_image(path))
    place = next(tree.iter_runs(node_of(tree, "signed"))).physical * tree.volume.block_bytes
    with path.open("r+b") as disk:
        disk.seek(place + 5000)
        disk.write(b"hash tree")
    run("debugfs", "-w", "-R", "set_inode_field signed flags 0x180000", path)
    assert list(iter_slack(ExtVolume(open_image(path)))) == []
    editor = edit(path)
    signed = node_of(editor, "signed")
    assert editor.read_file(signed) == b"s" * 5000
    with pytest.raises(UnsupportedError, match="protected by fs-"):
        editor.replace_content(signed, b"other")
    with pytest.raises(UnsupportedError, match="protected by fs-"):
        editor.truncate(signed, 5)
    editor.remove(editor.root, b"signed")
    editor.finish()
    judge(path)


def test_new_files_get_the_label_and_the_project_of_their_folder(tmp_path: Path) -> None:
    source = tmp_path / "t"
    write_tree(source, {"/etc/old": "x"})
    path = make_ext(tmp_path / "v.img", 8, "-t", "ext4", "-O", "project,quota", tree=source)
    label = "system_u:object_r:etc_t:s0"
    run("debugfs", "-w", "-R", f"ea_set etc security.selinux {label}", path)
    run("debugfs", "-w", "-R", "set_inode_field etc flags 0x20080000", path)
    run("debugfs", "-w", "-R", "set_inode_field etc projid 77", path)
    run("e2fsck", "-fy", path, status=1)
    editor = edit(path)
    etc = node_of(editor, "etc")
    editor.create_file(etc, b"new", b"n", 0o644)
    editor.create_folder(etc, b"new.d", 0o755)
    editor.create_link(etc, b"link", b"new")
    editor.create_file(editor.create_folder(etc, b"deep", 0o755), b"below", b"", 0o644)
    editor.finish()
    judge(path)
    for name in ("new", "new.d", "link", "deep/below"):
        assert label in run("debugfs", "-R", f"ea_get etc/{name} security.selinux", path)
        assert editor.get_inode(node_of(editor, f"etc/{name}")).project == 77
