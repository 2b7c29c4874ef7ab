"""A whole guest on XFS over LVM, with /boot on a partition of its own, from survey to clone."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.disks import BARE_GUEST, MACHINE_ID, SEEDING, write_tree
from tests.lvm import MIB, lvm_disk, put, take, volume_range
from tests.oracles import cut_range, find_texts, need, run, to_raw
from tests.xfs import FileStore, judge_xfs, kernel, make_xfs
from zeroseal.filesystems.xfs.check import check_volume
from zeroseal.filesystems.xfs.log import log_range
from zeroseal.filesystems.xfs.owners import find_owned
from zeroseal.filesystems.xfs.volume import XfsVolume

ROOT_MIB = 320
GONE = [
    MACHINE_ID, "pier-ref", "ada.brine", "host-private-key-canary", "home-canary", "log-canary",
    "deleted-canary", "$6$aaaa",
]  # fmt: skip


@pytest.fixture(scope="module")
def disk(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, list[tuple[int, int]]]:
    """(a raw disk, where its root volume lies); never changed."""
    need("mkfs.xfs", "pvcreate")
    folder = tmp_path_factory.mktemp("xfs-guest")
    root = make_xfs(folder / "root.xfs", "-m", "rmapbt=1", megabytes=ROOT_MIB)
    tree = BARE_GUEST | SEEDING | {
        "/etc/fstab": "/dev/mapper/tide--vg-root / xfs defaults 0 0\n"
        "/dev/mapper/tide--vg-swap none swap sw 0 0\n",
        "/usr/sbin/xfs_growfs": "",
        "/srv/fares.csv": "Saltmarsh-Heron Point,4.20\n",
    }  # fmt: skip
    with kernel(root) as point:
        write_tree(point, tree)
        run("chown", "-R", "1000:1000", point / "home/ada.brine")
        (point / "srv/of-ada").write_text("x")
        run("chown", "1000", point / "srv/of-ada")
        run("setfacl", "-m", "u:1000:rw", point / "srv/fares.csv")
        for number in range(200):
            (point / "srv" / f"deleted-canary-{number}").write_text("deleted-canary " * 400)
        for path in (point / "srv").glob("deleted-*"):
            path.unlink()
    raw = folder / "disk.raw"
    with lvm_disk(raw, ROOT_MIB + 20) as made:
        made.create("root", ROOT_MIB)
        made.create("swap", 8)
        places = {name: made.places(name) for name in ("root", "swap")}
    put(raw, places["root"], root.read_bytes())
    swap = folder / "swap"
    swap.write_bytes(bytes(8 * MIB))
    run("mkswap", "-q", swap)
    put(raw, places["swap"], swap.read_bytes()[: 7 * MIB] + b"deleted-canary " * 100)
    return raw, places["root"]


def test_a_guest_on_xfs_over_lvm_is_sealed_and_proven(
    disk: tuple[Path, list[tuple[int, int]]], tmp_path: Path, zeroseal: Command
) -> None:
    source, root_places = disk
    survey = json.loads(zeroseal("survey", source, "--json").out)
    kinds = {volume["name"]: volume["content"] for volume in survey["volumes"]}
    assert kinds["tide-vg/root"] == "xfs"
    told = " ".join(survey["readiness"]["hints"] + survey["readiness"]["advice"])
    assert "/srv/of-ada" in told
    assert "/srv/fares.csv" in told  # its access list names a removed account
    sealed = tmp_path / "sealed.qcow2"
    done = zeroseal("seal", source, "-o", sealed, "--format", "qcow2", "--expect-seed")
    assert done.status == 0, done.err
    assert "tide-vg/root is consistent" in " ".join(done.out.split())
    raw = to_raw(sealed, tmp_path / "sealed.raw")
    assert find_texts(raw, [text.encode() for text in GONE]) == set()
    assert find_texts(raw, [text.encode("utf-16-le") for text in GONE]) == set()
    root = tmp_path / "root.xfs"
    root.write_bytes(take(raw, root_places))
    judge_xfs(root)
    with kernel(root) as point:
        assert (point / "srv/fares.csv").read_text() == "Saltmarsh-Heron Point,4.20\n"
        assert (point / "etc/machine-id").read_bytes() == b""
        assert not (point / "home/ada.brine").exists()
        assert not list((point / "etc/ssh").glob("ssh_host_*"))
    assert zeroseal("check", sealed, "--deep", "--against", source).status == 0
    again = zeroseal("seal", sealed, "-o", tmp_path / "again.qcow2", "--expect-seed", "--json")
    assert json.loads(again.out)["treated"] == []


def test_the_shipped_server_disk_is_sound(tmp_path: Path) -> None:
    import zeroseal.demo

    shipped = Path(zeroseal.demo.__file__).parent / "tideline-4-server.qcow2"
    assert shipped.stat().st_size < 1_000_000
    raw = to_raw(shipped, tmp_path / "server.raw")
    assert "No problems found" in run("sgdisk", "-v", raw)
    place = volume_range(raw, 3, "root")
    assert place[1] == 304 * MIB
    root = cut_range(raw, place, tmp_path / "root.xfs")
    judge_xfs(root)
    with kernel(root, "ro") as point:
        assert "Tideline Linux 4" in (point / "etc/os-release").read_text()
    assert find_owned(XfsVolume(FileStore(root)), [1000]) == {}


def test_a_volume_that_got_another_uuid_still_mounts_after_a_seal(
    tmp_path: Path, zeroseal: Command
) -> None:
    """xfs_repair is content with a log of another UUID; the kernel is not."""
    volume = make_xfs(tmp_path / "v.raw", "-m", "rmapbt=1")
    tree = BARE_GUEST | SEEDING | {
        "/etc/fstab": "/dev/vda / xfs defaults 0 0\n", "/usr/sbin/xfs_growfs": "",
    }  # fmt: skip
    with kernel(volume) as point:
        write_tree(point, tree)
    run("xfs_admin", "-U", "33333333-2222-4333-8444-555555555555", volume)
    sealed = tmp_path / "sealed.raw"
    done = zeroseal("seal", volume, "-o", sealed, "--expect-seed")
    assert done.status == 0, done.err
    judge_xfs(sealed)


def test_the_checker_sees_a_log_of_another_volume(tmp_path: Path) -> None:
    volume = make_xfs(tmp_path / "v", "-m", "rmapbt=1")
    store = FileStore(volume)
    start, _length = log_range(XfsVolume(store).superblock)
    store.write(start + 304, b"another volume's")  # the field of the record's UUID
    judge = subprocess.run(["xfs_repair", "-n", "-f", volume], capture_output=True, check=False)
    assert judge.returncode == 0  # it does not look
    assert "another volume" in " ".join(map(str, check_volume(store, "v")))
