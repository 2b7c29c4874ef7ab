"""What an image says of itself and of other files is the guest's word."""

from __future__ import annotations

import json
import shutil
import subprocess
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.disks import BARE_GUEST, SEEDING, make_guest_volume
from tests.oracles import run

SECRET = b"a secret of the host, in no disk image\n" * 40


@pytest.fixture
def host_file(tmp_path: Path) -> Path:
    """A file of the host's own, outside the images' folder."""
    folder = tmp_path / "etc"
    folder.mkdir()
    path = folder / "secret"
    path.write_bytes(SECRET.ljust(8 << 20, b"\0"))
    return path


def planted(host_file: Path, path: Path) -> Path:
    """A raw disk into which a guest wrote the header of a qcow2 over a file of the host."""
    run("qemu-img", "create", "-q", "-f", "qcow2", "-b", host_file, "-F", "raw", path, "8M")
    with path.open("r+b") as file:
        file.truncate(8 << 20)
    return path


@pytest.mark.parametrize("suffix", ["raw", "img", "bin", "dd", "RAW"])
def test_a_raw_disk_is_not_taken_for_what_a_guest_wrote_into_it(
    zeroseal: Command, tmp_path: Path, host_file: Path, suffix: str
) -> None:
    disk = planted(host_file, tmp_path / f"disk.{suffix}")
    out = tmp_path / "out.qcow2"
    refused = zeroseal("export", disk, "--format", "qcow2", "-o", out)
    assert refused.status == 4
    assert "--source-format raw" in refused.err
    assert not out.exists()
    raw = zeroseal("export", disk, "--format", "qcow2", "-o", out, "--source-format", "raw")
    assert raw.status == 0, raw.err
    run("qemu-img", "compare", "-f", "raw", "-F", "qcow2", disk, out)
    assert SECRET not in out.read_bytes()


def test_every_command_that_opens_an_image_refuses_and_takes_the_word(
    zeroseal: Command, tmp_path: Path
) -> None:
    guest = make_guest_volume(tmp_path, BARE_GUEST | SEEDING)
    disk = tmp_path / "disk.img"
    run("qemu-img", "convert", "-O", "qcow2", guest, disk)
    calls: list[tuple[str | Path, ...]] = [
        ("survey", disk), ("check", disk), ("seal", disk, "--dry-run"),
        ("seal", disk, "-o", tmp_path / "o.qcow2", "--expect-seed"), ("traces", "--on", disk),
        ("compare", disk, guest), ("report", disk, "--html", tmp_path / "r.html"),
        ("export", disk, "--format", "vdi", "-o", tmp_path / "o.vdi"),
        ("yard", "adopt", disk, "--name", "pier", "--yard", tmp_path / "yard"),
    ]  # fmt: skip
    for call in calls:
        refused = zeroseal(*call)
        assert (refused.status, "--source-format" in refused.err) == (4, True), call
        taken = zeroseal(*call, "--source-format", "qcow2")
        if call[0] == "compare":  # the other image is raw
            assert taken.status == 3
        else:
            assert taken.status in (0, 1), (call, taken.err)
    wrong = zeroseal("survey", disk, "--source-format", "vhdx")
    assert (wrong.status, "first bytes are those of qcow2" in wrong.err) == (3, True)


def test_house_rules_say_what_images_are_and_where_their_files_lie(
    zeroseal: Command, tmp_path: Path
) -> None:
    guest = make_guest_volume(tmp_path, BARE_GUEST | SEEDING)
    disk, rules = tmp_path / "disk.img", tmp_path / "rules.toml"
    run("qemu-img", "convert", "-O", "qcow2", guest, disk)
    rules.write_text('version = 1\n[images]\nsource-format = "qcow2"\nfollow = ["/srv/bases"]\n')
    assert zeroseal("survey", disk, "--rules", rules).status in (0, 1)
    shown = json.loads(zeroseal("survey", disk, "--rules", rules, "--show-rules", "--json").out)
    assert {"images.source-format", "images.follow"} <= {item["rule"] for item in shown["rules"]}
    rules.write_text('version = 1\n[images]\nsource-format = "tape"\n')
    wrong = zeroseal("survey", disk, "--rules", rules)
    assert (wrong.status, "'tape' is not one of raw, qcow2" in wrong.err) == (2, True)


def test_files_elsewhere_are_followed_where_they_are_disks_or_were_named(
    zeroseal: Command, tmp_path: Path, host_file: Path
) -> None:
    images = tmp_path / "images"
    images.mkdir()
    child = images / "child.qcow2"
    run("qemu-img", "create", "-q", "-f", "qcow2", "-b", host_file, "-F", "raw", child)
    out = tmp_path / "out.raw"
    refused = zeroseal("export", child, "--format", "raw", "-o", out)
    assert refused.status == 4
    assert f"--follow {host_file.parent}" in refused.err
    assert not out.exists()
    named = zeroseal("export", child, "--format", "raw", "-o", out, "--follow", host_file.parent)
    assert named.status == 0, named.err
    assert out.read_bytes().startswith(SECRET)
    base = make_guest_volume(tmp_path, BARE_GUEST)
    over = images / "over.qcow2"
    run("qemu-img", "create", "-q", "-f", "qcow2", "-b", base, "-F", "raw", over)
    assert zeroseal("survey", over).status in (0, 1)  # a raw disk by its file system


def test_a_data_file_and_an_extent_elsewhere_are_not_read(
    zeroseal: Command, tmp_path: Path, host_file: Path
) -> None:
    images = tmp_path / "images"
    images.mkdir()
    disk, data = images / "d.qcow2", images / "data"
    options = f"data_file={data},data_file_raw=on"
    run("qemu-img", "create", "-q", "-f", "qcow2", "-o", options, disk, "8M")
    data.unlink()
    data.symlink_to(host_file)
    refused = zeroseal("export", disk, "--format", "raw", "-o", tmp_path / "o.raw")
    assert (refused.status, str(host_file) in refused.err) == (4, True)
    flat = images / "f.vmdk"
    run("qemu-img", "create", "-q", "-f", "vmdk", "-o", "subformat=monolithicFlat", flat, "8M")
    (images / "f-flat.vmdk").unlink()
    (images / "f-flat.vmdk").symlink_to(host_file)
    refused = zeroseal("export", flat, "--format", "raw", "-o", tmp_path / "o.raw")
    assert (refused.status, str(host_file) in refused.err) == (4, True)


def test_a_package_holds_all_of_its_files(
    zeroseal: Command, tmp_path: Path, demo_disk: Path
) -> None:
    package = tmp_path / "in" / "d.ova"
    package.parent.mkdir()
    assert zeroseal("export", demo_disk, "--format", "ova", "-o", package).status == 0
    run("tar", "-C", package.parent, "-xf", package)
    package.unlink()
    descriptor = next(package.parent.glob("*.ovf"))
    disk = next(package.parent.glob("*.vmdk"))
    for manifest in package.parent.glob("*.mf"):
        manifest.unlink()
    assert zeroseal("survey", descriptor).status in (0, 1)
    shutil.move(disk, tmp_path / disk.name)
    descriptor.write_text(descriptor.read_text().replace(disk.name, f"../{disk.name}"))
    refused = zeroseal("survey", descriptor)
    assert refused.status in (3, 4)
    assert "refers to a disk outside the package" in refused.err


def test_a_backing_file_that_nobody_described_is_not_guessed(
    zeroseal: Command, tmp_path: Path, host_file: Path
) -> None:
    base = planted(host_file, tmp_path / "base.raw")
    child = tmp_path / "child.qcow2"
    run("qemu-img", "create", "-q", "-f", "qcow2", "-u", "-F", "raw", "-b", base, child, "8M")
    described = bytes.fromhex("e2792aca")  # the header extension that says what it is
    child.write_bytes(child.read_bytes().replace(described, bytes.fromhex("e2792acb"), 1))
    refused = zeroseal("export", child, "--format", "raw", "-o", tmp_path / "o.raw")
    assert refused.status == 4
    assert "qemu-img rebase -u" in refused.err
    run("qemu-img", "rebase", "-u", "-F", "raw", "-b", base, child)
    done = zeroseal("export", child, "--format", "raw", "-o", tmp_path / "o.raw")
    assert done.status == 0, done.err
    assert subprocess.run(["cmp", base, tmp_path / "o.raw"], check=False).returncode == 0


def test_a_raw_disk_that_ends_like_a_vhd_is_offered_as_raw(
    zeroseal: Command, tmp_path: Path
) -> None:
    disk, vhd = tmp_path / "disk", tmp_path / "x.vhd"
    run("qemu-img", "create", "-q", "-f", "vpc", "-o", "subformat=fixed,force_size=on", vhd, "8M")
    footer = vhd.read_bytes()[-512:]
    disk.write_bytes(bytes(4 << 20) + footer)
    told = zeroseal("export", disk, "--format", "qcow2", "-o", tmp_path / "o.qcow2")
    assert (told.status, "--source-format raw" in told.err) == (3, True)
    words = ("export", disk, "--format", "qcow2", "-o", tmp_path / "o.qcow2")
    assert zeroseal(*words, "--source-format", "raw").status == 0


def test_another_container_gets_no_name_of_a_raw_disk(
    zeroseal: Command, demo_disk: Path, tmp_path: Path
) -> None:
    for words in (("seal", demo_disk), ("export", demo_disk, "--format", "qcow2")):
        told = zeroseal(*words, "-o", tmp_path / "o.img")
        assert told.status == 2
        assert f"name it {tmp_path / 'o.qcow2'}" in told.err
    assert list(tmp_path.iterdir()) == []
