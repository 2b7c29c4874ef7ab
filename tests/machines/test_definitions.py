"""Machine definitions: our file, libvirt's domain XML, OVF; and media that other programs read."""

from __future__ import annotations

import contextlib
import os
from dataclasses import replace
from pathlib import Path

import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import Command
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
from zeroseal.machines.yard import Yard

UUID = "4f0c9e1a-7c1d-4c55-9a52-9d0d3b1a7e10"
DEVICES = ("sound", "watchdog", "tablet", "floppy", "usb")
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
    tpm=st.booleans(),
    serial=st.sampled_from(["", "SF-0041"]),
    generation_id=st.sampled_from(["", "9d0d3b1a-7c1d-4c55-9a52-4f0c9e1a7e10"]),
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


def test_a_machine_with_secure_boot_survives_domain_xml(tmp_path: Path) -> None:
    machine = MachineDefinition("north", UUID, "/srv/north.qcow2", secure_boot=True, tpm=True)
    (tmp_path / "m.xml").write_text(build_domain(machine, machine.disk, "qcow2"))
    assert read_definition_file(tmp_path / "m.xml") == replace(machine, agent=True)
    need("xmllint")
    run("xmllint", "--noout", "--relaxng", SCHEMA, tmp_path / "m.xml")


def test_what_we_have_no_word_for_is_kept_and_written_again(tmp_path: Path) -> None:
    plain = build_domain(MachineDefinition("north", UUID, "/srv/north.qcow2"), "/d", "qcow2")
    others = "<memoryBacking><hugepages /></memoryBacking><cputune><shares>9</shares></cputune>"
    device = '<hostdev mode="subsystem" type="pci"><source><address domain="0" bus="1" slot="2" '
    device += 'function="0" /></source></hostdev>'
    hyper = '<features><acpi /><hyperv><relaxed state="on" /></hyperv></features>'
    text = plain.replace("</vcpu>", f"</vcpu>{others}").replace("</devices>", f"{device}</devices>")
    start, end = text.index("<features>"), text.index("</features>") + len("</features>")
    (tmp_path / "m.xml").write_text(text[:start] + hyper + text[end:])
    machine = read_definition_file(tmp_path / "m.xml")
    assert machine.unknown == ("hostdev",)
    (tmp_path / "m.toml").write_text(build_definition(machine))
    assert read_definition_file(tmp_path / "m.toml") == machine
    again = build_domain(machine, "/d", "qcow2")
    squeezed = "".join(line.strip() for line in again.splitlines())
    assert all(part in squeezed for part in (others, device, '<hyperv><relaxed state="on" />'))
    (tmp_path / "again.xml").write_text(again)
    run("xmllint", "--noout", "--relaxng", SCHEMA, tmp_path / "again.xml")


def test_a_tpm_among_the_devices_of_an_older_file_is_read(tmp_path: Path) -> None:
    (tmp_path / "m.toml").write_text(
        f"version = 2\nname = 'a'\nuuid = '{UUID}'\ndisk = 'd'\ndevices = ['sound', 'tpm']\n"
    )
    machine = read_definition_file(tmp_path / "m.toml")
    assert (machine.tpm, machine.devices) == (True, ("sound",))


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


OVF_2 = """<?xml version="1.0"?>
<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/2" xmlns:o="http://schemas.dmtf.org/ovf/envelope/2"
 xmlns:e="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_EthernetPortAllocationSettingData.xsd"
 xmlns:s="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_StorageAllocationSettingData.xsd"
 xmlns:r="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData">
<References><File o:id="f1" o:href="root.vmdk"/><File o:id="f2" o:href="tides.vmdk"/></References>
<DiskSection><Disk o:diskId="second" o:fileRef="f2"/><Disk o:diskId="first" o:fileRef="f1"/></DiskSection>
<VirtualSystem o:id="pier"><Name>pier</Name><VirtualHardwareSection>
<Item><r:InstanceID>1</r:InstanceID><r:ResourceType>3</r:ResourceType><r:VirtualQuantity>4</r:VirtualQuantity></Item>
<Item><r:AllocationUnits>byte * 2^30</r:AllocationUnits><r:InstanceID>2</r:InstanceID>
<r:ResourceType>4</r:ResourceType><r:VirtualQuantity>2</r:VirtualQuantity></Item>
<Item><r:InstanceID>3</r:InstanceID><r:ResourceSubType>VirtIO</r:ResourceSubType><r:ResourceType>6</r:ResourceType></Item>
<StorageItem><s:HostResource>ovf:/disk/first</s:HostResource><s:InstanceID>4</s:InstanceID>
<s:Parent>3</s:Parent><s:ResourceType>17</s:ResourceType></StorageItem>
<StorageItem><s:HostResource>ovf:/disk/second</s:HostResource><s:InstanceID>5</s:InstanceID>
<s:Parent>3</s:Parent><s:ResourceType>17</s:ResourceType></StorageItem>
<EthernetPortItem><e:Address>02:5A:17:00:00:01</e:Address><e:Connection>piers</e:Connection>
<e:InstanceID>6</e:InstanceID><e:ResourceType>10</e:ResourceType></EthernetPortItem>
<EthernetPortItem><e:Connection>quays</e:Connection><e:InstanceID>7</e:InstanceID>
<e:ResourceSubType>vmxnet3</e:ResourceSubType><e:ResourceType>10</e:ResourceType></EthernetPortItem>
</VirtualHardwareSection></VirtualSystem></Envelope>
"""  # noqa: E501


def test_an_ovf_of_version_2_gives_its_disks_and_cards(tmp_path: Path) -> None:
    (tmp_path / "pier.ovf").write_text(OVF_2)
    machine = read_definition_file(tmp_path / "pier.ovf")
    assert (machine.disk, machine.more_disks) == ("root.vmdk", ("tides.vmdk",))
    assert (machine.disk_bus, machine.cpus, machine.memory_mib) == ("virtio", 4, 2048)
    assert [(card.mac, card.network, card.model) for card in machine.adapters] == [
        ("02:5a:17:00:00:01", "piers", "virtio"), ("", "quays", "vmxnet3"),
    ]  # fmt: skip


def test_a_machine_with_several_disks_and_cards_goes_to_ovf_and_comes_back(
    tmp_path: Path, yard: Yard, demo_disk: Path, zeroseal: Command
) -> None:
    for name in ("a", "b", "c"):
        (tmp_path / f"{name}.qcow2").write_bytes(demo_disk.read_bytes())
    cards = (NetworkCard("02:5a:17:00:00:41", "e1000", "piers"), NetworkCard("02:5a:17:00:00:42"))
    machine = MachineDefinition(
        "pier", UUID, "a.qcow2", adapters=cards, more_disks=("b.qcow2", "c.qcow2"), cpus=3,
        disk_bus="scsi", generation_id=UUID, serial="SF-1",
    )  # fmt: skip
    (tmp_path / "pier.toml").write_text(build_definition(machine))
    words = ("--yard", yard.folder)
    taken = zeroseal(
        "yard", "adopt", tmp_path / "a.qcow2", "--machine", tmp_path / "pier.toml", *words
    )
    assert taken.status == 0, taken.err
    mine = yard.get("pier")
    assert mine.definition.more_disks == ("disk2.qcow2", "disk3.qcow2")
    assert (mine.folder / "disk3.qcow2").read_bytes() == demo_disk.read_bytes()
    assert mine.definition.generation_id not in ("", UUID)  # a copy is another generation
    text = zeroseal("yard", "describe", "pier", "--as", "ovf", *words).out
    (mine.folder / "pier.ovf").write_text(text)
    again = read_definition_file(mine.folder / "pier.ovf")
    assert (again.disk, again.more_disks) == ("disk.qcow2", ("disk2.qcow2", "disk3.qcow2"))
    assert [card.mac for card in again.adapters] == [card.mac for card in cards]
    assert (again.disk_bus, again.cpus, again.uuid) == ("scsi", 3, UUID)
    (tmp_path / "c.qcow2").unlink()
    refused = zeroseal("yard", "adopt", tmp_path / "a.qcow2", "--machine", tmp_path / "pier.toml",
                       "--name", "other", *words)  # fmt: skip
    assert (refused.status, "c.qcow2, that was not found" in refused.err) == (3, True), refused.err
    assert not (yard.folder / "other").exists()


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
