"""NTFS as commands see it: a Windows is looked at, a Linux with such a volume is sealed."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.disks import BARE_GUEST, make_disk, make_guest_volume
from tests.ntfs import NOW, judge_ntfs, make_ntfs
from tests.oracles import cut_partition, find_texts, judge_ext
from tests.windows import (
    COMPUTER,
    CURRENT,
    GUID,
    SID,
    TCPIP,
    UPDATE,
    Row,
    make_windows_disk,
    make_windows_volume,
    number,
    text,
)
from tests.xfs import FileStore
from zeroseal.filesystems.ntfs.edit import NtfsEditor
from zeroseal.filesystems.ntfs.read import NtfsTree

TOKEN = b"not-a-real-token-8123"
SERIAL = "4A5A6A7A8A9AAABA"


def test_a_windows_is_named_with_its_volumes_and_not_sealed(
    tmp_path: Path, zeroseal: Command
) -> None:
    disk = make_windows_disk(tmp_path / "purser.raw")
    surveyed = zeroseal("survey", disk)
    assert surveyed.status == 1, surveyed.err
    assert surveyed.out.startswith("Windows 11 Pro, build 22631, on partition 2")
    words = " ".join(surveyed.out.split())
    for told in ("label Purser", "version 3.1", "state clean", "log empty", "clusters of 4.0 KiB",
                 f"computer name {COMPUTER}", "is looked at, but not sealed",
                 f"identifier {SID}", f"machine GUID {GUID}", f"update client {UPDATE}",
                 "accounts Administrator (500, disabled), ada (1001)", "profiles /Users/ada",
                 "every clone would share its security identifier"):  # fmt: skip
        assert told in words
    answer = json.loads(zeroseal("survey", disk, "--json").out)
    assert (answer["ready"], answer["system"]["family"]) == (False, "windows")
    assert answer["ntfs"][0]["freeBytes"] > answer["ntfs"][0]["sizeBytes"] // 2
    shutil.copy(disk, tmp_path / "other.raw")
    both = zeroseal("survey", disk, tmp_path / "other.raw", "--json-lines")
    assert (both.status, both.out.count("NOT READY")) == (1, 2)
    for words_ in (("seal", disk, "-o", tmp_path / "x"), ("check", disk)):
        refused = zeroseal(*words_)
        assert refused.status == 3
        told = " ".join((refused.out + refused.err).split())
        assert "Windows 11 Pro was found on partition 2: survey looks at it" in told
    assert not (tmp_path / "x").exists()


STATE = f"{CURRENT}\\Setup\\State"
SERVICING = f"{CURRENT}\\Component Based Servicing\\RebootPending"
RESEALED = "IMAGE_STATE_GENERALIZE_RESEAL_TO_OOBE"


@pytest.mark.parametrize(
    ("hive", "row", "told"),
    [
        ("SYSTEM", text(TCPIP, "Domain", "saltmarsh.example"), "joined the domain saltmarsh."),
        ("SYSTEM", text(TCPIP, "NV Hostname", "purser-two"), "a new computer name, purser-two"),
        ("SYSTEM", number("Setup", "SystemSetupInProgress", 1), "between two passes: finish it"),
        ("SOFTWARE", text(SERVICING, "x", ""), "a restart after servicing"),
        ("SOFTWARE", text(STATE, "ImageState", "IMAGE_STATE_UNDEPLOYABLE"), "between two passes"),
        ("SOFTWARE", text(STATE, "ImageState", RESEALED), "own generalize pass: its next start"),
    ],
)
def test_the_state_of_a_windows_is_told(
    tmp_path: Path, zeroseal: Command, hive: str, row: Row, told: str
) -> None:
    disk = make_disk(tmp_path / "d", ("0700", make_windows_volume(tmp_path / "v", (hive, row))))
    surveyed = zeroseal("survey", disk)
    assert told in " ".join(surveyed.out.split()), surveyed.out


@pytest.mark.parametrize(
    ("name", "content", "told"),
    [
        (b"hiberfil.sys", b"HIBR" + bytes(4092), "Partition 1: Windows hibernates on it"),
        (b"other", b"", "A Windows guest is looked at"),
    ],
)
def test_a_sleeping_windows_is_told(
    tmp_path: Path, zeroseal: Command, name: bytes, content: bytes, told: str
) -> None:
    volume = make_windows_volume(tmp_path / "v")
    editor = NtfsEditor(FileStore(volume), NOW)
    editor.create_file(editor.root, name, content, 0o644)
    editor.finish()
    disk = make_disk(tmp_path / "d", ("0700", volume))
    assert told in " ".join(zeroseal("survey", disk).out.split())


def test_a_damaged_registry_or_volume_is_told_and_not_raised(
    tmp_path: Path, zeroseal: Command
) -> None:
    volume = make_windows_volume(tmp_path / "v")
    editor = NtfsEditor(FileStore(volume), NOW)
    folder = editor.root
    for name in (b"windows", b"SYSTEM32", b"Config"):
        entry = editor.find_child(folder, name)
        assert entry
        folder = entry.node
    hive = editor.find_child(folder, b"software")
    assert hive
    editor.replace_content(hive.node, b"regf but not really")
    editor.finish()
    told = zeroseal("survey", make_disk(tmp_path / "d", ("0700", volume))).out
    assert "Windows, on partition 1" in told.splitlines()[0]
    assert "registry" in told
    with volume.open("r+b") as file:
        file.seek(48)
        file.write(b"\xff" * 4)
    answer = zeroseal("survey", make_disk(tmp_path / "d", ("0700", volume)))
    assert (answer.status, "No system was found" in answer.out) == (1, True)
    assert "not read" in answer.out


@pytest.fixture
def dual(tmp_path: Path) -> Path:
    """A Linux guest that keeps its logs on a volume of NTFS."""
    shared = make_ntfs(tmp_path / "shared")
    with shared.open("r+b") as file:  # a serial number of our own, at both places
        for place in (0, shared.stat().st_size - 512):
            file.seek(place + 72)
            file.write(bytes.fromhex(SERIAL)[::-1])
    store = FileStore(shared)
    editor = NtfsEditor(store, NOW)
    logs = editor.create_folder(editor.root, b"log", 0o755)
    for index in range(40):
        editor.create_file(logs, b"syslog.%d" % index, TOKEN * 300, 0o644)
    editor.create_file(logs, b"gone", TOKEN * 500, 0o644)
    editor.finish()
    editor = NtfsEditor(store, NOW, zero_removed=False)
    editor.remove(logs, b"gone")
    editor.finish()
    store.close()
    tree = BARE_GUEST | {
        "/etc/fstab": f"/dev/vda1 / ext4 defaults 0 1\nUUID={SERIAL} /var ntfs-3g defaults 0 0\n"
    }
    kept = {path: text for path, text in tree.items() if not path.startswith("/var/")}
    root = make_guest_volume(tmp_path, kept | {"/var/mount-point": ""})
    return make_disk(tmp_path / "dual.raw", ("8300", root), ("0700", shared))


def test_a_linux_guest_with_a_volume_of_ntfs_is_sealed(
    tmp_path: Path, zeroseal: Command, dual: Path
) -> None:
    before = dual.read_bytes()
    assert find_texts(dual, [TOKEN]) == {TOKEN}
    sealed = tmp_path / "sealed.raw"
    options = ("--plant-first-boot", "--retain-account", "deckhand")
    surveyed = zeroseal("survey", dual)
    assert "partition 2 on /var" in " ".join(surveyed.out.split())
    done = zeroseal("seal", dual, "-o", sealed, *options[:1])
    assert done.status == 0, done.err
    assert dual.read_bytes() == before
    assert find_texts(sealed, [TOKEN]) == set()
    assert zeroseal("check", sealed).out.startswith("SEALED")
    judge_ext(cut_partition(sealed, 1, tmp_path / "root"))
    judge_ntfs(cut_partition(sealed, 2, tmp_path / "ntfs"))
    tree = NtfsTree(FileStore(tmp_path / "ntfs"))
    assert tree.find_child(tree.root, b"log")
    again = zeroseal("seal", sealed, "-o", tmp_path / "again.raw", *options[:1])
    assert again.status == 0, again.err


def test_ntfs_is_sealed_in_place_only_when_asked_twice(
    tmp_path: Path, zeroseal: Command, dual: Path
) -> None:
    copy = tmp_path / "copy.raw"
    shutil.copy(dual, copy)
    alone = zeroseal("seal", copy, "--ntfs-in-place", "-o", tmp_path / "x")
    assert (alone.status, "goes with --in-place" in alone.err) == (2, True)
    refused = zeroseal("seal", copy, "--in-place", "--plant-first-boot")
    assert (refused.status, "say --ntfs-in-place as well" in refused.err) == (4, True)
    assert copy.read_bytes() == dual.read_bytes()
    done = zeroseal("seal", copy, "--in-place", "--ntfs-in-place", "--plant-first-boot")
    assert done.status == 0, done.err
    assert find_texts(copy, [TOKEN]) == set()
    judge_ntfs(cut_partition(copy, 2, tmp_path / "ntfs"))
