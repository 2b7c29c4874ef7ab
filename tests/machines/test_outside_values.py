"""What identifies a machine outside of its disk: surveyed, and compared between machines."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

from tests.conftest import Command
from tests.disks import BARE_GUEST, SEEDING, make_guest_volume
from zeroseal.machines.definition import (
    SEED_MEDIUM,
    AttachedMedium,
    MachineDefinition,
    NetworkCard,
    write_definition,
)

UUID = "9a1d2c3b-0000-4000-8000-00000000a001"


def machine(folder: Path, uuid: str, mac: str, seed: bytes) -> Path:
    """A machine file beside a disk without identity of its own."""
    folder.mkdir()
    tree = BARE_GUEST | SEEDING | {
        "/etc/machine-id": "", "/etc/hostname": f"{folder.name}-host\n",
        "/etc/ssh/ssh_host_ed25519_key.pub": f"ssh-ed25519 AAA{folder.name} root@x\n",
    }  # fmt: skip
    made = make_guest_volume(folder, tree)
    disk = folder / "disk.raw"
    made.rename(disk)
    (folder / "seed.iso").write_bytes(seed)
    media = (AttachedMedium("seed.iso", SEED_MEDIUM),)
    card = NetworkCard(mac)
    definition = MachineDefinition(folder.name, uuid, disk.name, (card,), media)
    write_definition(folder, definition)
    return disk


def test_a_copied_machine_shares_what_its_host_knows(tmp_path: Path, zeroseal: Command) -> None:
    one = machine(tmp_path / "one", UUID, "02:5a:17:00:00:01", b"seed one")
    two = machine(tmp_path / "two", UUID.upper(), "02:5A:17:00:00:01", b"seed one")
    three = machine(tmp_path / "three", UUID[:-1] + "2", "02:5a:17:00:00:02", b"seed three")
    told = json.loads(zeroseal("compare", one, two, "--json").out)
    kinds = {item["kind"] for item in told["shared"] if not item["byDesign"]}
    assert kinds == {"SMBIOS UUID", "MAC", "seed medium"}
    apart = json.loads(zeroseal("compare", one, three, "--json").out)
    assert apart["unique"]
    moved = tmp_path / "moved"
    moved.mkdir()
    shutil.copyfile(two, moved / "disk.raw")  # a disk alone says nothing of its machine
    alone = json.loads(zeroseal("compare", one, moved / "disk.raw", "--json").out)
    assert alone["unique"]


def test_a_survey_with_the_machine_lists_it(tmp_path: Path, zeroseal: Command) -> None:
    disk = machine(tmp_path / "one", UUID, "02:5a:17:00:00:01", b"seed one")
    shown = zeroseal("survey", disk).out
    assert "Identity outside the disk" in shown
    assert UUID in shown
    told = json.loads(zeroseal("survey", disk, "--json").out)["outside"]
    assert [item["kind"] for item in told] == ["SMBIOS UUID", "MAC", "seed medium"]
