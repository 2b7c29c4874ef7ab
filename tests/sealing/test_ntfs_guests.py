"""NTFS as commands see it: a Windows is looked at, a Linux with such a volume is sealed."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.disks import BARE_GUEST, make_disk, make_guest_volume
from tests.ntfs import NOW, judge_ntfs, make_ntfs
from tests.oracles import cut_partition, find_texts, judge_ext
from tests.windows import make_windows_disk
from tests.xfs import FileStore
from zeroseal.filesystems.ntfs.edit import NtfsEditor
from zeroseal.filesystems.ntfs.read import NtfsTree

TOKEN = b"not-a-real-token-8123"
SERIAL = "4A5A6A7A8A9AAABA"


@pytest.mark.parametrize(
    ("name", "content", "told"),
    [
        ("hiberfil.sys", b"HIBR" + bytes(4092), "Windows is hibernated on"),
        ("other", b"", "The system is not resealed"),
    ],
)
def test_a_sleeping_windows_is_told(
    tmp_path: Path, zeroseal: Command, name: str, content: bytes, told: str
) -> None:
    disk = make_windows_disk(tmp_path / "d.raw", extra={name: content})
    assert told in " ".join(zeroseal("survey", disk).out.split())
    refused = zeroseal("seal", disk, "-o", tmp_path / "x", "--reissue-sid")
    assert refused.status == (4 if content else 0), refused.err


def test_a_damaged_registry_or_volume_is_told_and_not_raised(
    tmp_path: Path, zeroseal: Command
) -> None:
    damaged = {"Windows/System32/config/SOFTWARE": b"regf but not really"}
    disk = make_windows_disk(tmp_path / "d.raw", extra=damaged)
    told = zeroseal("survey", disk)
    assert (told.status, "the registry cannot be read" in told.err) == (3, True)
    assert zeroseal("check", disk).out.startswith("UNKNOWN")
    with (tmp_path / "d.ntfs").open("r+b") as file:
        file.seek(48)
        file.write(b"\xff" * 4)
    answer = zeroseal("survey", make_disk(tmp_path / "e", ("0700", tmp_path / "d.ntfs")))
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
    assert (alone.status, "needs --in-place" in alone.err) == (2, True)
    refused = zeroseal("seal", copy, "--in-place", "--plant-first-boot")
    assert (refused.status, "give --ntfs-in-place as well" in refused.err) == (4, True)
    assert copy.read_bytes() == dual.read_bytes()
    done = zeroseal("seal", copy, "--in-place", "--ntfs-in-place", "--plant-first-boot")
    assert done.status == 0, done.err
    assert find_texts(copy, [TOKEN]) == set()
    judge_ntfs(cut_partition(copy, 2, tmp_path / "ntfs"))
