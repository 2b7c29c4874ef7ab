"""Machine definitions: our file, libvirt's domain XML, OVF; and media that other programs read."""

from __future__ import annotations

import contextlib
import os
from pathlib import Path

import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.oracles import need, run
from zeroseal.errors import DamagedError, MissingError, ZeroSealError
from zeroseal.guests.linux.network_files import FixedAddresses
from zeroseal.images.create import ContainerSpec
from zeroseal.machines.definition import (
    AttachedMedium,
    MachineDefinition,
    NetworkCard,
    build_definition,
)
from zeroseal.machines.definition_files import read_definition_file
from zeroseal.machines.domain_xml import build_domain
from zeroseal.machines.media import read_medium, write_medium, write_seed_medium
from zeroseal.machines.seed import Seed, SeedAccount

UUID = "4f0c9e1a-7c1d-4c55-9a52-9d0d3b1a7e10"
DEVICES = ("sound", "tpm", "watchdog", "tablet", "floppy", "usb")
SCHEMA = Path("/usr/share/libvirt/schemas/domain.rng")  # package libvirt0
names = st.from_regex(r"[a-z][a-z0-9-]{0,20}", fullmatch=True)
texts = st.text(st.characters(categories=["L", "N", "P", "S", "Zs"]), max_size=20).map(str.strip)
definitions = st.builds(
    MachineDefinition,
    name=names,
    uuid=st.just(UUID),
    disk=names.map(lambda name: f"/srv/{name}.qcow2"),
    adapters=st.lists(
        st.builds(
            NetworkCard,
            mac=st.integers(0, (1 << 40) - 1).map(
                lambda n: "02:" + ":".join(f"{byte:02x}" for byte in n.to_bytes(5, "big"))
            ),
            model=st.sampled_from(["virtio", "e1000", "rtl8139"]),
            network=st.sampled_from(["user", "piers"]),
            vlan=st.integers(0, 4094),
            connected=st.booleans(),
        ),
        max_size=3,
    ).map(tuple),
    media=st.lists(
        st.builds(AttachedMedium, names.map(lambda name: f"/srv/{name}.iso"), st.just("install")),
        max_size=2,
    ).map(tuple),
    disk_bus=st.sampled_from(["virtio", "sata", "scsi"]),
    cpus=st.integers(1, 64),
    memory_mib=st.integers(64, 1 << 20),
    firmware=st.sampled_from(["bios", "uefi"]),
    boot_order=st.permutations(["disk", "medium", "network"]).map(lambda found: tuple(found[:2])),
    serial_console=st.booleans(),
    devices=st.sets(st.sampled_from(DEVICES)).map(
        lambda found: tuple(name for name in DEVICES if name in found)
    ),
    agent=st.booleans(),
    restart=st.sampled_from(["never", "after-shutdown"]),
    notes=texts,
)  # fmt: skip


@settings(max_examples=15)
@given(definitions)
def test_a_definition_survives_our_file_and_domain_xml(
    tmp_path_factory: pytest.TempPathFactory, machine: MachineDefinition
) -> None:
    folder = tmp_path_factory.mktemp("d")
    (folder / "m.toml").write_text(build_definition(machine))
    assert read_definition_file(folder / "m.toml") == machine
    (folder / "m.xml").write_text(build_domain(machine, machine.disk, "qcow2"))
    parsed = read_definition_file(folder / "m.xml")
    # a domain names no host of ours
    assert parsed == machine
    if SCHEMA.is_file() or os.environ.get("CI"):
        run("xmllint", "--noout", "--relaxng", SCHEMA, folder / "m.xml")


def test_a_seed_medium_is_a_disk_that_may_only_be_read(tmp_path: Path) -> None:
    machine = MachineDefinition(
        "north", UUID, "/srv/north.qcow2", media=(AttachedMedium("/srv/seed.iso", "seed"),)
    )
    (tmp_path / "m.xml").write_text(build_domain(machine, machine.disk, "qcow2"))
    assert read_definition_file(tmp_path / "m.xml").media == machine.media
    need("xmllint")
    run("xmllint", "--noout", "--relaxng", SCHEMA, tmp_path / "m.xml")


def test_an_ovf_that_we_wrote_describes_its_machine(tmp_path: Path, demo_disk: Path) -> None:
    from zeroseal.images.ova.descriptor import Appliance
    from zeroseal.sealing.export import ExportRequest, export_image

    appliance = Appliance("pier", cpus=3, memory_bytes=768 << 20, uefi=True)
    spec = ContainerSpec("ova", appliance=appliance)
    export_image(demo_disk, ExportRequest(tmp_path / "pier.ova", spec))
    run("tar", "-C", tmp_path, "-xf", tmp_path / "pier.ova", "pier.ovf")
    machine = read_definition_file(tmp_path / "pier.ovf")
    assert (machine.name, machine.cpus, machine.memory_mib) == ("pier", 3, 768)
    assert (machine.firmware, len(machine.adapters)) == ("uefi", 1)


@pytest.mark.parametrize(
    "text",
    [
        "", "<", "<domain/>", "<a/>", "<domain><name>a</name><devices/></domain>",
        "<!DOCTYPE a [<!ENTITY b 'c'>]><domain/>", "version = 3", "version = 2\nname = 'a'",
        "<domain><name>a</name><memory unit='parsec'>1</memory><devices><disk>"
        "<source file='a'/></disk></devices></domain>",
    ],
)  # fmt: skip
def test_what_is_no_definition_is_told_by_its_file(tmp_path: Path, text: str) -> None:
    (tmp_path / "m.xml").write_text(text)
    with pytest.raises(DamagedError, match=r"m\.xml"):
        read_definition_file(tmp_path / "m.xml")
    with pytest.raises(MissingError, match="was not found"):
        read_definition_file(tmp_path / "none.xml")


@given(st.binary(max_size=200))
def test_no_bytes_make_a_definition_fail_otherwise(
    tmp_path_factory: pytest.TempPathFactory, raw: bytes
) -> None:
    path = tmp_path_factory.mktemp("d") / "m"
    for content in (raw, b"<domain>" + raw + b"</domain>", b"version = 2\n" + raw):
        path.write_bytes(content)
        with contextlib.suppress(ZeroSealError):
            read_definition_file(path)


def whole_seed() -> Seed:
    network = FixedAddresses(
        "02:5a:17:00:00:01", ("192.0.2.10/24", "2001:db8::10/64"), ("192.0.2.1", "2001:db8::1"),
        ("192.0.2.53",), ("saltmarsh.example",),
    )  # fmt: skip
    account = SeedAccount("ops", "Ops", ("ssh-ed25519 AAAA ops",), "$6$salt$hash", admin=True)
    return Seed(
        "i-1", "north", "saltmarsh.example", (account,), "$6$salt$root", network, ("nano",),
        "Europe/London", "C.UTF-8", ("systemctl enable tide", "echo done"),
    )  # fmt: skip


def test_cloud_inits_own_checker_accepts_our_seeds(tmp_path: Path) -> None:
    need("cloud-init")
    for number, seed in enumerate([Seed("i", "h"), whole_seed()]):
        path = tmp_path / f"user-data{number}"
        path.write_text(seed.texts()["user-data"])
        told = run("cloud-init", "schema", "--config-file", path)
        assert "Valid" in told
    network = yaml.safe_load(whole_seed().texts()["network-config"])
    card = network["ethernets"]["primary"]
    assert network["version"] == 2
    assert card["routes"] == [
        {"to": "0.0.0.0/0", "via": "192.0.2.1"}, {"to": "::/0", "via": "2001:db8::1"},
    ]  # fmt: skip


def test_media_are_read_by_others_as_they_were_meant(tmp_path: Path) -> None:
    need("isoinfo")
    write_seed_medium(tmp_path / "seed.iso", whole_seed())
    assert (tmp_path / "seed.iso").stat().st_mode & 0o077 == 0
    for name in ("user-data", "meta-data", "network-config"):
        for kind in ("-R", "-J"):
            read = run("isoinfo", kind, "-x", f"/{name}", "-i", tmp_path / "seed.iso")
            assert read == whole_seed().texts()[name]
    files = {"Autounattend.xml": b"<a/>\r\n", "empty": b"", "big.bin": bytes(range(256)) * 9000}
    write_medium(tmp_path / "answers.iso", "ANSWERS", files)
    assert read_medium(tmp_path / "answers.iso") == files
    assert "Volume id: ANSWERS" in run("isoinfo", "-d", "-i", tmp_path / "answers.iso")
    (tmp_path / "no.iso").write_bytes(b"no medium" * 9999)
    with pytest.raises(DamagedError, match="is not a readable medium"):
        read_medium(tmp_path / "no.iso")
