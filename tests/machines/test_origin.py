"""Where a machine's disk comes from: checksums in every form, growth, further disks, containers."""

from __future__ import annotations

import hashlib
from pathlib import Path

import pytest

from tests.oracles import judge_qcow2, run, to_raw
from zeroseal.demo.scenario import BASE_DISK
from zeroseal.errors import DamagedError, MissingError, UsageError, ZeroSealError
from zeroseal.images.detect import open_image
from zeroseal.machines.build import BuildWish, build_machine
from zeroseal.machines.origin import verify_checksum
from zeroseal.machines.sheet.load import Wishes, load_sheet
from zeroseal.machines.yard import Yard, YardMachine

MEBIBYTE = 1 << 20


def built(sheet: Path, tmp_path: Path, *sets: str) -> YardMachine:
    loaded = load_sheet(sheet, Wishes(sets=sets))
    return build_machine(loaded, Yard(tmp_path / "yard"), BuildWish(1_793_000_000)).machine


def with_checksum(sheet: Path, line: str) -> None:
    lines = sheet.read_text().splitlines()
    sheet.write_text("\n".join(line if item.startswith("sha256") else item for item in lines))


@pytest.mark.parametrize(
    "form",
    ["{sha256}  {name}", "{sha256} *{name}", "{sha512}  ./{name}", "SHA256 ({name}) = {sha256}",
     "# comment\n{other}  other.img\n{sha256}  {name}\n"],
)  # fmt: skip
def test_a_checksum_comes_from_any_list_of_the_usual_forms(
    sheet: Path, tmp_path: Path, form: str
) -> None:
    content = (sheet.parent / BASE_DISK).read_bytes()
    words = {
        "name": BASE_DISK,
        "other": "0" * 64,
        "sha256": hashlib.sha256(content).hexdigest(),
        "sha512": hashlib.sha512(content).hexdigest(),
    }
    (sheet.parent / "SUMS").write_text(form.format(**words) + "\n")
    with_checksum(sheet, 'checksums = "SUMS"')
    assert built(sheet, tmp_path).disk.is_file()


def test_a_list_without_the_disk_or_with_another_sum_is_refused(
    sheet: Path, tmp_path: Path
) -> None:
    with_checksum(sheet, 'checksums = "SUMS"')
    with pytest.raises(MissingError, match="was not found: correct"):
        built(sheet, tmp_path)
    (sheet.parent / "SUMS").write_text(f"{'0' * 64}  another.qcow2\n")
    with pytest.raises(UsageError, match="has no SHA-256 or SHA-512 line for tideline"):
        built(sheet, tmp_path)
    (sheet.parent / "SUMS").write_text(f"{'0' * 64}  {BASE_DISK}\n")
    with pytest.raises(DamagedError, match="is not the disk that the sheet names: its"):
        built(sheet, tmp_path)
    with_checksum(sheet, f'sha512 = "{"0" * 128}"')
    assert Yard(tmp_path / "yard").machines() == []
    with pytest.raises(MissingError, match="was not found"):
        verify_checksum(tmp_path / "none", "0" * 64)


def test_a_disk_grows_with_its_partition_table(sheet: Path, tmp_path: Path) -> None:
    machine = built(sheet, tmp_path, "machine.disk_mib=96", "machine.more_disks_mib=[8, 16]")
    judge_qcow2(machine.disk)
    raw = to_raw(machine.disk, tmp_path / "d.raw")
    assert raw.stat().st_size == 96 * MEBIBYTE
    assert "No problems found" in run("sgdisk", "-v", raw)
    sizes = []
    for name in machine.definition.more_disks:
        judge_qcow2(machine.folder / name)
        image = open_image(machine.folder / name)
        sizes.append(image.size_bytes // MEBIBYTE)
        image.close()
    assert sizes == [8, 16]
    with pytest.raises(UsageError, match="a disk cannot be made smaller"):
        built(sheet, tmp_path / "b", "machine.disk_mib=16")
    assert Yard(tmp_path / "b" / "yard").machines() == []


@pytest.mark.parametrize("form", ["raw", "vmdk", "vdi", "vhdx"])
def test_a_base_disk_may_be_in_any_container(sheet: Path, tmp_path: Path, form: str) -> None:
    base = sheet.parent / f"base.{form}"
    run("qemu-img", "convert", "-O", form, sheet.parent / BASE_DISK, base)
    sheet.write_text(sheet.read_text().replace(BASE_DISK, base.name))
    with_checksum(sheet, f'sha256 = "{hashlib.sha256(base.read_bytes()).hexdigest()}"')
    machine = built(sheet, tmp_path)
    assert machine.definition.disk == f"disk.{form}"
    assert len(to_raw(machine.disk, tmp_path / "d.raw").read_bytes()) == 32 * MEBIBYTE


def test_a_base_disk_that_hangs_on_another_is_refused(sheet: Path, tmp_path: Path) -> None:
    child = sheet.parent / "child.qcow2"
    run("qemu-img", "create", "-q", "-f", "qcow2", "-F", "qcow2", "-b", BASE_DISK, child)
    sheet.write_text(sheet.read_text().replace(f'"{BASE_DISK}"', '"child.qcow2"'))
    with_checksum(sheet, f'sha256 = "{hashlib.sha256(child.read_bytes()).hexdigest()}"')
    with pytest.raises(UsageError, match="needs other files too: give a disk"):
        built(sheet, tmp_path)


def test_the_simulated_host_installs_nothing(sheet: Path, tmp_path: Path) -> None:
    lines = sheet.read_text().splitlines()
    text = "\n".join(line for line in lines if not line.startswith(("base_disk", "sha256")))
    sheet.write_text(text.replace("[origin]", '[origin]\ninstall = { path = "a.iso" }'))
    with pytest.raises(MissingError, match="iso was not found"):
        built(sheet, tmp_path)
    (sheet.parent / "a.iso").write_bytes(b"no installer")
    with pytest.raises(ZeroSealError, match="the simulated host cannot install a system"):
        built(sheet, tmp_path)
