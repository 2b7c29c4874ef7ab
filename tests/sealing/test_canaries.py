"""Canaries in every place of a disk, laid by other programs; a plain search of the sealed bytes."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.disks import BARE_GUEST, MACHINE_ID, MIB, make_disk, make_ext, write_tree
from tests.oracles import cut_partition, find_texts, judge_ext, mounted, run

KINDS = [
    ["-t", "ext4", "-b", "1024"],
    ["-t", "ext4", "-b", "4096", "-O", "inline_data,orphan_file,metadata_csum_seed"],
    ["-t", "ext4", "-b", "1024", "-O", "bigalloc", "-C", "8192"],
    ["-t", "ext4", "-b", "2048", "-O", "ea_inode,^metadata_csum,^64bit"],
    ["-t", "ext3", "-b", "1024", "-I", "128"],
]
IN_FILES = ["content", "name", "cut", "target", "attribute", "large-attribute", "log", "home"]
BESIDE = ["debugfs-name", "slack", "swap", "gap", "free-block", "mount"]


def canary(place: str) -> bytes:
    return f"canary-{place}-{MACHINE_ID[:8]}".encode()


def lay_with_kernel(point: Path) -> None:
    """Files come and go under a running kernel; what it leaves behind is its own doing."""
    (point / "srv").mkdir()
    (point / "srv" / "gone").write_bytes(canary("content") * 3000)
    (point / "srv" / canary("name").decode()).touch()
    (point / "srv" / "cut").write_bytes(b"kept" + canary("cut") * 900)
    (point / "srv" / "link").symlink_to("/" + canary("target").decode() * 5)
    (point / "srv" / "attributes").write_text("x")
    os.setxattr(point / "srv" / "attributes", "user.a", canary("attribute") * 8)
    if point.joinpath("ea").exists():
        os.setxattr(point / "srv" / "attributes", "user.b", canary("large-attribute") * 300)
    (point / "var" / "log").mkdir(parents=True, exist_ok=True)
    (point / "var" / "log" / "tide.log").write_bytes(canary("log") * 40)
    (point / "home" / "ada.brine").mkdir(parents=True, exist_ok=True)
    (point / "home" / "ada.brine" / "letter").write_bytes(canary("home") * 200)
    for number in range(60):
        (point / "srv" / f"filler{number}").write_bytes(b"f" * 3000)
    run("sync")
    for name in ("gone", canary("name").decode(), "link", "attributes"):
        (point / "srv" / name).unlink()
    os.truncate(point / "srv" / "cut", 4)


def lay_beside(volume: Path, swap: Path, size: int) -> None:
    """Names that debugfs removes without wiping, and bytes where no program looks."""
    name = canary("debugfs-name").decode()
    script = (
        f"mkdir srv/{name}\nrmdir srv/{name}\nssv last_mounted /media/{canary('mount').decode()}\n"
    )
    run("debugfs", "-w", "-f", "-", volume, feed=script)
    block = int(run("debugfs", "-R", "blocks srv/filler7", volume).split()[-1])
    free = int(run("debugfs", "-R", "ffb 1 9000", volume).split()[-1])
    with volume.open("r+b") as disk:
        disk.seek((block + 1) * size - 60)
        disk.write(canary("slack"))
        disk.seek(free * size + 100)
        disk.write(canary("free-block"))
    with swap.open("r+b") as disk:
        disk.seek(300_000)
        disk.write(canary("swap"))


@pytest.mark.parametrize("options", KINDS, ids=" ".join)
def test_no_canary_is_left_anywhere_on_a_sealed_disk(
    tmp_path: Path, zeroseal: Command, options: list[str]
) -> None:
    tree = dict(BARE_GUEST)
    if any("ea_inode" in word for word in options):
        tree["/ea"] = ""
    write_tree(tmp_path / "tree", tree)
    volume = make_ext(tmp_path / "v.img", 24, *options, tree=tmp_path / "tree")
    with mounted(tmp_path / "m", "-o", "loop", volume) as point:
        lay_with_kernel(point)
    swap, hole = tmp_path / "swap", tmp_path / "hole"
    swap.write_bytes(bytes(2 * MIB))
    hole.write_bytes(bytes(MIB))
    run("mkswap", "-q", swap)
    lay_beside(volume, swap, int(options[options.index("-b") + 1]))
    disk = make_disk(tmp_path / "d.raw", ("8300", volume), ("8200", swap), ("8300", hole))
    run("sgdisk", "-d", "3", disk)
    with disk.open("r+b") as file:
        file.seek((1 + 24 + 2) * MIB + 7000)
        file.write(canary("gap"))
    everywhere = [canary(place) for place in (*IN_FILES, *BESIDE)]
    laid = find_texts(disk, everywhere)
    assert laid >= {
        canary(place) for place in ("log", "home", "debugfs-name", "mount", *BESIDE[1:5])
    }
    sealed = tmp_path / "s.raw"
    answer = zeroseal("seal", disk, "-o", sealed, "--expect-seed", "--plant-first-boot")
    assert answer.status == 0, answer.err
    names = [b"ada.brine", b"pier-ref", MACHINE_ID.encode(), bytes.fromhex(MACHINE_ID)]
    assert find_texts(sealed, everywhere + names) == set()
    cut = cut_partition(sealed, 1, tmp_path / "cut")
    judge_ext(cut)
    with mounted(tmp_path / "after", "-o", "loop", cut) as point:
        assert (point / "srv" / "cut").read_bytes() == b"kept"
        assert all((point / "srv" / f"filler{n}").read_bytes() == b"f" * 3000 for n in range(60))
        run("rm", "-r", point / "srv", point / "etc")
    judge_ext(cut)
    assert zeroseal("check", sealed, "--deep", "--against", disk).status == 0
