"""Whole guests on btrfs, laid out as two large families of distributions do, with snapshots."""

from __future__ import annotations

import json
import os
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.disks import BARE_GUEST, MACHINE_ID, SEEDING, write_tree
from tests.filesystems.test_btrfs_edit import judge
from tests.filesystems.test_btrfs_read import make, mounted
from tests.oracles import find_texts, run, to_raw

UUID = "44444444-2222-4333-8444-555555555555"
GONE = [
    MACHINE_ID, "pier-ref", "ada.brine", "host-private-key-canary", "home-canary", "log-canary",
    "deleted-canary", "$6$aaaa", "older-canary",
]  # fmt: skip
TREE = BARE_GUEST | SEEDING | {"/usr/sbin/btrfs": "", "/srv/fares.csv": "Heron Point,4.20\n"}
SNAPSHOT_RECORD = "<snapshot><type>pre</type><num>2</num><userdata/></snapshot>\n"
BESIDE_ROOT = (".snapshots", "boot/grub2/x86_64-efi", "home", "root", "srv", "var")


def fstab(lines: dict[str, str]) -> str:
    return "".join(f"UUID={UUID} {path} btrfs {options} 0 0\n" for path, options in lines.items())


def with_deleted(folder: Path) -> None:
    for number in range(60):
        (folder / f"deleted-canary-{number}").write_text("deleted-canary " * 400)
    os.sync()
    for path in folder.glob("deleted-*"):
        path.unlink()


def make_suse_like(path: Path) -> Path:
    """The root is a snapshot below @/.snapshots, and the default; the rest are subvolumes beside.

    An older state of the root and one of the homes are kept as snapshots; quota groups are on.
    """
    volume = make(path, "-U", UUID, "-L", "root", megabytes=400)
    table = {"/": "defaults"} | {f"/{name}": f"subvol=/@/{name}" for name in BESIDE_ROOT}
    with mounted(volume) as point:
        run("btrfs", "quota", "enable", point)
        run("btrfs", "subvolume", "create", point / "@")
        for name in BESIDE_ROOT:
            (point / "@" / name).parent.mkdir(parents=True, exist_ok=True)
            run("btrfs", "subvolume", "create", point / "@" / name)
        (point / "@/.snapshots/1").mkdir()
        root = point / "@/.snapshots/1/snapshot"
        run("btrfs", "subvolume", "create", root)
        run("btrfs", "subvolume", "set-default", root)
        (point / "@/.snapshots/1/info.xml").write_text(SNAPSHOT_RECORD)
        for name in BESIDE_ROOT:
            (root / name).mkdir(parents=True)
        for place, content in TREE.items():
            beside = next((name for name in BESIDE_ROOT if place.startswith(f"/{name}/")), None)
            write_tree(point / "@" if beside else root, {place: content})
        (root / "etc/fstab").write_text(fstab(table))
        (root / "etc/older").write_text("older-canary\n" * 2000)
        with_deleted(root / "etc")
        (point / "@/.snapshots/2").mkdir()
        (point / "@/.snapshots/2/info.xml").write_text(SNAPSHOT_RECORD)
        run("btrfs", "subvolume", "snapshot", "-r", root, point / "@/.snapshots/2/snapshot")
        run("btrfs", "subvolume", "snapshot", "-r", point / "@/home", point / "@/home/kept")
        (root / "etc/older").unlink()
        run("btrfs", "quota", "rescan", "-w", point)
    return volume


def make_fedora_like(path: Path) -> Path:
    """Root and home are subvolumes at the top, compressed, and named by fstab."""
    volume = make(path, "-U", UUID, "-L", "fedora", megabytes=400)
    table = {"/": "subvol=root,compress=zstd:1", "/home": "subvol=home,compress=zstd:1"}
    with mounted(volume, "compress-force=zstd:1") as point:
        for name in ("root", "home"):
            run("btrfs", "subvolume", "create", point / name)
        for place, content in TREE.items():
            write_tree(point if place.startswith("/home/") else point / "root", {place: content})
        (point / "root/home").mkdir()
        (point / "root/etc/fstab").write_text(fstab(table))
        with_deleted(point / "root/srv")
    return volume


@pytest.fixture(scope="module")
def suse_like(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Never changed."""
    return make_suse_like(tmp_path_factory.mktemp("suse") / "disk.raw")


@pytest.fixture(scope="module")
def fedora_like(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Never changed."""
    return make_fedora_like(tmp_path_factory.mktemp("fedora") / "disk.raw")


def judge_sealed(sealed: Path, folder: Path, stays: frozenset[str] = frozenset()) -> Path:
    """No text of the machine is anywhere; the reference checker is content."""
    raw = to_raw(sealed, folder / "sealed.raw")
    texts = [text.encode() for text in GONE if text not in stays]
    assert (
        find_texts(raw, [*texts, *(text.decode().encode("utf-16-le") for text in texts)]) == set()
    )
    judge(raw)
    return raw


def test_a_guest_whose_root_is_a_snapshot_is_seen_whole(suse_like: Path, zeroseal: Command) -> None:
    survey = json.loads(zeroseal("survey", suse_like, "--json").out)
    shown = {mount["path"]: mount["volume"] for mount in survey["mounts"]}
    assert shown == {"/": "whole disk (@/.snapshots/1/snapshot)"} | {
        f"/{name}": f"whole disk (@/{name})" for name in BESIDE_ROOT
    }
    places = [place for trace in survey["findings"] for place in trace["places"]]
    text = json.dumps(places)
    assert "/var/log/gate.log" in text
    assert "/home/ada.brine" in text
    blockers = " ".join(survey["readiness"]["blockers"])
    assert "1 snapshot of the root file system (whole disk: @/.snapshots/2/snapshot)" in blockers
    assert "1 snapshot of a mounted subvolume (whole disk: @/home/kept)" in blockers


def test_snapshots_stop_a_seal_until_it_is_said_what_becomes_of_them(
    suse_like: Path, tmp_path: Path, zeroseal: Command
) -> None:
    sealed = tmp_path / "sealed.raw"
    refused = zeroseal("seal", suse_like, "-o", sealed, "--expect-seed")
    assert refused.status == 4
    assert "--drop-snapshots" in refused.err
    assert not sealed.exists()
    both = zeroseal("seal", suse_like, "-o", sealed, "--drop-snapshots", "--seal-snapshots")
    assert both.status == 2
    assert "not allowed with argument" in both.err


def test_snapshots_are_dropped_with_the_records_of_their_tool(
    suse_like: Path, tmp_path: Path, zeroseal: Command
) -> None:
    sealed = tmp_path / "sealed.qcow2"
    done = zeroseal("seal", suse_like, "-o", sealed, "--expect-seed", "--drop-snapshots")
    assert done.status == 0, done.err
    assert "Clones cannot go back to such a state" in " ".join(done.out.split())
    raw = judge_sealed(sealed, tmp_path)
    with mounted(raw) as point:  # the default subvolume: the root of the guest
        assert (point / "etc/machine-id").read_bytes() == b""
        assert (point / "usr/sbin/sshd").exists()
    with mounted(raw, "subvol=@") as point:
        assert [path.name for path in (point / ".snapshots").iterdir()] == ["1"]
        assert list((point / "home").iterdir()) == []
        assert (point / "srv/fares.csv").read_text() == "Heron Point,4.20\n"
        told = run("btrfs", "qgroup", "show", point)
        assert "inconsistent" not in told
    assert zeroseal("check", sealed, "--deep", "--against", suse_like).status == 0


def test_snapshots_are_kept_and_each_is_treated(
    suse_like: Path, tmp_path: Path, zeroseal: Command
) -> None:
    sealed = tmp_path / "sealed.qcow2"
    words = ("--expect-seed", "--seal-snapshots")
    done = zeroseal("seal", suse_like, "-o", sealed, *words)
    assert done.status == 0, done.err
    raw = judge_sealed(sealed, tmp_path, stays=frozenset({"older-canary"}))
    with mounted(raw, "subvol=@") as point:
        root = point / ".snapshots/2/snapshot"
        assert (root / "etc/machine-id").read_bytes() == b""
        assert (root / "etc/older").read_text() == "older-canary\n" * 2000  # a file like any other
        assert list((root / "etc/ssh").iterdir()) == []
        assert list((point / "home/kept").iterdir()) == []
        assert run("btrfs", "property", "get", root, "ro") == "ro=true\n"
    assert zeroseal("check", sealed).out.startswith("SEALED")
    unsealed = json.loads(zeroseal("check", suse_like, "--json").out)
    assert "@/.snapshots/2/snapshot: /etc/machine-id" in json.dumps(unsealed)


def test_a_compressed_guest_is_sealed_and_proven(
    fedora_like: Path, tmp_path: Path, zeroseal: Command
) -> None:
    survey = json.loads(zeroseal("survey", fedora_like, "--json").out)
    assert [mount["volume"] for mount in survey["mounts"]] == [
        "whole disk (root)", "whole disk (home)",
    ]  # fmt: skip
    sealed = tmp_path / "sealed.qcow2"
    done = zeroseal("seal", fedora_like, "-o", sealed, "--expect-seed")
    assert done.status == 0, done.err
    raw = judge_sealed(sealed, tmp_path)
    with mounted(raw, "subvol=root") as point:
        assert (point / "srv/fares.csv").read_text() == "Heron Point,4.20\n"
        assert (point / "etc/machine-id").read_bytes() == b""
    again = zeroseal("seal", sealed, "-o", tmp_path / "again.qcow2", "--expect-seed", "--json")
    assert json.loads(again.out)["treated"] == []


def test_a_value_in_a_compressed_file_that_stays_stops_the_seal(
    fedora_like: Path, tmp_path: Path, zeroseal: Command
) -> None:
    source = to_raw(fedora_like, tmp_path / "source.raw")
    with mounted(source, "compress-force=zstd:1") as point:
        (point / "root/srv/notes").write_text(f"the id of the pier: {MACHINE_ID}. " * 4000)
        os.sync()
    assert source.read_bytes().count(MACHINE_ID.encode()) < 100
    done = zeroseal("seal", source, "-o", tmp_path / "sealed", "--expect-seed")
    assert done.status == 5
    assert "/srv/notes" in done.err


def test_what_no_mount_shows_is_told_and_what_is_missing_is_refused(
    fedora_like: Path, tmp_path: Path, zeroseal: Command
) -> None:
    source = to_raw(fedora_like, tmp_path / "source.raw")
    with mounted(source) as point:
        run("btrfs", "subvolume", "create", point / "spare")
        (point / "spare/file").write_text("tide\n")
        with (point / "root/etc/fstab").open("a") as file:
            file.write(f"UUID={UUID} /opt btrfs subvol=gone 0 0\n")
    survey = json.loads(zeroseal("survey", source, "--json").out)
    told = " ".join(survey["readiness"]["advice"])
    assert "Whole disk, subvolume spare is not mounted by the guest" in told
    assert "/opt (whole disk has no subvolume gone)" in json.dumps(survey)


def test_several_systems_of_which_none_is_named_are_refused(
    fedora_like: Path, tmp_path: Path, zeroseal: Command
) -> None:
    source = to_raw(fedora_like, tmp_path / "source.raw")
    with mounted(source) as point:
        (point / "root/etc/fstab").write_text("")
        run("btrfs", "subvolume", "snapshot", point / "root", point / "other")
    refused = zeroseal("survey", source)
    assert refused.status == 3
    assert "several subvolumes that hold a system (root, other)" in " ".join(refused.err.split())


def test_containers_are_content_and_a_root_that_was_left_is_a_snapshot(
    fedora_like: Path, tmp_path: Path, zeroseal: Command
) -> None:
    source = to_raw(fedora_like, tmp_path / "source.raw")
    with mounted(source) as point:
        folder = point / "root/var/lib/machines"
        folder.mkdir(parents=True)
        for name in ("layer", "other"):  # a system of its own, and one made from that
            words = ("snapshot", folder / "layer") if name == "other" else ("create",)
            run("btrfs", "subvolume", *words, folder / name)
            write_tree(
                folder / name, {"/etc/os-release": "ID=tideline\n"} if name == "layer" else {}
            )
    survey = json.loads(zeroseal("survey", source, "--json").out)
    assert not [text for text in survey["readiness"]["blockers"] if "snapshot" in text]
    with mounted(source) as point:
        for name in ("other", "layer"):
            run("btrfs", "subvolume", "delete", point / "root/var/lib/machines" / name)
        run("btrfs", "subvolume", "snapshot", point / "root", point / "kept")
        run("btrfs", "subvolume", "snapshot", point / "kept", point / "next")
        fstab_of_next = (point / "next/etc/fstab").read_text().replace("subvol=root", "subvol=next")
        (point / "next/etc/fstab").write_text(fstab_of_next)
        number = run("btrfs", "inspect-internal", "rootid", point / "next").strip()
        run("btrfs", "subvolume", "set-default", number, point)
    survey = json.loads(zeroseal("survey", source, "--json").out)
    assert survey["mounts"][0]["volume"] == "whole disk (next)"
    blockers = " ".join(survey["readiness"]["blockers"])
    assert "2 snapshots of the root file system (whole disk: root, kept)" in blockers


def test_a_system_at_the_top_is_not_forgotten(tmp_path: Path, zeroseal: Command) -> None:
    volume = make(tmp_path / "v", "-U", UUID, megabytes=300)
    with mounted(volume) as point:
        write_tree(point, TREE | {"/etc/fstab": fstab({"/": "subvol=@"})})
        run("btrfs", "subvolume", "snapshot", point, point / "@")
    words = ("seal", volume, "-o", tmp_path / "sealed", "--expect-seed")
    assert "1 snapshot of the root file system" in " ".join(zeroseal(*words).err.split())
    refused = zeroseal(*words, "--drop-snapshots")
    assert refused.status == 4
    assert "the topmost subvolume of whole disk holds a system" in " ".join(refused.err.split())
    done = zeroseal(*words, "--seal-snapshots")
    assert done.status == 0, done.err
    judge_sealed(tmp_path / "sealed", tmp_path)
