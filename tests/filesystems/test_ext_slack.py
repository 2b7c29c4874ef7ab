"""Slack: canaries laid by hand and by others into what nobody reads, gone afterwards."""

from __future__ import annotations

import random
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.disks import BARE_GUEST, make_disk, make_guest_volume
from tests.lvm import LvmDisk, lvm_disk, put
from tests.oracles import find_texts, judge_ext, mounted, run
from tests.patching import write_patches
from zeroseal.filesystems.ext.check import check_volume
from zeroseal.filesystems.ext.read import ExtTree
from zeroseal.filesystems.ext.slack import SlackKind, iter_slack
from zeroseal.filesystems.ext.unused import iter_journal_body
from zeroseal.filesystems.ext.volume import ExtVolume
from zeroseal.images.host_file import HostFile
from zeroseal.images.raw import RawImage

FEATURES = [
    ("ext4", "-b 1024"),
    ("ext4", "-b 4096 -I 256"),
    ("ext4", "-b 2048 -O ^metadata_csum,^64bit"),
    ("ext3", "-b 1024 -I 128"),
    ("ext2", "-b 4096 -O ^filetype"),
    ("ext4", "-b 4096 -O ^extent,^64bit,metadata_csum -I 512"),
]


def make_volume(tmp_path: Path, kind: str, options: str) -> Path:
    """Files of odd sizes, folders large and small, links, attributes, holes."""
    chance, tree = random.Random(3), tmp_path / "tree"
    for number in range(40):
        path = tree / f"folder{number % 5}" / f"file{number}"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(chance.randbytes(chance.choice([0, 1, 100, 4096, 5000, 70_000])))
    for number in range(900):
        (tree / "many").mkdir(exist_ok=True)
        (tree / "many" / f"{'n' * 60}{number}").touch()
    (tree / "short").symlink_to("target")
    (tree / "long").symlink_to("t" * 200)
    volume = tmp_path / "v.img"
    run("mke2fs", "-q", "-t", kind, *options.split(), "-d", tree, volume, "24M")
    return volume


def age(volume: Path, tmp_path: Path) -> None:
    """Names are removed and stay behind: newer kernels wipe them, older ones and debugfs do not."""
    names = [f"/folder1/canary-in-a-folder-{number}" for number in range(60)]
    with mounted(tmp_path / "m", "-o", "loop", volume) as root:
        for name in names:
            (root / name[1:]).write_bytes(b"x")
        run("setfattr", "-n", "user.tide", "-v", "v" * 60, root / "folder2" / "file2")
    names += [f"/many/{'n' * 60}{number}" for number in range(0, 900, 2)]
    (tmp_path / "script").write_text("".join(f"rm {name}\n" for name in names))
    run("debugfs", "-w", "-f", tmp_path / "script", volume)
    assert find_texts(volume, [b"canary-in-a-folder"])


def lay_in_file_slack(volume: Path) -> int:
    """Puts a canary behind the end of every file that has room there, past the file system."""
    laid = 0
    tree = ExtTree(RawImage(HostFile(volume)), "v")
    block = tree.volume.block_bytes
    with volume.open("r+b") as disk:
        pending = [tree.root]
        while pending:
            for entry in tree.list_folder(pending.pop()):
                facts = tree.get_facts(entry.node)
                if entry.kind.value == "folder":
                    pending.append(entry.node)
                if entry.kind.value != "file" or not facts.size_bytes % block:
                    continue
                run_ = list(tree.iter_runs(entry.node))[-1]
                end = (run_.physical + run_.blocks) * block
                if block - facts.size_bytes % block >= 20:
                    disk.seek(end - 20)
                    disk.write(b"canary-behind-a-file")
                    laid += 1
    return laid


@pytest.mark.parametrize(("kind", "options"), FEATURES, ids=str)
def test_slack_is_found_and_zeroed(tmp_path: Path, kind: str, options: str) -> None:
    volume = make_volume(tmp_path, kind, options)
    age(volume, tmp_path)
    assert lay_in_file_slack(volume) > 5
    before = content_of(volume)
    store = RawImage(HostFile(volume, writable=True))
    found = {SlackKind(patch.what) for patch in iter_slack(ExtVolume(store, "v"))}
    assert SlackKind.FILE in found
    assert SlackKind.FOLDER in found
    assert write_patches(store, iter_slack(ExtVolume(store, "v"))) > 100
    assert list(iter_slack(ExtVolume(store, "v"))) == []
    assert check_volume(store, "v") == []
    for offset, length in iter_journal_body(ExtVolume(store, "v")):  # it has the names as well
        store.zero(offset, length)
    store.close()
    judge_ext(volume)
    assert content_of(volume) == before
    assert find_texts(volume, [b"canary-behind-a-file", b"canary-in-a-folder"]) == set()
    with mounted(tmp_path / "after", "-o", "loop", volume) as root:
        assert len(list((root / "many").iterdir())) == 450
        for path in root.rglob("*"):
            if path.is_file():
                path.read_bytes()
        run("rm", "-r", root / "many")
    judge_ext(volume)


def content_of(volume: Path) -> dict[str, bytes]:
    """Every path with its content or target, and its attributes, by our reader."""
    tree = ExtTree(RawImage(HostFile(volume)), "v")
    found, pending = {}, [("", tree.root)]
    while pending:
        path, node = pending.pop()
        for entry in tree.list_folder(node):
            name = f"{path}/{entry.name.decode()}"
            attributes = repr(sorted(tree.read_attributes(entry.node).items())).encode()
            match entry.kind.value:
                case "folder":
                    pending.append((name, entry.node))
                    found[name] = attributes
                case "file":
                    found[name] = attributes + tree.read_file(entry.node)
                case "link":
                    found[name] = attributes + tree.read_link(entry.node)
    return found


def test_unwritten_blocks_and_blocks_behind_the_end_are_zeroed(tmp_path: Path) -> None:
    volume = tmp_path / "v.img"
    run("mke2fs", "-q", "-t", "ext4", "-b", "4096", volume, "16M")
    with mounted(tmp_path / "m", "-o", "loop", volume) as root:
        (root / "old").write_bytes(b"canary-in-old-blocks" * 200_000)
        run("sync")
        (root / "old").unlink()
        run("sync")
        run("fallocate", "-l", "6M", root / "within")
        (root / "behind").write_bytes(b"short")
        run("fallocate", "-n", "-l", "2M", root / "behind")
    assert find_texts(volume, [b"canary-in-old-blocks"])
    store = RawImage(HostFile(volume, writable=True))
    kinds = {SlackKind(patch.what) for patch in iter_slack(ExtVolume(store, "v"))}
    assert SlackKind.UNWRITTEN in kinds
    write_patches(store, iter_slack(ExtVolume(store, "v")))
    store.close()
    judge_ext(volume)
    with mounted(tmp_path / "again", "-o", "loop", volume) as root:
        assert (root / "behind").read_bytes() == b"short"
        assert not any((root / "within").read_bytes())


def test_remains_in_inodes_and_among_attributes_are_zeroed(tmp_path: Path) -> None:
    volume = tmp_path / "v.img"
    (tmp_path / "t").mkdir()
    for name in ("a", "b", "c"):
        (tmp_path / "t" / name).write_text(name)
    (tmp_path / "t" / "link").symlink_to("x")
    run("mke2fs", "-q", "-t", "ext4", "-O", "^metadata_csum", "-b", "1024",
        "-d", tmp_path / "t", volume, "4M")  # fmt: skip
    with mounted(tmp_path / "m", "-o", "loop", volume) as root:
        run("setfattr", "-n", "user.small", "-v", "kept", root / "a")
        run("setfattr", "-n", "user.large", "-v", "L" * 500, root / "b")
    tree = ExtTree(RawImage(HostFile(volume)), "v")
    nodes = {entry.name: entry.node for entry in tree.list_folder(tree.root)}
    with volume.open("r+b") as disk:
        for of, place in ((b"a", 200), (b"c", 170), (b"link", 0x28 + 20), (b"b", 200)):
            disk.seek(tree.volume.inode_offset(nodes[of]) + place)
            disk.write(b"canary-inode")
        block = tree.volume.read_inode(nodes[b"b"]).xattr_block
        disk.seek(block * 1024 + 300)
        disk.write(b"canary-block")
    store = RawImage(HostFile(volume, writable=True))
    kinds = {SlackKind(patch.what) for patch in iter_slack(ExtVolume(store, "v"))}
    assert kinds >= {SlackKind.INODE, SlackKind.ATTRIBUTES}
    write_patches(store, iter_slack(ExtVolume(store, "v")))
    assert find_texts(volume, [b"canary-inode", b"canary-block"]) == set()
    judge_ext(volume)
    fresh = ExtTree(RawImage(HostFile(volume)), "v")
    assert fresh.read_attributes(nodes[b"a"]) == {b"user.small": b"kept"}
    assert fresh.read_attributes(nodes[b"b"]) == {b"user.large": b"L" * 500}
    assert fresh.read_link(nodes[b"link"]) == b"x"


def test_a_seal_zeroes_slack_gaps_and_what_lies_behind_the_file_system(
    tmp_path: Path, zeroseal: Command
) -> None:
    volume = make_guest_volume(tmp_path, BARE_GUEST)
    with volume.open("r+b") as file:
        file.seek(0, 2)
        file.truncate(volume.stat().st_size + (1 << 20))
        file.seek(volume.stat().st_size - 5000)
        file.write(b"canary-behind-the-file-system")
    assert lay_in_file_slack(volume)
    other = tmp_path / "other"
    other.write_bytes(bytes(2 << 20))
    disk = make_disk(tmp_path / "d.raw", ("8300", volume), ("8300", other))
    run("sgdisk", "-d", "2", disk)
    with disk.open("r+b") as file:
        for offset in (900 << 10, disk.stat().st_size - (1 << 20) - 100_000):
            file.seek(offset)
            file.write(b"canary-in-a-gap")
    canaries = [b"canary-behind-the-file-system", b"canary-in-a-gap", b"canary-behind-a-file"]
    assert find_texts(disk, canaries) == set(canaries)
    sealed = tmp_path / "s.raw"
    policy = ("--expect-seed", "--plant-first-boot")
    told = zeroseal("survey", disk, "--as-if", *policy).out
    assert "disk.slack" in told
    assert "disk.gaps" in told
    assert zeroseal("seal", disk, "-o", sealed, *policy).status == 0
    assert find_texts(sealed, canaries) == set()
    assert "No problems found" in run("sgdisk", "-v", sealed)


def test_a_boot_loader_before_the_first_partition_stays_and_is_named(
    tmp_path: Path, zeroseal: Command
) -> None:
    volume = make_guest_volume(tmp_path, BARE_GUEST)
    disk = tmp_path / "d.raw"
    with disk.open("wb") as file:
        file.truncate((4 << 20) + volume.stat().st_size)
        file.seek(1 << 20)
        file.write(volume.read_bytes())
        file.seek(512)
        file.write(b"boot loader" * 1000)
        file.seek((2 << 20) + volume.stat().st_size)
        file.write(b"canary-at-the-end")
    sectors = -(-volume.stat().st_size // 512)
    run("sfdisk", "-q", "--no-reread", disk, feed=f"2048,{sectors},83,*\n")
    sealed = tmp_path / "s.raw"
    answer = zeroseal("seal", disk, "-o", sealed, "--expect-seed", "--plant-first-boot")
    assert answer.status == 0, answer.err
    assert "assumed to be a boot loader" in answer.out
    raw = sealed.read_bytes()
    assert raw[: 1 << 20] == disk.read_bytes()[: 1 << 20]
    assert b"canary-at-the-end" not in raw


def test_what_lvm_does_not_use_is_zeroed(tmp_path: Path, zeroseal: Command) -> None:
    volume = make_guest_volume(tmp_path, BARE_GUEST)
    raw = tmp_path / "d.raw"
    with lvm_disk(raw, 60) as disk:
        disk.create("root", -(-volume.stat().st_size // (1 << 20)))
        disk.create("canary-of-a-volume", 4)
        canary = disk.places("canary-of-a-volume")
        disk.call("lvremove", "-f", "tide-vg/canary-of-a-volume")
        root = disk.places("root")
    put(raw, root, volume.read_bytes())
    put(raw, canary, b"canary-in-free-extents" * 1000)
    canaries = [b"canary-in-free-extents", b"canary-of-a-volume"]
    assert find_texts(raw, canaries) == set(canaries)
    sealed = tmp_path / "s.raw"
    answer = zeroseal("seal", raw, "-o", sealed, "--expect-seed", "--plant-first-boot")
    assert answer.status == 0, answer.err
    # the live text names what was done last; the volume's name is in that
    assert find_texts(sealed, canaries) <= {b"canary-of-a-volume"}
    assert sealed.read_bytes().count(b"canary-of-a-volume") <= 1
    device = run(
        "losetup", "--show", "-f", "-o", str(1 << 20), "--sizelimit", str(60 << 20), sealed
    )
    try:
        told = LvmDisk(sealed, {device.strip(): 1 << 20}).call("vgck", "-v", "tide-vg")
        assert "orrupt" not in told
    finally:
        run("losetup", "-d", device.strip())


def test_tables_of_logical_partitions_stay_and_gaps_between_them_go(
    tmp_path: Path, zeroseal: Command
) -> None:
    volume = make_guest_volume(tmp_path, BARE_GUEST)
    sectors = -(-volume.stat().st_size // 512)
    disk = tmp_path / "d.raw"
    with disk.open("wb") as file:
        file.truncate((12 << 20) + volume.stat().st_size)
    table = f"start=2048,size=2048,type=83\nstart=4096,type=5\nstart=6144,size={sectors},type=83\n"
    start = -(-(6144 + sectors + 2048) // 2048) * 2048
    run(
        "sfdisk",
        "-q",
        "--no-reread",
        disk,
        feed=f"label: dos\n{table}start={start},size=2048,type=83\n",
    )
    with disk.open("r+b") as file:
        file.seek(6144 * 512)
        file.write(volume.read_bytes())
        for place in (5000 * 512, (start - 1000) * 512, (start + 2048) * 512):
            file.seek(place)
            file.write(b"canary-in-a-gap")
    before = run("sfdisk", "-d", disk)
    assert find_texts(disk, [b"canary-in-a-gap"])
    sealed = tmp_path / "s.raw"
    answer = zeroseal("seal", disk, "-o", sealed, "--expect-seed", "--plant-first-boot")
    assert answer.status == 0, answer.err
    assert find_texts(sealed, [b"canary-in-a-gap"]) == set()
    assert run("sfdisk", "-d", sealed).replace(str(sealed), "") == before.replace(str(disk), "")
