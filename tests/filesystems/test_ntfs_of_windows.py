"""Volumes that Windows itself formatted and used: read, checked, changed, and a guest on one."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest
from scripts.desk_machine import NOW, files, fill, raw

from tests.conftest import Command
from tests.disks import make_disk
from tests.filesystems.test_ntfs_edit import edit_at_random
from tests.ntfs import (
    compare_with_mount,
    fuse,
    judge_ntfs,
    judge_security,
    streams_by_dissect,
    streams_by_sleuthkit,
    streams_of,
)
from tests.oracles import cut_partition, need, run
from tests.xfs import FileStore
from zeroseal.errors import NeedsRecoveryError
from zeroseal.filesystems.fat.driver import FatDriver
from zeroseal.filesystems.fat.read import FatTree
from zeroseal.filesystems.ntfs.check import check_volume
from zeroseal.filesystems.ntfs.driver import NtfsDriver
from zeroseal.filesystems.ntfs.edit import NtfsEditor
from zeroseal.filesystems.ntfs.read import NtfsTree
from zeroseal.guests.registry.check import check_hive

SECTOR = 512


def with_room_for_the_copy(source: Path, target: Path) -> Path:
    """A volume of a file, with the sector behind it that holds the copy of the boot sector."""
    need("cp")
    run("cp", "--sparse=always", source, target)
    with source.open("rb") as file:
        sectors = int.from_bytes(file.read(SECTOR)[0x28:0x30], "little")
    with target.open("r+b") as file:
        file.truncate((sectors + 1) * SECTOR)
    return target


@pytest.fixture
def small(windows_data: Path, tmp_path: Path) -> Path:
    """A volume that Windows closed."""
    return with_room_for_the_copy(windows_data / "ntfs.bin", tmp_path / "small")


@pytest.fixture
def large(windows_data: Path, tmp_path: Path) -> Path:
    """A volume that Windows had mounted, closed by the driver."""
    volume = with_room_for_the_copy(windows_data / "ntfs-cloud.bin", tmp_path / "large")
    run("ntfsfix", "-d", volume)
    with fuse(volume):
        pass
    return volume


def test_a_volume_of_windows_is_read_as_others_read_it(small: Path) -> None:
    judge_ntfs(small)
    ours = streams_of(NtfsTree(FileStore(small)))
    assert len(ours) > 4
    assert {key: value for key, value in ours.items() if value or not key[1]} == (
        streams_by_sleuthkit(small)
    )
    assert streams_by_dissect(small) == ours


def test_volumes_of_windows_take_random_edits(small: Path, large: Path) -> None:
    editor = NtfsEditor(FileStore(small), NOW)  # it has little room
    folder = editor.create_folder(editor.root, b"of ours", 0o755)
    for number in range(40):
        editor.create_file(folder, b"file %d" % number, b"c" * number * 90, 0o644)
    editor.finish()
    editor = NtfsEditor(FileStore(large), NOW)
    editor.remove_tree(editor.root, b"OneDrive")  # its files are kept elsewhere: they are refused
    editor.finish()
    edit_at_random(large, 11, 30, rounds=1)
    for volume in (small, large):
        with fuse(volume) as point:
            compare_with_mount(NtfsTree(FileStore(volume)), point)
        judge_ntfs(volume)


def test_a_volume_that_windows_had_open_is_refused(windows_data: Path, tmp_path: Path) -> None:
    volume = with_room_for_the_copy(windows_data / "ntfs-cloud.bin", tmp_path / "open")
    with pytest.raises(NeedsRecoveryError, match="log"):
        NtfsEditor(FileStore(volume), NOW)


def test_reserved_records_may_be_blank_but_not_damaged(small: Path) -> None:
    store = FileStore(small)
    volume = NtfsTree(store).volume
    assert not any(volume.read_raw_record(17))
    store.write(volume.record_offset(17) + 8, b"x")
    assert [problem.where for problem in check_volume(store, "v")] == ["record 17"]


def test_the_registry_of_a_client_is_sound_and_stops_no_seal(
    windows_data: Path, large: Path, tmp_path: Path, zeroseal: Command
) -> None:
    """A guest on the volume that Windows formatted, around a SYSTEM hive of a Windows 10."""
    system = (windows_data / "SYSTEM").read_bytes()
    assert check_hive(system) == []
    shared = bytes.fromhex("0100048090000000a000000000000000140000000200") * 4
    secret = "Policy\\Secrets\\_SC_GateSync"
    more = (("SECURITY", raw(f"{secret}\\SecDesc", "", shared)),
            ("SOFTWARE", raw("Tideline\\Shared", "SecDesc", shared)))  # fmt: skip
    content = files(*more) | {"Windows/System32/config/SYSTEM": system}
    store = FileStore(large)
    for name in ("$RECYCLE.BIN", "System Volume Information"):
        editor = NtfsEditor(store, NOW)
        editor.remove_tree(editor.root, name.encode())
        editor.finish()
    editor = NtfsEditor(store, NOW)
    fill(editor, content)
    editor.finish()
    store.close()
    judge_ntfs(large)
    disk = make_disk(tmp_path / "disk.raw", ("0700", large))
    survey = json.loads(zeroseal("survey", disk, "--json", "--as-if", "--reissue-sid").out)
    told = json.dumps(survey["readiness"])
    assert "domain controller" not in told
    assert "joined a cloud directory" not in told
    sealed = tmp_path / "sealed.raw"
    done = zeroseal("seal", disk, "-o", sealed, "--reissue-sid")
    assert done.status == 0, done.err
    volume = cut_partition(sealed, 1, tmp_path / "sealed.ntfs")
    judge_ntfs(volume)
    judge_security(volume)
    with fuse(volume) as point:
        after = (point / "Windows/System32/config/SYSTEM").read_bytes()
    assert check_hive(after) == []


def test_how_full_a_volume_is(small: Path, tmp_path: Path) -> None:
    """ntfsresize counts the clusters in use; a FAT volume is asked of fsck.fat."""
    told = run("ntfsresize", "-i", "-f", small)
    share = NtfsDriver().used_share(NtfsTree(FileStore(small)))
    percent = float(re.findall(r"Space in use\s*: .*\((.*?)%\)", told)[0])
    assert abs(share * 100 - percent) < 1
    fat = tmp_path / "fat"
    run("mkfs.vfat", "-C", fat, "8192")
    run("mcopy", "-i", fat, __file__, "::x")
    used, total = re.findall(r"(\d+)/(\d+) clusters", run("fsck.fat", "-n", fat))[0]
    assert FatDriver().used_share(FatTree(FileStore(fat))) == pytest.approx(int(used) / int(total))
