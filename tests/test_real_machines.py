"""Machines on real QEMU, from the build sheet in ``examples/``: built, sealed, tried, renewed.

The base disk is a real Debian 12. Whatever the tool says of a disk is judged by e2fsck, debugfs and
a search that shares no code with it. Without KVM a boot takes a minute and more: the trial of a
sealed disk, two of them, always runs; building, renewing and cloning with ``ZEROSEAL_LONG=1``.
"""

from __future__ import annotations

import hashlib
import json
import shutil
from pathlib import Path

import pytest

from tests.conftest import Command
from tests.long import only_long
from tests.oracles import (
    cut_partition,
    find_texts,
    judge_ext,
    judge_qcow2,
    need,
    partition_range,
    run,
    to_raw,
)
from zeroseal.machines.hosts.choose import choose_host
from zeroseal.machines.yard import Yard
from zeroseal.progress import quiet

pytestmark = [pytest.mark.real_guest, pytest.mark.qemu]

EXAMPLES = Path(__file__).parent.parent / "examples"
NAME = "pier-server"
DOMAIN = """\
<domain type='kvm'><name>old-pier</name><uuid>4f0c9e1a-7c1d-4c55-9a52-9d0d3b1a7e10</uuid>
<memory unit='GiB'>2</memory><vcpu>2</vcpu><os><type>hvm</type><boot dev='cdrom'/></os>
<devices><disk type='file' device='disk'><source file='/srv/old.qcow2'/>
<target dev='vda' bus='virtio'/></disk>
<disk type='file' device='cdrom'><source file='/srv/install.iso'/><target dev='sda'/></disk>
<interface type='network'><mac address='02:5A:17:00:00:77'/><source network='piers'/></interface>
<sound model='ich9'/><hostdev mode='subsystem'/></devices></domain>
"""


def sha256(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


class Root:
    """The root volume of a disk, cut out and read with debugfs."""

    def __init__(self, disk: Path, folder: Path) -> None:
        self.raw = to_raw(disk, folder / "disk.raw")
        self.volume = cut_partition(self.raw, 3, folder / "root.ext4")
        judge_ext(self.volume)

    def cat(self, path: str) -> str:
        return run("debugfs", "-R", f"cat {path}", self.volume).strip()

    def remove(self) -> None:
        self.raw.unlink()
        self.volume.unlink()


@pytest.fixture(scope="module")
def pier(debian: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    need("qemu-system-x86_64")
    folder = tmp_path_factory.mktemp("pier") / "sheets"
    shutil.copytree(EXAMPLES, folder)
    (folder / "debian-12.qcow2").symlink_to(debian)
    (folder / "SHA256SUMS").write_text(f"{sha256(debian)}  debian-12.qcow2\n")
    return folder


@only_long
def test_a_machine_is_built_sealed_and_renewed_on_qemu(
    pier: Path, tmp_path: Path, zeroseal: Command
) -> None:
    yard, shelf = tmp_path / "yard", tmp_path / "shelf"
    sheet, disk = pier / f"{NAME}.toml", yard / NAME / "disk.qcow2"
    built = zeroseal("build", sheet, "--yard", yard, "--json")
    assert built.status == 0, built.err
    answer = json.loads(built.out)["builds"][0]
    assert {key: answer["tasks"][2][key] for key in ("name", "runs")} == {
        "name": "patches",
        "runs": 3,
    }
    assert not answer["simulated"]
    judge_qcow2(disk)
    root = Root(disk, tmp_path)
    assert root.cat("/etc/hostname") == NAME
    assert root.cat("/srv/tides/tides.csv") == (pier / "files/tides.csv").read_text().strip()
    machine_id = root.cat("/etc/machine-id")
    keys = root.cat("/home/shipwright/.ssh/authorized_keys").split()[1]
    host_key = root.cat("/etc/ssh/ssh_host_ed25519_key").splitlines()[2]
    root.remove()
    assert not (yard / NAME / "seed.iso").exists()
    again = zeroseal("build", sheet, "--yard", yard)
    assert again.out.startswith("Up to date")

    sealed = tmp_path / "sealed.qcow2"
    refused = zeroseal("seal", disk, "-o", sealed, "--retain-account", "shipwright")
    assert (refused.status, "a seal always removes" in refused.err) == (2, True)
    assert zeroseal("seal", disk, "-o", sealed, "--quiet").status == 0
    raw = to_raw(sealed, tmp_path / "s.raw")
    values = [machine_id, keys, host_key, "shipwright", NAME]
    assert find_texts(raw, [value.encode() for value in values]) == set()
    raw.unlink()

    sealed.unlink()

    renewed = zeroseal(
        "renew", NAME, "--yard", yard, "--shelf", shelf, "--version", "1", "--template", "pier",
        "--set", "on_copy=[]",  # it would be one more boot; test_yard_life.py has it
    )  # fmt: skip
    assert renewed.status == 0, renewed.err
    template = shelf / "pier/1/disk.qcow2"
    assert zeroseal("check", template).out.startswith("SEALED")
    for path, length in ((template, 0), (disk, 32)):
        root = Root(path, tmp_path)
        assert len(root.cat("/etc/machine-id")) == length
        root.remove()
    assert "renewed-1" in zeroseal("yard", "show", NAME, "--yard", yard).out
    assert sorted(path.name for path in yard.iterdir()) == [NAME]
    processes = run("ps", "-A", "-o", "args")
    assert str(yard) not in processes
    assert "zeroseal-pier" not in processes


def test_a_machine_is_adopted_from_a_bare_disk_and_a_domain(
    debian: Path, tmp_path: Path, zeroseal: Command
) -> None:
    (tmp_path / "old.xml").write_text(DOMAIN)
    words = ("--machine", tmp_path / "old.xml", "--yard", tmp_path / "yard", "--json")
    adopted = zeroseal("yard", "adopt", debian, *words)
    assert adopted.status == 0, adopted.err
    definition = json.loads(adopted.out)["definition"]
    assert (definition["name"], definition["memoryMib"]) == ("old-pier", 2048)
    shown = zeroseal("yard", "show", "old-pier", "--yard", tmp_path / "yard").out
    words_of = " ".join(shown.split())
    for sentence in (
        "A drive holds",
        "It boots from medium first",
        "devices that a server does not need: sound",
        "also has elements that are not supported here: hostdev",
        "02:5a:17:00:00:77, rtl8139 on piers",
    ):
        assert sentence in words_of
    surveyed = zeroseal("survey", tmp_path / "yard/old-pier/disk.qcow2")
    assert (surveyed.status, "A drive" in surveyed.out) == (1, True)


def test_a_machine_installed_by_hand_comes_up_with_the_planted_script_alone(
    debian: Path, tmp_path: Path, zeroseal: Command
) -> None:
    need("qemu-system-x86_64")
    raw = to_raw(debian, tmp_path / "hand.raw")
    (tmp_path / "empty").write_text("")
    words = f"write {tmp_path / 'empty'} /etc/cloud/cloud-init.disabled"
    run("debugfs", "-w", "-R", words, f"{raw}?offset={partition_range(raw, 3)[0]}")
    refused = zeroseal("seal", raw, "-o", tmp_path / "x")
    assert (refused.status, refused.err.count("use --plant-first-boot")) == (4, 3)
    sealed = tmp_path / "sealed.qcow2"
    like = ("--format", "qcow2", "--plant-first-boot", "--new-volume-ids")
    done = zeroseal("seal", raw, "-o", sealed, *like)
    assert done.status == 0, done.err
    raw.unlink()
    before = sha256(sealed)
    tried = zeroseal("trial", sealed, "--json")
    assert tried.status == 0, tried.out + tried.err
    trial = json.loads(tried.out)
    assert {item["kind"]: item["good"] for item in trial["regrowth"]} == {
        "machine ID": True, "SSH host key": True, "random seed": True, "host name": True,
    }  # fmt: skip
    assert sha256(sealed) == before
    for machine in trial["machines"]:
        assert "a login over SSH worked" in machine["messages"]
        assert machine["failed"] == []


@only_long
def test_two_clones_of_a_template_come_up_as_their_sheet_asks(
    debian: Path, tmp_path: Path, zeroseal: Command
) -> None:
    """A full one that is told by a seed, and a linked one that is told in its disk."""
    need("qemu-system-x86_64")
    sealed, sheet, yard = tmp_path / "sealed.qcow2", tmp_path / "piers.toml", tmp_path / "yard"
    at = ("--shelf", tmp_path / "shelf")
    assert zeroseal("seal", debian, "-o", sealed, "--quiet").status == 0
    added = zeroseal("shelf", "add", sealed, "--name", "pier", "--version", "1", "--move", *at)
    assert added.status == 0, added.err
    key = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIGFkYWFkYWFkYWFkYWFkYWFkYWFkYWFkYWFkYWFkYWFk ops"
    sheet.write_text(
        'version = 1\ntemplate = "pier@1"\n[every]\ndomain = "saltmarsh.example"\n'
        'memory_mib = 768\ngateways = ["10.0.2.2"]\n[[every.users]]\nname = "deckhand"\n'
        f'public_keys = ["{key}"]\n'
        '[[clone]]\nname = "north"\naddresses = ["10.0.2.50/24"]\ndisk_size = "6G"\n'
        '[[clone]]\nname = "south"\nhost_name = "books"\naddresses = ["10.0.2.51/24"]\n'
        'disk_size = "5G"\nlinked = true\ninto_disk = true\n'
    )
    words = ("--to", yard, "--host", "qemu", "--grow-last", *at)
    made = zeroseal("clone", "--sheet", sheet, *words)
    assert made.status == 0, made.err
    machines = Yard(yard)
    host = choose_host("qemu", machines, 0)
    for name in ("north", "south"):
        judge_qcow2(machines.get(name).disk)
        assert zeroseal("yard", "start", name, "--yard", yard).status == 0
    for name in ("north", "south"):
        host.wait_until_settled(machines.get(name), 900, quiet)
    for name in ("north", "south"):
        assert zeroseal("yard", "stop", name, "--yard", yard).status == 0
    for name in ("north", "south"):
        answer = zeroseal("check", machines.get(name).disk, "--as", sheet)
        assert answer.out.startswith(f"AS ASKED  {name}"), answer.out + answer.err
    disks = [machines.get(name).disk for name in ("north", "south")]
    compared = zeroseal("compare", *disks)
    assert (compared.status, compared.out[:6]) == (0, "UNIQUE"), compared.out
    for name, host_name in (("north", "north"), ("south", "books")):
        root = Root(machines.get(name).disk, tmp_path)
        assert root.cat("/etc/hostname") == host_name
        assert key.split()[1] in root.cat("/home/deckhand/.ssh/authorized_keys")
        assert len(root.cat("/etc/machine-id")) == 32
        assert root.cat("/etc/ssh/ssh_host_ed25519_key.pub").startswith("ssh-ed25519 ")
        root.remove()
    assert zeroseal("shelf", "verify", *at).status == 0
