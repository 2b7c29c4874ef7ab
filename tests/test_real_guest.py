"""The whole job on a real, bootable Debian 12 disk, judged from outside."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.conftest import Command
from tests.filesystems.test_btrfs_edit import judge
from tests.filesystems.test_btrfs_read import mounted
from tests.long import only_long
from tests.lvm import volume_range
from tests.oracles import cut_partition, cut_range, find_texts, judge_ext, run, to_raw
from tests.xfs import judge_xfs, kernel

pytestmark = pytest.mark.real_guest

VALUES = [
    b"gangway-ref", b"ada.brine", b"Ada Brine", b"02-555-0117", b"TIDE_TOKEN", b"192.0.2.17",
    b"not-a-real-token-4471", b"deleted-canary-5512",
]  # fmt: skip


@pytest.fixture(scope="session")
def identity(debian: Path, tmp_path_factory: pytest.TempPathFactory) -> list[bytes]:
    """What the used disk holds of its machine, read by debugfs."""
    folder = tmp_path_factory.mktemp("identity")
    volume = cut_partition(to_raw(debian, folder / "d.raw"), 3, folder / "root.ext4")

    def cat(path: str) -> str:
        return run("debugfs", "-R", f"cat {path}", volume)

    values = [cat("/etc/machine-id").strip()]
    for key in ("/etc/ssh/ssh_host_ed25519_key", "/etc/ssh/ssh_host_rsa_key",
                "/home/ada.brine/.ssh/id_ed25519"):  # fmt: skip
        values += cat(key).splitlines()[2:4]
    values += [line.split(":")[1] for line in cat("/etc/shadow").splitlines() if ":$" in line]
    found = [value.encode() for value in values]
    assert len(found) >= 9
    assert find_texts(folder / "d.raw", [*found, *VALUES]) == {*found, *VALUES}
    (folder / "d.raw").unlink()
    return found


def test_a_real_debian_is_sealed_without_a_trace(
    debian: Path, identity: list[bytes], tmp_path: Path, zeroseal: Command
) -> None:
    source = to_raw(debian, tmp_path / "source")
    surveyed = zeroseal("survey", source)
    assert surveyed.status == 0
    assert "Debian GNU/Linux 12" in surveyed.out.splitlines()[0]
    sealed = tmp_path / "sealed"
    assert zeroseal("seal", source, "-o", sealed).status == 0
    assert zeroseal("check", sealed).out.startswith("SEALED")
    run("sgdisk", "-v", sealed)
    judge_ext(cut_partition(sealed, 3, tmp_path / "root.ext4"))
    assert find_texts(sealed, [*VALUES, *identity]) == set()


def test_a_real_debian_on_xfs_over_lvm_is_sealed_without_a_trace(
    debian_on_xfs: Path, tmp_path: Path, zeroseal: Command
) -> None:
    source, sealed = to_raw(debian_on_xfs, tmp_path / "source"), tmp_path / "sealed"
    places = {name: volume_range(source, 3, name) for name in ("root", "home")}
    with kernel(cut_range(source, places["root"], tmp_path / "root.xfs"), "ro") as point:
        found = [(point / "etc/machine-id").read_bytes().strip()]
        for name in ("ed25519", "rsa"):
            found += (point / f"etc/ssh/ssh_host_{name}_key").read_bytes().splitlines()[2:4]
        shadow = (point / "etc/shadow").read_bytes().splitlines()
        found += [line.split(b":")[1] for line in shadow if b":$" in line]
    assert len(found) >= 6
    assert find_texts(source, [*found, *VALUES]) == {*found, *VALUES}
    assert zeroseal("seal", source, "-o", sealed).status == 0
    assert zeroseal("check", sealed).out.startswith("SEALED")
    assert find_texts(sealed, [*found, *VALUES]) == set()
    for name, place in places.items():
        volume = cut_range(sealed, place, tmp_path / f"{name}.xfs")
        judge_xfs(volume)
        with kernel(volume) as point:
            run("cp", "-r", "/etc", point / "written-by-the-kernel")
        judge_xfs(volume)


@only_long
@pytest.mark.parametrize("option", ["--drop-snapshots", "--seal-snapshots"])
def test_a_real_debian_on_btrfs_with_snapshots_is_sealed_without_a_trace(
    debian_on_btrfs: Path, tmp_path: Path, zeroseal: Command, option: str
) -> None:
    source, sealed = to_raw(debian_on_btrfs, tmp_path / "source"), tmp_path / "sealed"
    with mounted(cut_partition(source, 3, tmp_path / "root"), "ro,subvol=@") as point:
        found = [(point / "etc/machine-id").read_bytes().strip()]
        for name in ("ed25519", "rsa"):
            found += (point / f"etc/ssh/ssh_host_{name}_key").read_bytes().splitlines()[2:4]
        shadow = (point / "etc/shadow").read_bytes().splitlines()
        found += [line.split(b":")[1] for line in shadow if b":$" in line]
    assert find_texts(source, [*found, *VALUES]) == {*found, *VALUES}
    assert zeroseal("seal", source, "-o", sealed).status == 4
    assert zeroseal("seal", source, "-o", sealed, option).status == 0
    assert zeroseal("check", sealed).out.startswith("SEALED")
    assert find_texts(sealed, [*found, *VALUES]) == set()
    volume = cut_partition(sealed, 3, tmp_path / "root")
    judge(volume)
    with mounted(volume) as point:
        run("cp", "-r", "/etc", point / "@/written-by-the-kernel")
        assert "no errors found" in run("btrfs", "scrub", "start", "-B", point)
    judge(volume)
