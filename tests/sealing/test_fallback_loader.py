"""A loader that only one machine's firmware knows: told, copied, judged by fsck.fat and mtools."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.disks import BARE_GUEST, MIB, ROOT_UUID, SEEDING, make_disk, make_guest_volume
from tests.oracles import judge_ext, need, run
from zeroseal.machines.definition import MachineDefinition, build_definition

SHIM, GRUB, MANAGER = b"shim " * 200_000, b"grub " * 150_000, b"mok " * 9000
DEBIAN = {"debian/shimx64.efi": SHIM, "debian/grubx64.efi": GRUB, "debian/mmx64.efi": MANAGER}
SEAL = ("--expect-seed",)


def make_uefi_disk(folder: Path, files: dict[str, bytes], **more: str) -> Path:
    """A disk with an EFI system partition that holds these files, and a guest that mounts it."""
    need("mkfs.fat", "mmd", "mcopy")
    esp = folder / "esp.img"
    run("truncate", "-s", "16M", esp)
    run("mkfs.fat", "-F", "16", "-i", "5a170001", esp)
    run("mmd", "-i", esp, "::EFI")
    for vendor in dict.fromkeys(name.split("/")[0] for name in files):
        run("mmd", "-i", esp, f"::EFI/{vendor}")
    for name, content in files.items():
        (folder / "f").write_bytes(content)
        run("mcopy", "-i", esp, folder / "f", f"::EFI/{name}")
    fstab = f"UUID={ROOT_UUID} / ext4 defaults 0 1\nUUID=5A17-0001 /boot/efi vfat umask=0077 0 1\n"
    guest = BARE_GUEST | SEEDING | {"/etc/fstab": fstab, "/boot/efi/": ""} | more
    return make_disk(folder / "d.raw", ("ef00", esp), ("8300", make_guest_volume(folder, guest)))


def esp_of(disk: Path, folder: Path) -> Path:
    """The partition of a sealed disk, cut out and judged."""
    cut = folder / "cut.img"
    cut.write_bytes(disk.read_bytes()[MIB : 17 * MIB])
    run("fsck.fat", "-n", cut)
    return cut


def content(esp: Path, name: str) -> bytes:
    out = esp.with_suffix(".out")
    run("mcopy", "-n", "-i", esp, f"::EFI/{name}", out)
    raw = out.read_bytes()
    out.unlink()
    return raw


def test_a_loader_that_only_an_entry_names_stops_a_seal_until_it_is_copied(
    tmp_path: Path, zeroseal: Command
) -> None:
    disk = make_uefi_disk(tmp_path, DEBIAN)
    before = disk.read_bytes()
    refused = zeroseal("seal", disk, "-o", tmp_path / "no.raw", *SEAL)
    assert refused.status == 4, refused.err
    assert "Clones with UEFI do not start" in refused.err
    assert "--plant-fallback-loader" in refused.err
    plan = zeroseal("seal", disk, "--dry-run", *SEAL, "--plant-fallback-loader", "--json")
    assert json.loads(plan.out)["plantedFiles"] == [
        f"/boot/efi/EFI/BOOT/{name}" for name in ("BOOTX64.EFI", "grubx64.efi", "mmx64.efi")
    ]
    sealed = tmp_path / "s.raw"
    done = zeroseal("seal", disk, "-o", sealed, *SEAL, "--plant-fallback-loader")
    assert done.status == 0, done.err
    esp = esp_of(sealed, tmp_path)
    found = {name: content(esp, name) for name in DEBIAN}
    assert found == DEBIAN
    assert content(esp, "BOOT/BOOTX64.EFI") == SHIM
    assert content(esp, "BOOT/grubx64.efi") == GRUB
    assert content(esp, "BOOT/mmx64.efi") == MANAGER
    assert disk.read_bytes() == before
    record = json.loads((tmp_path / "s.raw.seal.json").read_text())
    assert record["predicate"]["planted"] == ["fallback-loader"]
    assert zeroseal("check", sealed, "--deep").status == 0
    root = tmp_path / "root.img"
    root.write_bytes(sealed.read_bytes()[17 * MIB : 25 * MIB])
    judge_ext(root)


@pytest.mark.parametrize(
    ("files", "copies"),
    [
        ({"fedora/shim.efi": SHIM, "fedora/grub.efi": GRUB},
         {"BOOTX64.EFI": SHIM, "grub.efi": GRUB}),
        ({"systemd/systemd-bootx64.efi": SHIM, "Linux/tide.efi": GRUB}, {"BOOTX64.EFI": SHIM}),
        ({"debian/grubx64.efi": GRUB}, {"BOOTX64.EFI": GRUB}),
        ({"debian/shimaa64.efi": SHIM, "debian/grubaa64.efi": GRUB},
         {"BOOTAA64.EFI": SHIM, "grubaa64.efi": GRUB}),
        ({"debian/grubx64.efi": GRUB, "tide/grubx64.efi": SHIM}, {}),  # which one is started?
        ({"tide/odd.efi": GRUB}, {}),
    ],
)  # fmt: skip
def test_each_layout_that_is_known_is_copied_and_no_other(
    tmp_path: Path, zeroseal: Command, files: dict[str, bytes], copies: dict[str, bytes]
) -> None:
    disk, sealed = make_uefi_disk(tmp_path, files), tmp_path / "s.raw"
    answer = zeroseal("seal", disk, "-o", sealed, *SEAL, "--plant-fallback-loader")
    if not copies:
        assert (answer.status, sealed.exists()) == (4, False)
        assert "does not know which file in /boot/efi/EFI starts this guest" in answer.err
        return
    assert answer.status == 0, answer.err
    esp = esp_of(sealed, tmp_path)
    assert {name: content(esp, f"BOOT/{name}") for name in copies} == copies


def test_a_disk_that_any_firmware_starts_is_left_as_it_is(
    tmp_path: Path, zeroseal: Command
) -> None:
    disk = make_uefi_disk(tmp_path, DEBIAN | {"BOOT/bootx64.efi": GRUB})
    plain = zeroseal("seal", disk, "-o", tmp_path / "s.raw", *SEAL, "--plant-fallback-loader")
    assert plain.status == 0, plain.err
    assert content(esp_of(tmp_path / "s.raw", tmp_path), "BOOT/bootx64.efi") == GRUB


def test_a_disk_that_bios_starts_needs_no_loader_unless_its_machine_has_uefi(
    tmp_path: Path, zeroseal: Command
) -> None:
    more = {"/boot/grub/i386-pc/normal.mod": "x"}
    disk = make_uefi_disk(tmp_path, DEBIAN, **more)
    survey = zeroseal("survey", disk, "--as-if", *SEAL)
    assert survey.status == 0, survey.out
    assert "machines with UEFI do not start from this disk, those with BIOS do" in " ".join(
        survey.out.split()
    )
    machine = MachineDefinition("pier", "4f0c9e1a-7c1d-4c55-9a52-9d0d3b1a7e10", "d.raw")
    (tmp_path / "pier.toml").write_text(build_definition(machine))
    words = ("--machine", tmp_path / "pier.toml")
    refused = zeroseal("seal", disk, "-o", tmp_path / "s.raw", *SEAL, *words)
    assert (refused.status, "Clones with UEFI do not start" in refused.err) == (4, True)


def test_a_partition_without_room_for_the_copies_leaves_nothing(
    tmp_path: Path, zeroseal: Command
) -> None:
    full = DEBIAN | {"debian/filling.bin": bytes(13 << 20)}
    disk, sealed = make_uefi_disk(tmp_path, full), tmp_path / "s.raw"
    answer = zeroseal("seal", disk, "-o", sealed, *SEAL, "--plant-fallback-loader")
    assert answer.status != 0 and not sealed.exists()
    assert answer.err == (
        "zeroseal: partition 1 (FAT) is full: free 1.7 MiB in /boot/efi for a copy of its loader\n"
    )


def test_a_partition_that_cannot_be_read_stops_the_seal_of_a_machine_with_uefi(
    tmp_path: Path, zeroseal: Command
) -> None:
    disk = make_uefi_disk(tmp_path, DEBIAN)
    with disk.open("r+b") as file:
        file.seek(MIB + 37)
        file.write(b"\1")  # not unmounted cleanly
    machine = MachineDefinition("pier", "4f0c9e1a-7c1d-4c55-9a52-9d0d3b1a7e10", "d.raw")
    (tmp_path / "pier.toml").write_text(build_definition(machine))
    for words in (("--machine", tmp_path / "pier.toml"), ("--plant-fallback-loader",)):
        refused = zeroseal("seal", disk, "-o", tmp_path / "s.raw", *SEAL, *words)
        assert refused.status == 4
        assert "/boot/efi (partition 1 (FAT) was not unmounted cleanly" in refused.err
        assert "nobody can tell whether clones with UEFI find a boot loader" in refused.err
    assert zeroseal("seal", disk, "-o", tmp_path / "s.raw", *SEAL).status == 0
