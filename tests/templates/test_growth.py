"""Clones with larger disks whose room is in use before their first start."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.disks import BARE_GUEST, MIB, ROOT_UUID, SEEDING, make_ext, write_tree
from tests.lvm import lvm_disk, opened_lvm, put
from tests.oracles import (
    cut_partition,
    cut_range,
    judge_ext,
    judge_qcow2,
    partition_range,
    run,
    to_raw,
)
from tests.sealing.test_new_volume_ids import SWAP_ID, make_linux_disk
from zeroseal.errors import UsageError
from zeroseal.filesystems.drivers import recognise
from zeroseal.images.in_place import InPlaceChange
from zeroseal.templates.shelf.entry import Template
from zeroseal.volumes.grow import move_swap

SEAL = ("--plant-first-boot", "--format", "qcow2")


def size_of_ext(volume: Path) -> int:
    """How large an ext file system calls itself, in bytes."""
    head = run("dumpe2fs", "-h", volume)
    count, size = (re.search(rf"{word}: +(\d+)", head) for word in ("Block count", "Block size"))
    assert count
    assert size
    return int(count[1]) * int(size[1])


@pytest.mark.parametrize("linked", [False, True], ids=["full", "linked"])
def test_swap_moves_and_the_root_file_system_is_as_large_as_it_can_be(
    tmp_path: Path, zeroseal: Command, linked: bool
) -> None:
    disk, sealed, yard = make_linux_disk(tmp_path), tmp_path / "s.qcow2", tmp_path / "yard"
    assert zeroseal("seal", disk, "-o", sealed, *SEAL).status == 0
    words = ["--name", "north", "--to", yard, "--grow-file-system", "--disk-size", "200M"]
    words += ["--linked"] if linked else []
    behind = zeroseal("clone", sealed, *words)
    assert behind.status == 4
    assert "swap at the end is moved with --move-swap" in behind.err
    assert not list(yard.glob("*"))
    made = zeroseal("clone", sealed, *words, "--move-swap")
    assert made.status == 0, made.err
    clone = yard / "north/disk.qcow2"
    judge_qcow2(clone)
    raw = to_raw(clone, tmp_path / "clone.raw")
    assert "No problems found" in run("sgdisk", "-v", raw)
    assert partition_range(raw, 3) == (197 * MIB, 2 * MIB)
    start, size = partition_range(raw, 2)
    assert start + size == 197 * MIB
    root = cut_partition(raw, 2, tmp_path / "root")
    judge_ext(root)
    assert size - size_of_ext(root) < MIB
    swap = cut_partition(raw, 3, tmp_path / "swap")
    assert run("blkid", "-p", "-s", "UUID", "-o", "value", swap).strip() == SWAP_ID
    assert f"UUID={ROOT_UUID} / ext4" in run("debugfs", "-R", "cat /etc/fstab", root)
    small = zeroseal("clone", sealed, "--name", "south", "--to", yard, "--grow-file-system")
    assert (small.status, "need --disk-size" in small.err) == (2, True)


def test_a_root_at_the_end_takes_the_room(
    template: Template, tmp_path: Path, zeroseal: Command
) -> None:
    words = ("--to", tmp_path / "yard", "--disk-size", "96M", "--grow-file-system")
    made = zeroseal("clone", template.disk, "--name", "north", *words)
    assert made.status == 0, made.err
    raw = to_raw(tmp_path / "yard/north/disk.qcow2", tmp_path / "clone.raw")
    root = cut_partition(raw, 2, tmp_path / "root")
    judge_ext(root)
    assert partition_range(raw, 2)[1] - size_of_ext(root) < MIB
    none = zeroseal("clone", template.disk, "--name", "south", *words, "--move-swap")
    assert none.status == 2
    assert "not swap behind another partition" in none.err


def test_swap_on_a_disk_with_a_master_boot_record(tmp_path: Path) -> None:
    disk = tmp_path / "disk.raw"
    with disk.open("wb") as file:
        file.truncate(40 * MIB)
    table = "label: dos\nstart=2048,size=40960\nstart=43008,size=8192,type=82\n"
    run("sfdisk", "-q", disk, feed=table)
    swap = tmp_path / "swap"
    with swap.open("wb") as file:
        file.truncate(4 * MIB)
    run("mkswap", "-q", "-U", SWAP_ID, "-L", "tide", swap)
    with disk.open("r+b") as file:
        file.seek(43008 * 512)
        file.write(swap.read_bytes()[:8192] + b"swapped out " * 1000)
        file.truncate(100 * MIB)
    with InPlaceChange(disk) as change:
        assert move_swap(change.image, recognise) == "partition 1"
        change.commit()
    lines = [
        line.replace(" ", "") for line in run("sfdisk", "-d", disk).splitlines() if "start=" in line
    ]
    assert "start=2048,size=194560," in lines[0]
    assert "start=196608,size=8192,type=82" in lines[1]
    moved = cut_range(disk, (96 * MIB, 4 * MIB), tmp_path / "moved")
    assert run("blkid", "-p", "-s", "LABEL", "-o", "value", moved).strip() == "tide"
    assert b"swapped out" not in disk.read_bytes()
    with InPlaceChange(disk) as change:
        move_swap(change.image, recognise)  # it is there already
        change.commit()
    assert run("blkid", "-p", "-s", "UUID", "-o", "value", moved).strip() == SWAP_ID


def test_without_swap_at_the_end_nothing_moves(tmp_path: Path) -> None:
    disk = tmp_path / "disk.raw"
    with disk.open("wb") as file:
        file.truncate(40 * MIB)
    run("sgdisk", "-n", "1:1M:+8M", disk)
    with InPlaceChange(disk) as change, pytest.raises(UsageError, match="not swap behind"):
        move_swap(change.image, recognise)


def test_a_logical_volume_with_the_root_takes_all_that_is_free(
    tmp_path: Path, zeroseal: Command
) -> None:
    disk, tree, sealed = tmp_path / "d.raw", tmp_path / "tree", tmp_path / "s.qcow2"
    tree.mkdir()
    write_tree(tree, BARE_GUEST | SEEDING | {
        "/etc/fstab": "/dev/tide-vg/root / ext4 rw 0 1\n/dev/tide-vg/srv /srv ext4 rw 0 2\n",
        "/srv/": "",
    })  # fmt: skip
    with lvm_disk(disk, 60) as lvm:
        lvm.create("root", 20)
        lvm.create("srv", 12)
        root = make_ext(tmp_path / "r.img", 20, "-t", "ext4", "-b", "1024", tree=tree)
        data = make_ext(tmp_path / "h.img", 12, "-t", "ext4", "-b", "1024")
        put(disk, lvm.places("root"), root.read_bytes())
        put(disk, lvm.places("srv"), data.read_bytes())
    done = zeroseal("seal", disk, "-o", sealed, *SEAL)
    assert done.status == 0, done.err
    words = ("--to", tmp_path / "yard", "--disk-size", "160M", "--grow-file-system")
    made = zeroseal("clone", sealed, "--name", "north", *words)
    assert made.status == 0, made.err
    raw = to_raw(tmp_path / "yard/north/disk.qcow2", tmp_path / "clone.raw")
    with opened_lvm(raw) as lvm:
        assert lvm.call("vgs", "--noheadings", "-o", "vg_free_count").split() == ["0"]
        assert lvm.call("lvs", "--noheadings", "-o", "seg_count", "tide-vg/root").split() == ["2"]
        lvm.call("pvck", *lvm.devices)
        places = lvm.places("root")
        assert places[0][1] == 20 * MIB
        grown = tmp_path / "grown"
        with raw.open("rb") as source, grown.open("wb") as target:
            for start, size in places:
                source.seek(start)
                target.write(source.read(size))
    judge_ext(grown)
    assert grown.stat().st_size - size_of_ext(grown) < MIB
    assert grown.stat().st_size > 120 * MIB
